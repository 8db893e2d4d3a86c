import { type Client, ServiceProblem } from '@tessarion/client';
import type { Environment, Forecast, ForecastItem } from '@tessarion/contract';
import { resetLane } from '@tessarion/core';
import type { Command } from 'commander';
import { CliError, type ExitCode } from '../errors.js';
import { bold, count, cut, print, printJson, printTable } from '../output.js';
import {
  awaitForecast,
  chooseEnds,
  confirming,
  connect,
  finish,
  mustSayYes,
  printForecast,
  readPath,
  wantsJson,
} from '../program.js';
import { reportEnd, watchTransfer } from '../watch.js';
import { type Choice, choosing, wishesOf } from './choosing.js';

interface Ends {
  readonly from?: string;
  readonly onto?: string;
  readonly snapshot?: string;
  readonly confirm?: string;
  readonly yes?: boolean;
  readonly detach?: boolean;
  readonly json?: boolean;
  readonly acceptTrace?: string[];
  readonly acceptPersonal?: string;
}

/** Asks for the destination's full name onto live, and for a yes otherwise. */
async function confirmed<T>(
  onto: string,
  options: Ends,
  button: string,
  act: (confirm: { confirm?: string }) => Promise<T>,
): Promise<T> {
  if (readPath(onto).environment === 'live')
    return confirming({ given: options.confirm, question: button, thing: onto }, (confirm) =>
      act(confirm === undefined ? {} : { confirm }),
    );
  if (!options.yes && options.confirm === undefined) await mustSayYes(`${button}?`, 'Nothing was written.');
  return act(options.confirm === undefined ? {} : { confirm: options.confirm });
}

interface MergeOptions extends Ends, Choice {
  /** One that was read; it says itself what goes where. */
  readonly forecast?: string;
  readonly replace?: boolean;
  readonly urgent?: string;
  readonly override?: string;
}

async function makeForecast(
  client: Client,
  chosen: { from: string; onto: string },
  options: MergeOptions,
): Promise<Forecast> {
  const { snapshot, replace } = options;
  const body = {
    ...chosen,
    ...(snapshot === undefined ? {} : { snapshot }),
    ...(replace ? { method: 'replace' as const } : {}),
    wishes: wishesOf(options),
  };
  return awaitForecast(client, await client.call('forecastCreate', { body }));
}

/** Decisions about what does not collide, which somebody may have misspelt. */
const unknownDecisions = ({ checks }: Forecast): string =>
  checks
    .flatMap((check) => (check.name === 'decisions' && check.state === 'failed' ? [` ${check.message}`] : []))
    .join('');

/** A forecast that somebody has read, so that what was read is what is done. @throws {CliError} */
async function readForecast(client: Client, id: string, options: MergeOptions): Promise<Forecast> {
  const { from, onto, snapshot, replace, only, except, take, keep, edit, rest, run } = options;
  const said = Object.entries({ from, onto, snapshot, replace, only, except, take, keep, edit, rest, run });
  const more = said.flatMap(([name, value]) => (value === undefined ? [] : [`--${name}`]));
  if (more.length > 0)
    throw new CliError(
      2,
      `--forecast ${id} says already what goes where.`,
      `${more.join(' and ')} would make it another one.`,
      'Leave them out, or make a new forecast.',
    );
  const forecast = await awaitForecast(client, { id });
  if (forecast.undoes !== null)
    throw new CliError(
      2,
      `${id} is a forecast of an undo.`,
      `It would take back ${forecast.undoes}.`,
      `Take it back: tessarion undo ${forecast.undoes}`,
    );
  return forecast;
}

const pastOf = ({ urgent, override }: { readonly urgent?: string; readonly override?: string }) => ({
  ...(urgent === undefined ? {} : { urgent }),
  ...(override === undefined ? {} : { override }),
});

const WAYS = { push: 'up', pull: 'down' } as const;

/** Shows what a push or a pull would do, asks, and does it. */
async function merge(options: MergeOptions, command: Command, way: 'push' | 'pull'): Promise<void> {
  const client = await connect(command);
  const forecast =
    options.forecast === undefined
      ? await makeForecast(client, await chooseEnds(client, options, way), options)
      : await readForecast(client, options.forecast, options);
  const chosen = { from: forecast.from, onto: forecast.onto };
  if (forecast.direction !== WAYS[way]) {
    const other = way === 'push' ? 'pull' : 'push';
    throw new CliError(
      3,
      way === 'push' ? 'A push goes upward.' : 'A pull goes downward.',
      `${chosen.onto} does not lie ${way === 'push' ? 'above' : 'below'} ${chosen.from}.`,
      `Use the other way: tessarion ${other} --from ${chosen.from} --onto ${chosen.onto}`,
    );
  }
  if (!wantsJson(command)) await printForecast(client, forecast);
  if (forecast.unsettled > 0)
    throw new CliError(
      4,
      `${forecast.unsettled === 1 ? '1 item collides' : `${forecast.unsettled} items collide`}; nothing was written.${unknownDecisions(forecast)}`,
      'Somebody has to say which side counts.',
      'Settle one by one with --take ID or --keep ID, all others with --rest source or --rest destination, or leave items out with --except ID.',
    );
  if (forecast.written.length === 0 && forecast.checks.every((check) => check.state !== 'failed')) {
    if (wantsJson(command)) printJson(forecast);
    else print(way === 'push' ? 'Nothing to write.' : 'Nothing to bring in.');
    return;
  }
  const transfer = await confirmed(chosen.onto, options, forecast.button, (confirm) =>
    way === 'push'
      ? client.call('pushCreate', { body: { forecast: forecast.id, ...confirm, ...pastOf(options) } })
      : client.call('pullCreate', { body: { forecast: forecast.id } }),
  );
  await finish(client, transfer, options);
}

/** What a copy holds that its source does not: what a reset would drop. Empty where nobody can tell. */
async function workIn(client: Client, { from, onto }: { from: string; onto: string }): Promise<string> {
  try {
    const asked = await client.call('forecastCreate', { body: { from: onto, onto: from } });
    const { written, unsettled } = await awaitForecast(client, asked);
    const amounts =
      unsettled > 0
        ? [...written, { count: unsettled, kind: 'item changed on both sides', plural: 'items changed on both sides' }]
        : written;
    return amounts.map(({ count: many, kind, plural }) => `${count(many)} ${many === 1 ? kind : plural}`).join(', ');
  } catch (error) {
    // Where no lane leads up, nothing is compared; the question says that work goes.
    if (error instanceof ServiceProblem) return '';
    throw error;
  }
}

/** Nobody is asked about a reset that is not possible. @throws {CliError} refused */
async function mustBeOpenToReset(client: Client, { from, onto }: { from: string; onto: string }): Promise<void> {
  const [source, destination] = await Promise.all(
    [from, onto].map((path) => client.call('environmentShow', { params: readPath(path) })),
  );
  const verdict = resetLane(source as Environment, destination as Environment);
  if (!verdict.allowed) throw new CliError(3, 'This way is closed.', verdict.reason, verdict.next);
}

interface UndoOptions extends Ends {
  readonly only?: string[];
  readonly except?: string[];
  readonly also?: string[];
  readonly urgent?: string;
  readonly override?: string;
}

/** Shows what taking a transfer back would do, asks, and does it. */
async function undo(id: string, options: UndoOptions, command: Command): Promise<void> {
  const client = await connect(command);
  const { only, except, also } = options;
  const settlements = Object.fromEntries((also ?? []).map((one) => [one, { take: 'source' as const }]));
  const body = { only: only ?? [], except: except ?? [], settlements };
  const forecast = await awaitForecast(client, await client.call('forecastUndo', { params: { id }, body }));
  if (!wantsJson(command)) await printForecast(client, forecast);
  if (forecast.written.length === 0 && forecast.checks.every((check) => check.state !== 'failed')) {
    if (wantsJson(command)) printJson(forecast);
    else print('Nothing to take back.');
    return;
  }
  const transfer = await confirmed(forecast.onto, options, forecast.button, (confirm) =>
    client.call('transferUndo', { params: { id }, body: { forecast: forecast.id, ...confirm, ...pastOf(options) } }),
  );
  await finish(client, transfer, options);
}

/** What each of two environments changed since they last had things in common. */
async function compare(left: string, right: string, command: Command): Promise<void> {
  if (left === right)
    throw new CliError(
      2,
      `Both ends are ${left}.`,
      'What is compared is what two of them do not have in common.',
      'Name two different environments.',
    );
  const client = await connect(command);
  const ends = [
    [left, right],
    [right, left],
  ] as const;
  const forecasts: Forecast[] = [];
  for (const [from, onto] of ends) forecasts.push(await makeForecast(client, { from, onto }, {}));
  if (wantsJson(command)) {
    const sides = await Promise.all(
      forecasts.map(async (forecast) => ({ ...forecast, items: await allItems(client, forecast) })),
    );
    printJson({ sides });
    return;
  }
  for (const [i, forecast] of forecasts.entries()) {
    const items = await allItems(client, forecast);
    const [from, onto] = ends[i] as readonly [string, string];
    print(bold(`${i === 0 ? '' : '\n'}${from} has ${count(items.length)} that ${onto} has not`));
    if (items.length > 0)
      printTable(
        ['kind', 'title', 'change', 'on both sides', 'fields'],
        items.map((item) => [
          item.kind,
          cut(item.title, 44),
          item.change,
          item.collisions.length > 0 ? 'collides' : '',
          item.change === 'changed' ? cut(item.fields.map((field) => field.name).join(', '), 30) : '',
        ]),
      );
  }
}

async function allItems(client: Client, { id }: Forecast): Promise<ForecastItem[]> {
  const items: ForecastItem[] = [];
  for (let cursor: string | undefined; ; ) {
    const page = await client.call('forecastItems', { params: { id }, query: cursor === undefined ? {} : { cursor } });
    items.push(...page.items);
    if (page.next === null) return items;
    cursor = page.next;
  }
}

/** The plain verbs of every day. */
export function addDailyCommands(program: Command): void {
  const ends = (command: Command): Command =>
    command
      .option('--from <SITE/NAME>', 'environment that things come from')
      .option('--onto <SITE/NAME>', 'environment that things are written onto');
  const replacing = (command: Command): Command =>
    choosing(command).option('--replace', 'make the destination as the source, also where it changed itself');
  const acting = (command: Command): Command =>
    command
      .option('--confirm <SITE/NAME>', 'names a live destination in full')
      .option('--yes', 'answers every other question')
      .option('--detach', 'print the id and go on in the background')
      .option('--json', 'one JSON document');

  replacing(ends(program.command('forecast').description('show what a push or a pull would do, without doing it')))
    .option('--snapshot <ID>', 'take a snapshot of --from as the source')
    .option('--json', 'one JSON document')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion forecast --from threadmill/staging --onto threadmill/live\n  tessarion forecast --from threadmill/live --onto threadmill/staging --json',
    )
    .action(async (options: MergeOptions, command: Command) => {
      const client = await connect(command);
      const forecast = await makeForecast(client, await chooseEnds(client, options, 'push'), options);
      if (wantsJson(command)) printJson(forecast);
      else await printForecast(client, forecast);
      // A script sees what a reader reads.
      if (forecast.checks.some((check) => check.state === 'failed')) process.exitCode = 3 satisfies ExitCode;
      else if (forecast.unsettled > 0) process.exitCode = 4 satisfies ExitCode;
    });

  program
    .command('compare')
    .argument('<environment>')
    .argument('<other>')
    .description('list what each of two environments changed')
    .option('--json', 'both sides as one JSON document')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion compare threadmill/staging threadmill/live\n  tessarion compare threadmill/staging threadmill/live --json',
    )
    .action((left: string, right: string, _options: unknown, command: Command) => compare(left, right, command));

  acting(replacing(ends(program.command('push').description('write an environment’s work onto the one above it'))))
    .option('--forecast <ID>', 'do what this forecast says, which you have read')
    .option('--urgent <REASON>', 'past approval and claims; marked for ever')
    .option('--override <REASON>', 'outside a window or in a freeze; marked for ever')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion push --from threadmill/staging --onto threadmill/live\n  tessarion push --forecast f-8k2m4q9x1c --confirm threadmill/live',
    )
    .action((options: MergeOptions, command: Command) => merge(options, command, 'push'));

  acting(replacing(ends(program.command('pull').description('bring news into a copy; the work in it stays'))))
    .option('--forecast <ID>', 'do what this forecast says, which you have read')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion pull --from threadmill/live --onto threadmill/staging\n  tessarion pull --onto threadmill/staging --rest destination --yes',
    )
    .action((options: MergeOptions, command: Command) => merge(options, command, 'pull'));

  acting(
    ends(
      program.command('reset').description('make a copy its source’s double again; work that exists only there goes'),
    ),
  )
    .option('--accept-trace <NAME...>', 'traces of the source that may stay in the copy')
    .option('--accept-personal <REASON>', 'copy columns that look personal and are not classified')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion reset --from threadmill/live --onto threadmill/staging\n  tessarion reset --onto threadmill/staging --yes',
    )
    .action(async (options: Ends, command: Command) => {
      const client = await connect(command);
      const chosen = await chooseEnds(client, options, 'reset');
      await mustBeOpenToReset(client, chosen);
      const dropped = await workIn(client, chosen);
      const goes = dropped === '' ? 'work that exists only there goes' : `${dropped} exist only there, and go`;
      // Who says yes beforehand reads it nevertheless.
      if (options.yes && !wantsJson(command)) print(`In ${chosen.onto}, ${goes}.`);
      if (!options.yes)
        await mustSayYes(`Make ${chosen.onto} the double of ${chosen.from} again; ${goes}?`, 'Nothing was written.');
      await finish(
        client,
        await client.call('resetCreate', {
          body: {
            ...chosen,
            ...(options.acceptTrace === undefined ? {} : { acceptTraces: options.acceptTrace }),
            ...(options.acceptPersonal === undefined ? {} : { acceptPersonal: options.acceptPersonal }),
          },
        }),
        options,
      );
    });

  acting(
    program
      .command('undo')
      .argument('<transfer>', 'id of a push, a pull or a restore onto live')
      .description('take back what a transfer wrote; what others changed since stays'),
  )
    .option('--only <NAME...>', 'take back only these')
    .option('--except <NAME...>', 'take back everything but these')
    .option('--also <ID...>', 'take these back too, though others changed them since')
    .option('--urgent <REASON>', 'past approval and claims; marked for ever')
    .option('--override <REASON>', 'outside a window or in a freeze; marked for ever')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion undo t-8k2m4q9x1c\n  tessarion undo t-8k2m4q9x1c --only product:3 --confirm threadmill/live',
    )
    .action((id: string, options: UndoOptions, command: Command) => undo(id, options, command));

  program
    .command('watch')
    .argument('<transfer>')
    .description('follow a transfer to its end')
    .option('--json', 'one JSON document at the end')
    .addHelpText('after', '\nExamples:\n  tessarion watch t-8k2m4q9x1c\n  tessarion watch t-8k2m4q9x1c --json')
    .action(async (id: string, _options: unknown, command: Command) => {
      const transfer = await watchTransfer(await connect(command), id);
      if (wantsJson(command)) printJson(transfer);
      if (!wantsJson(command) || transfer.state !== 'done') reportEnd(transfer);
    });

  program
    .command('stop')
    .argument('<transfer>')
    .description('stop a transfer before its switch; everything is put back')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion stop t-8k2m4q9x1c\n  tessarion stop t-8k2m4q9x1c --url http://127.0.0.1:7070',
    )
    .action(async (id: string, _options: unknown, command: Command) => {
      const client = await connect(command);
      await client.call('transferStop', { params: { id } });
      const transfer = await watchTransfer(client, id);
      print(`${id} is ${transfer.state}.`);
    });
}
