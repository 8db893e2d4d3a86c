import type { Client } from '@tessarion/client';
import type { ChangeRequest, RequestDetail, RequestItem } from '@tessarion/contract';
import { counted, REQUEST_STATES, readEnvironmentPath } from '@tessarion/core';
import { type Command, Option } from 'commander';
import { CliError } from '../errors.js';
import { arrow, bold, cut, dim, print, printJson, printTable, when } from '../output.js';
import { ask, awaitForecast, chooseEnds, connect, wantsJson } from '../program.js';
import { reportEnd, watchTransfer } from '../watch.js';
import { type Choice, choosing, wishesOf } from './choosing.js';
import { examples, json } from './options.js';

interface OpenOptions extends Choice {
  readonly from?: string;
  readonly onto?: string;
  readonly forecast?: string;
  readonly title: string;
  readonly describe?: string;
  readonly reviewer?: string[];
  readonly before?: string[];
  readonly after?: string[];
  readonly waitInLine?: boolean;
  readonly draft?: boolean;
}

const byId = (id: string) => ({ params: { id } });

/** Commands on change requests: asking, reviewing, delivering. */
export function addRequests(program: Command): void {
  const request = program.command('request').description('changes on their way, with reviewers and a state');
  examples(
    json(
      choosing(
        request
          .command('open')
          .description('ask for something to be delivered; its chosen items are claimed')
          .requiredOption('--title <TEXT>', 'what it is')
          .option('--from <SITE/NAME>')
          .option('--onto <SITE/NAME>')
          .option('--forecast <ID>', 'what a forecast showed, instead of the ends and a choice')
          .option('--describe <TEXT>', 'more about it, in Markdown')
          .option('--reviewer <WHO...>', 'mail address of a person, or team:NAME')
          .option('--before <STEP...>', 'a manual step before the delivery')
          .option('--after <STEP...>', 'a manual step after it')
          .option('--wait-in-line', 'wait for what others have claimed')
          .option('--draft', 'do not ask for review yet'),
      ),
    ),
    'tessarion request open --from threadmill/staging --title "Autumn, first part" --only product:* --reviewer team:shop',
    'tessarion request open --forecast f-8k2m4q9x1c --title "New menu" --draft',
  ).action(async (options: OpenOptions, command: Command) => {
    const client = await connect(command);
    const forecast = options.forecast ?? (await forecastFor(client, options));
    const steps = [
      ...(options.before ?? []).map((text) => ({ phase: 'before' as const, text })),
      ...(options.after ?? []).map((text) => ({ phase: 'after' as const, text })),
    ];
    const opened = await client.call('requestOpen', {
      body: {
        forecast,
        title: options.title,
        reviewers: await reviewersOf(client, options.reviewer ?? []),
        steps,
        ...(options.describe === undefined ? {} : { description: options.describe }),
        ...(options.waitInLine ? { waitInLine: true } : {}),
      },
    });
    const asked = options.draft ? opened : await client.call('requestAsk', byId(opened.id));
    if (wantsJson(command)) printJson(asked);
    else printRequest(asked);
  });

  examples(
    json(
      request
        .command('list')
        .description('list change requests, newest first')
        .option('--mine', 'only those that I opened')
        .option('--waiting', 'only those that wait for me')
        .option('--open', 'only those that are not done')
        .addOption(new Option('--state <STATE>').choices(REQUEST_STATES))
        .option('--site <NAME>')
        .option('--limit <N>', 'how many', '20')
        .option('--after <CURSOR>', 'go on where the last page ended'),
    ),
    'tessarion request list --waiting',
    'tessarion request list --site threadmill --state in-review --json',
  ).action(async (options: Record<string, string | boolean>, command: Command) => {
    const query = {
      limit: Number(options.limit),
      ...(options.mine ? { whose: 'mine' as const } : options.waiting ? { whose: 'waiting' as const } : {}),
      ...(options.open ? { open: 'yes' as const } : {}),
      ...(options.state ? { state: options.state as ChangeRequest['state'] } : {}),
      ...(options.site ? { site: String(options.site) } : {}),
      ...(options.after ? { cursor: String(options.after) } : {}),
    };
    const page = await (await connect(command)).call('requestList', { query });
    if (wantsJson(command)) return printJson(page);
    if (page.items.length === 0) return print('No change requests.');
    printTable(
      ['id', 'title', 'from, onto', 'state', 'by', 'items'],
      page.items.map((one) => [
        one.id,
        one.title,
        `${one.from} ${arrow} ${one.onto.split('/')[1]}`,
        one.waitsForMe ? `${one.state} *` : one.state,
        cut(one.author.name, 16),
        String(one.itemCount),
      ]),
      [5],
      1,
    );
    if (page.items.some((one) => one.waitsForMe)) print(dim('* waits for you'));
    if (page.next) print(dim(`More: --after "${page.next}"`));
  });

  const act = (
    name: string,
    description: string,
    shown: readonly [string, string],
    run: (client: Client, id: string, options: Record<string, string>) => Promise<RequestDetail>,
    more: (command: Command) => Command = (command) => command,
  ): void => {
    examples(json(more(request.command(name).argument('<id>').description(description))), ...shown).action(
      async (id: string, options: Record<string, string>, command: Command) => {
        const changed = await run(await connect(command), id, options);
        if (wantsJson(command)) printJson(changed);
        else printRequest(changed);
      },
    );
  };
  act(
    'show',
    'show a change request: items, reviewers, conversation, what may be done',
    ['tessarion request show q-8k2m4q9x1c', 'tessarion request show q-8k2m4q9x1c --json'],
    (client, id) => client.call('requestShow', byId(id)),
  );
  act(
    'ask',
    'ask for review',
    ['tessarion request ask q-8k2m4q9x1c', 'tessarion request ask q-8k2m4q9x1c --json'],
    (client, id) => client.call('requestAsk', byId(id)),
  );
  act(
    'revise',
    'look at both ends again, with another choice perhaps; what differs becomes the next revision',
    ['tessarion request revise q-8k2m4q9x1c', 'tessarion request revise q-8k2m4q9x1c --except page:7'],
    async (client, id, options) => {
      const choice = options as Choice;
      const isOther = ['only', 'except', 'take', 'keep', 'edit', 'rest'].some((name) => name in choice);
      const { revising } = await client.call('requestRevise', { ...byId(id), body: isOther ? wishesOf(choice) : {} });
      if (revising) await awaitForecast(client, await client.call('forecastShow', { params: { id: revising } }));
      return client.call('requestShow', byId(id));
    },
    choosing,
  );
  act(
    'withdraw',
    'give a request up; its items are free again',
    [
      'tessarion request withdraw q-8k2m4q9x1c --reason "Comes with the winter collection"',
      'tessarion request withdraw q-8k2m4q9x1c --reason "Asked for twice" --json',
    ],
    (client, id, { reason }) => client.call('requestWithdraw', { ...byId(id), body: { reason: reason as string } }),
    (command) => command.requiredOption('--reason <TEXT>'),
  );
  act(
    'unschedule',
    'take a scheduled delivery back; the approval stands',
    ['tessarion request unschedule q-8k2m4q9x1c', 'tessarion request unschedule q-8k2m4q9x1c --json'],
    (client, id) => client.call('requestUnschedule', byId(id)),
  );
  act(
    'tick',
    'note that a manual step is done',
    [
      'tessarion request tick q-8k2m4q9x1c --step u-3f9d2a7k5m',
      'tessarion request tick q-8k2m4q9x1c --step u-3f9d2a7k5m --undone',
    ],
    (client, id, { step, undone }) =>
      client.call('stepTick', { params: { id, step: step as string }, body: { done: !undone } }),
    (command) => command.requiredOption('--step <ID>').option('--undone', 'it is not done'),
  );

  addReview(program);
  addDeliver(program);
}

function addReview(program: Command): void {
  const review = program.command('review').description('say what you think of a change request');
  const verdict = (says: 'approve' | 'return', description: string, ...shown: string[]): void => {
    const command = review
      .command(says)
      .argument('<id>')
      .description(description)
      .option('--revision <N>', 'the revision that you looked at; the newest, when it is left out');
    if (says === 'return') command.requiredOption('--reason <TEXT>', 'what is to be mended');
    else command.option('--words <TEXT>', 'something to go with it');
    examples(json(command), ...shown).action(
      async (id: string, options: { revision?: string; reason?: string; words?: string }, run: Command) => {
        const client = await connect(run);
        const revision =
          options.revision === undefined
            ? (await client.call('requestShow', byId(id))).revision
            : Number(options.revision);
        const words = options.reason ?? options.words;
        const changed = await client.call('verdictGive', {
          ...byId(id),
          body: { says, revision, ...(words === undefined ? {} : { words }) },
        });
        if (wantsJson(run)) printJson(changed);
        else printRequest(changed);
      },
    );
  };
  verdict(
    'approve',
    'approve what the request would write, as you saw it',
    'tessarion review approve q-8k2m4q9x1c',
    'tessarion review approve q-8k2m4q9x1c --revision 2 --words "Well done"',
  );
  verdict(
    'return',
    'send it back, with a reason',
    'tessarion review return q-8k2m4q9x1c --reason "The price of the throw is wrong"',
    'tessarion review return q-8k2m4q9x1c --revision 2 --reason "Not before Friday"',
  );
  examples(
    json(
      review
        .command('comment')
        .argument('<id>')
        .argument('<text>', 'in Markdown; @MAIL calls somebody')
        .description('comment on a request, an item or a field of it, or reply in a thread')
        .option('--item <ID>')
        .option('--field <NAME>')
        .option('--reply <THREAD>'),
    ),
    'tessarion review comment q-8k2m4q9x1c "Is it russet, or rust?" --item product:1 --field title',
    'tessarion review comment q-8k2m4q9x1c "Rust it is." --reply c-3f9d2a7k5m',
  ).action(
    async (id: string, text: string, options: { item?: string; field?: string; reply?: string }, command: Command) => {
      const changed = await (await connect(command)).call('commentAdd', {
        ...byId(id),
        body: {
          text,
          ...(options.item === undefined ? {} : { item: options.item }),
          ...(options.field === undefined ? {} : { field: options.field }),
          ...(options.reply === undefined ? {} : { thread: options.reply }),
        },
      });
      if (wantsJson(command)) printJson(changed);
      else printThreads(changed);
    },
  );
  examples(
    json(
      review
        .command('resolve')
        .argument('<id>')
        .argument('<thread>')
        .description('resolve a thread')
        .option('--reopen', 'open it again'),
    ),
    'tessarion review resolve q-8k2m4q9x1c c-3f9d2a7k5m',
    'tessarion review resolve q-8k2m4q9x1c c-3f9d2a7k5m --reopen',
  ).action(async (id: string, comment: string, options: { reopen?: boolean }, command: Command) => {
    const changed = await (await connect(command)).call('threadResolve', {
      params: { id, comment },
      body: { resolved: !options.reopen },
    });
    if (wantsJson(command)) printJson(changed);
    else printThreads(changed);
  });
}

interface DeliverOptions {
  readonly when: string;
  readonly confirm?: string;
  readonly override?: string;
  readonly detach?: boolean;
}

function addDeliver(program: Command): void {
  examples(
    json(
      program
        .command('deliver')
        .argument('<request>')
        .description('deliver an approved change request: now, at a time, or in the next window')
        .option('--when <TIME>', 'now, window, or a time such as 2026-12-01T22:30:00Z', 'now')
        .option('--confirm <SITE/NAME>', 'names a live destination in full')
        .option('--override <REASON>', 'outside a window or in a freeze; marked for ever')
        .option('--detach', 'do not wait for its end'),
    ),
    'tessarion deliver q-8k2m4q9x1c --confirm threadmill/live',
    'tessarion deliver q-8k2m4q9x1c --when window --confirm threadmill/live',
  ).action(async (id: string, options: DeliverOptions, command: Command) => {
    const client = await connect(command);
    const request = await client.call('requestShow', byId(id));
    const sentence = request.sentence.map((piece) => piece.text).join('');
    const isLive = readEnvironmentPath(request.onto)?.environment === 'live';
    if (!wantsJson(command)) print(bold(sentence));
    const confirm =
      options.confirm ??
      (isLive
        ? await ask(`Deliver "${request.title}". Type ${request.onto}: `, `--confirm ${request.onto}`)
        : undefined);
    const changed = await client.call('requestDeliver', {
      ...byId(id),
      body: {
        when: readWhen(options.when),
        ...(confirm === undefined ? {} : { confirm }),
        ...(options.override === undefined ? {} : { override: options.override }),
      },
    });
    if (changed.state === 'delivering' && changed.transfer && !options.detach) {
      const ended = await watchTransfer(client, changed.transfer);
      if (!wantsJson(command) || ended.state !== 'done') reportEnd(ended);
    }
    const after = await client.call('requestShow', byId(id));
    if (wantsJson(command)) printJson(after);
    else print(`${after.id} is ${after.state}${after.deliverAt ? `, due ${when(after.deliverAt)}` : ''}.`);
  });
}

/** @throws {CliError} usage */
function readWhen(text: string): string {
  if (text === 'now' || text === 'window') return text;
  const at = new Date(text);
  if (Number.isNaN(at.getTime()))
    throw new CliError(
      2,
      `"${text}" is no time.`,
      'A delivery goes now, in the next window, or at a time.',
      'Write --when now, --when window, or --when 2026-12-01T22:30:00Z.',
    );
  return at.toISOString();
}

async function forecastFor(client: Client, options: OpenOptions): Promise<string> {
  const ends = await chooseEnds(client, options, 'push');
  const asked = await client.call('forecastCreate', { body: { ...ends, wishes: wishesOf(options) } });
  return (await awaitForecast(client, asked)).id;
}

/** Reviewers by mail address, or as `team:NAME`. @throws {CliError} usage */
async function reviewersOf(client: Client, wanted: readonly string[]) {
  const people = wanted.some((one) => !one.startsWith('team:')) ? await client.call('personList') : [];
  return wanted.map((one) => {
    if (one.startsWith('team:')) return { team: one.slice('team:'.length) };
    const person = people.find((each) => each.mail === one.toLowerCase() || each.id === one);
    if (!person)
      throw new CliError(
        2,
        `Nobody here has the mail address ${one}.`,
        'A reviewer is a person or a team.',
        'See who is here: tessarion people list',
      );
    return { person: person.id };
  });
}

const standing = (item: RequestItem): string => {
  if (item.outcome === 'needs-you') return 'collides';
  if (item.outcome === 'kept') return 'stays';
  if (item.lapsedFor.length > 0) return `changed since ${item.lapsedFor.join(', ')} approved`;
  if (item.missing > 0 || item.missingTeams.length > 0)
    return `needs ${[
      ...(item.missing > 0 ? [counted(item.missing, 'approval')] : []),
      ...item.missingTeams.map((team) => `team ${team}`),
    ].join(', ')}`;
  return item.approvedBy.length > 0 ? `approved by ${item.approvedBy.join(', ')}` : 'needs nobody';
};

/** Prints a request as people read it. */
export function printRequest(request: RequestDetail): void {
  print(bold(request.title));
  print(request.sentence.map((piece) => piece.text).join(''));
  print(
    `${request.id}, ${request.state}, revision ${request.revision}, by ${request.author.name}${request.deliverAt ? `, due ${when(request.deliverAt)}` : ''}`,
  );
  if (request.because) print(`Because: ${request.because}`);
  if (request.urgent) print(`Urgent: ${request.urgent}`);
  if (request.description) print(`\n${request.description}`);
  print();
  printTable(
    ['item', 'title', 'change', 'rev', 'standing'],
    request.items
      .slice(0, 40)
      .map((item) => [
        item.id.length > 24 ? item.kind : item.id,
        item.openThreads > 0 ? `${item.title} (${counted(item.openThreads, 'thread')})` : item.title,
        item.change,
        String(item.since),
        cut(standing(item), 34),
      ]),
    [3],
    1,
  );
  if (request.items.length > 40) print(dim(`and ${request.items.length - 40} more`));
  print();
  for (const one of request.reviewers)
    print(
      `${one.person?.name ?? `team ${one.team}`}: ${one.says === null ? 'has said nothing yet' : `${one.says === 'approve' ? 'approved' : 'sent it back'}${one.isCurrent ? '' : ', of a former revision'}`}`,
    );
  for (const held of request.waitsFor)
    print(`Waits for ${held.item}, claimed by "${held.title}" (${held.request}) of ${held.author}.`);
  for (const step of request.steps)
    print(
      `${step.doneAt ? 'done' : 'to do'}  ${step.phase} the delivery: ${step.text}  ${dim(step.doneAt ? `${step.doneBy}, ${when(step.doneAt)}` : step.id)}`,
    );
  printThreads(request);
  const open = request.acts.filter((one) => one.allowed).map((one) => one.act);
  if (open.length > 0) print(dim(`You may: ${open.join(', ')}`));
}

function printThreads({ threads }: RequestDetail): void {
  for (const thread of threads) {
    const about = thread.item === null ? 'the request' : `${thread.item}${thread.field ? `, ${thread.field}` : ''}`;
    print(`\n${bold(about)}  ${dim(`${thread.id}${thread.resolvedAt ? `, resolved by ${thread.resolvedBy}` : ''}`)}`);
    for (const comment of thread.comments)
      print(
        `  ${comment.author?.name ?? 'Somebody'}, ${when(comment.at)}${comment.editedAt ? ', edited' : ''}: ${comment.removedAt ? dim('removed') : comment.text}`,
      );
  }
}
