import type { Client } from '@tessarion/client';
import type { ChangeRequest, RequestDetail } from '@tessarion/contract';
import { REQUEST_STATES } from '@tessarion/core';
import { type Command, Option } from 'commander';
import { CliError } from '../errors.js';
import { arrow, cut, dim, print, printJson, printTable } from '../output.js';
import { awaitForecast, awaitUntil, chooseEnds, connect, wantsJson } from '../program.js';
import { type Choice, choosing, wishesOf } from './choosing.js';
import { addDeliver, readWanted } from './deliver.js';
import { examples, json } from './options.js';
import { addPreview } from './previews.js';
import { byId, printRequest } from './print-request.js';
import { addReview } from './reviews.js';

interface OpenOptions extends Choice {
  readonly from?: string;
  readonly onto?: string;
  readonly forecast?: string;
  readonly title: string;
  readonly describe?: string;
  readonly reviewer?: string[];
  readonly before?: string[];
  readonly after?: string[];
  readonly wanted?: string;
  readonly waitInLine?: boolean;
  readonly draft?: boolean;
}

interface EditOptions {
  readonly title?: string;
  readonly describe?: string;
  readonly reviewer?: string[];
  readonly before?: string[];
  readonly after?: string[];
  readonly wanted?: string;
}

/** The manual steps of a request; those of a phase that is not named stay as they were. */
function stepsOf(
  wanted: { readonly before?: readonly string[] | undefined; readonly after?: readonly string[] | undefined },
  former: readonly { phase: 'before' | 'after'; text: string }[] = [],
): { phase: 'before' | 'after'; text: string }[] {
  return (['before', 'after'] as const).flatMap((phase) => {
    const texts = wanted[phase] ?? former.filter((one) => one.phase === phase).map((one) => one.text);
    return texts.map((text) => ({ phase, text }));
  });
}

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
          .option('--wanted <TIME>', 'when to deliver it: window, or a time such as 2026-12-01T22:30:00Z')
          .option('--wait-in-line', 'wait for what others have claimed')
          .option('--draft', 'do not ask for review yet'),
      ),
    ),
    'tessarion request open --from threadmill/staging --title "Autumn, first part" --only product:* --reviewer team:shop',
    'tessarion request open --forecast f-8k2m4q9x1c --title "New menu" --draft',
  ).action(async (options: OpenOptions, command: Command) => {
    const client = await connect(command);
    const forecast = options.forecast ?? (await forecastFor(client, options));
    const steps = stepsOf(options);
    const opened = await client.call('requestOpen', {
      body: {
        forecast,
        title: options.title,
        reviewers: await reviewersOf(client, options.reviewer ?? []),
        steps,
        ...(options.describe === undefined ? {} : { description: options.describe }),
        ...(options.wanted === undefined ? {} : { wantedFor: readWanted(options.wanted) }),
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
        .option('--find <WORDS>', 'of the title, or of the name of who opened it')
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
      ...(options.find ? { find: String(options.find) } : {}),
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
        one.undoes ? `${one.onto}, back` : `${one.from} ${arrow} ${one.onto.split('/')[1]}`,
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
    'edit',
    'change what a request says, whom it asks, or its manual steps; what is named replaces what was there',
    [
      'tessarion request edit q-8k2m4q9x1c --title "Autumn, all of it"',
      'tessarion request edit q-8k2m4q9x1c --reviewer team:shop ida.moe@copperlane.example',
    ],
    async (client, id, options) => {
      const { title, describe, reviewer, before, after, wanted } = options as EditOptions;
      const former = await client.call('requestShow', byId(id));
      const body = {
        ...(title === undefined ? {} : { title }),
        ...(describe === undefined ? {} : { description: describe }),
        ...(reviewer === undefined ? {} : { reviewers: await reviewersOf(client, reviewer) }),
        ...(wanted === undefined ? {} : { wantedFor: wanted === 'any' ? null : readWanted(wanted) }),
        ...(before === undefined && after === undefined ? {} : { steps: stepsOf({ before, after }, former.steps) }),
      };
      if (Object.keys(body).length === 0)
        throw new CliError(
          2,
          'Nothing is to be changed.',
          '',
          'Name --title, --describe, --reviewer, --before, --after or --wanted.',
        );
      return client.call('requestEdit', { ...byId(id), body, etag: former.etag });
    },
    (command) =>
      command
        .option('--title <TEXT>')
        .option('--describe <TEXT>', 'more about it, in Markdown')
        .option('--reviewer <WHO...>', 'mail address of a person, or team:NAME')
        .option('--before <STEP...>', 'the manual steps before the delivery')
        .option('--after <STEP...>', 'those after it')
        .option('--wanted <TIME>', 'when to deliver it: window, any, or a time such as 2026-12-01T22:30:00Z'),
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
      if (revising) await awaitForecast(client, { id: revising });
      // The forecast is there before the revision that is made of it.
      return awaitUntil(
        client,
        'request',
        () => client.call('requestShow', byId(id)),
        (shown) => shown.revising === null || shown.revising !== revising,
      );
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

  act(
    'ask-over',
    'ask those who have claimed what it waits for to hand it over',
    ['tessarion request ask-over q-8k2m4q9x1c', 'tessarion request ask-over q-8k2m4q9x1c --json'],
    (client, id) => client.call('claimAsk', byId(id)),
  );
  act(
    'yield',
    'let those go first who wait for items of it',
    [
      'tessarion request yield q-8k2m4q9x1c --item product:3',
      'tessarion request yield q-8k2m4q9x1c --item product:3 page:7 --json',
    ],
    (client, id, { item }) => client.call('claimYield', { ...byId(id), body: { items: item as unknown as string[] } }),
    (command) => command.requiredOption('--item <ID...>'),
  );

  addPreview(request);
  addReview(program);
  addDeliver(program);
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
