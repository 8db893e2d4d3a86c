import type { GuestLink } from '@tessarion/contract';
import { readEnvironmentPath } from '@tessarion/core';
import type { Command } from 'commander';
import { bold, dim, print, printJson, when } from '../output.js';
import { connect, wantsJson } from '../program.js';
import { readSecret } from '../settings.js';
import { examples, json, wholeNumber } from './options.js';

interface InviteOptions {
  readonly name: string;
  readonly look: string[];
  readonly mail?: string;
  readonly words?: string;
  readonly days: number;
  readonly passcode?: string;
  readonly passcodeFrom?: string;
}

/** Commands on guests: client contacts without an account, who look by a link. */
export function addGuests(program: Command): void {
  const guest = program.command('guest').description('people without an account, who look at things by a link');
  examples(
    json(
      guest
        .command('invite')
        .argument('<site>')
        .description('make a link to previews and variants; it is shown once')
        .requiredOption('--name <NAME>', 'who it is for')
        .requiredOption('--look <WHAT...>', 'a change request by its id, or a copy as SITE/NAME')
        .option('--mail <ADDRESS>', 'mails the link')
        .option('--words <TEXT>', 'what to say to them')
        .option('--days <N>', 'how long it holds', wholeNumber, 14)
        .option('--passcode <TEXT>', 'asked for beside the link')
        .option('--passcode-from <FILE>', 'a file that holds it and nothing else; - reads the standard input'),
    ),
    'tessarion guest invite threadmill --name "Vera Lund" --look q-8k2m4q9x1c',
    'tessarion guest invite threadmill --name "Vera Lund" --look threadmill/warm threadmill/cool --days 7',
  ).action(async (site: string, options: InviteOptions, command: Command) => {
    const { passcodeFrom } = options;
    const passcode = passcodeFrom === undefined ? options.passcode : await readSecret(passcodeFrom, '--passcode-from');
    const made = await (await connect(command)).call('guestInvite', {
      params: { site },
      body: {
        name: options.name,
        days: options.days,
        looks: options.look.map((one) => (readEnvironmentPath(one) ? { environment: one } : { request: one })),
        ...(options.mail === undefined ? {} : { mail: options.mail }),
        ...(options.words === undefined ? {} : { words: options.words }),
        ...(passcode === undefined ? {} : { passcode }),
      },
    });
    if (wantsJson(command)) return printJson(made);
    print(`${made.link.name} comes in by this link until ${when(made.link.expiresAt)}; it is shown once:`);
    print(bold(made.url));
    if (made.isMailed) print(dim(`It is mailed to ${options.mail} as well.`));
  });

  examples(
    json(
      guest
        .command('list')
        .argument('<site>')
        .description('list guests: what they look at, said and chose')
        .option('--request <ID>', 'only those who look at this change request'),
    ),
    'tessarion guest list threadmill',
    'tessarion guest list threadmill --request q-8k2m4q9x1c --json',
  ).action(async (site: string, options: { request?: string }, command: Command) => {
    const links = await (await connect(command)).call('guestList', {
      params: { site },
      query: options.request === undefined ? {} : { request: options.request },
    });
    if (wantsJson(command)) return printJson(links);
    if (links.length === 0) return print('No guests.');
    for (const [i, link] of links.entries()) {
      if (i > 0) print();
      printLink(link);
    }
  });

  examples(
    json(guest.command('end').argument('<id>').description('end a link at once; a yes by it counts no more')),
    'tessarion guest end g-8k2m4q9x1c',
    'tessarion guest end g-8k2m4q9x1c --json',
  ).action(async (id: string, _options: unknown, command: Command) => {
    const link = await (await connect(command)).call('guestEnd', { params: { id } });
    if (wantsJson(command)) printJson(link);
    else print(`The link of ${link.name} has ended.`);
  });

  examples(
    json(
      guest
        .command('answer')
        .argument('<id>')
        .argument('<text>')
        .description('answer what a guest said about a variant; about a change request: review comment --reply')
        .requiredOption('--thread <ID>'),
    ),
    'tessarion guest answer g-8k2m4q9x1c "We thought so too." --thread c-3f9d2a7k5m',
    'tessarion guest answer g-8k2m4q9x1c "Friday." --thread c-3f9d2a7k5m --json',
  ).action(async (id: string, text: string, options: { thread: string }, command: Command) => {
    const link = await (await connect(command)).call('guestAnswer', {
      params: { id },
      body: { thread: options.thread, text },
    });
    if (wantsJson(command)) printJson(link);
    else printLink(link);
  });
}

function printLink(link: GuestLink): void {
  const seen = link.lastSeenAt ? `last seen ${when(link.lastSeenAt)}` : 'not seen yet';
  const state = link.isOpen ? `until ${when(link.expiresAt)}` : link.endedAt ? 'ended' : 'its time is over';
  print(`${bold(link.name)}  ${link.id}  ${state}, ${seen}${link.hasPasscode ? ', with a passcode' : ''}`);
  for (const look of link.looks) {
    const yes = look.yes
      ? `  yes to revision ${look.yes.revision}${look.yes.isCurrent ? '' : ', which has changed'}`
      : '';
    print(
      `  ${look.title}  ${dim(look.request ?? look.environment ?? '')}${yes}${link.choice === look.position ? '  chosen' : ''}`,
    );
    for (const thread of link.threads.filter((one) => one.position === look.position)) {
      print(dim(`    ${thread.id}`));
      for (const one of thread.comments) print(`    ${one.by}: ${one.text}`);
    }
  }
}
