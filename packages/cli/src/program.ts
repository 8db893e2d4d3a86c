import { createInterface } from 'node:readline/promises';
import { Writable } from 'node:stream';
import { Client, ServiceProblem } from '@tessarion/client';
import { sendByNode } from '@tessarion/client/node';
import type { Forecast, ForecastItem, StreamEvent, Transfer } from '@tessarion/contract';
import { usualEnds } from '@tessarion/core';
import type { Command } from 'commander';
import { CliError } from './errors.js';
import { bold, count, cut, dim, print, printJson, printTable, say, tell, when } from './output.js';
import { readSettings } from './settings.js';
import { used } from './used-settings.js';
import { mayHaveChanged, reportEnd, watchTransfer } from './watch.js';

interface Common {
  readonly url?: string;
  readonly token?: string;
  readonly tokenFrom?: string;
  readonly json?: boolean;
}

/** A client with the effective settings. */
export async function connect(command: Command): Promise<Client> {
  const flags = command.optsWithGlobals<Common>();
  const [url, token] = await readSettings(flags);
  if (!/^https?:\/\//.test(url?.value ?? ''))
    throw new CliError(
      2,
      `"${url?.value}" (${url?.source}) is no address.`,
      'It begins with http:// or https://.',
      `For example: --url http://${url?.value ?? ''}`,
    );
  used.tokenFrom = token?.value === undefined ? undefined : token.source;
  return new Client({
    url: (url?.value ?? '').replace(/\/+$/, ''),
    send: sendByNode,
    ...(token?.value === undefined ? {} : { token: token.value }),
  });
}

export const wantsJson = (command: Command): boolean => command.optsWithGlobals<Common>().json === true;

/** Splits `site/environment`. @throws {CliError} usage */
export function readPath(text: string): { site: string; environment: string } {
  const match = /^([^/]+)\/([^/]+)$/.exec(text);
  if (!match)
    throw new CliError(
      2,
      `"${text}" does not name an environment.`,
      'An environment is written site/name.',
      'For example: threadmill/staging',
    );
  return { site: match[1] as string, environment: match[2] as string };
}

/** Asks on the terminal; not possible in a script, which must answer with a flag. */
export async function ask(question: string, flag: string): Promise<string> {
  if (process.stdin.isTTY !== true)
    throw new CliError(
      3,
      'This needs to be confirmed.',
      `${question.trim()} There is no terminal to ask on.`,
      `Give the answer with ${flag}.`,
    );
  const prompt = createInterface({ input: process.stdin, output: process.stderr });
  try {
    return (await prompt.question(question)).trim();
  } catch (error) {
    throw unanswered(error, flag);
  } finally {
    prompt.close();
  }
}

/** Ctrl-C at a question is an answer, too. */
const unanswered = (error: unknown, flag: string): unknown =>
  error instanceof Error && error.name === 'AbortError'
    ? new CliError(
        3,
        '\nNothing was done.',
        'The question was not answered.',
        `Answer it, or give the answer with ${flag}.`,
      )
    : error;

/**
 * Does what has to be confirmed. What would be refused anyway is refused before anything is asked.
 *
 * @param given what was confirmed by an option
 * @param thing what is to be typed
 */
export async function confirming<T>(
  { given, question, thing }: { readonly given: string | undefined; readonly question: string; readonly thing: string },
  act: (confirm: string | undefined) => Promise<T>,
): Promise<T> {
  if (given !== undefined) return act(given);
  try {
    return await act(undefined);
  } catch (error) {
    if (!(error instanceof ServiceProblem && error.problem.type === 'tessarion:not-confirmed')) throw error;
  }
  return act(await ask(`${question}. Type ${thing}: `, `--confirm ${thing}`));
}

/** Asks for a yes. @throws {CliError} without one */
export async function mustSayYes(question: string, nothing: string): Promise<void> {
  if (!/^y(es)?$/i.test(await ask(`${question} (yes/no) `, '--yes')))
    throw new CliError(3, nothing, 'It was not confirmed.', '');
}

/** Asks for what must not stand on the screen. @throws {CliError} where there is no terminal */
export async function askHidden(question: string, flag: string): Promise<string> {
  if (process.stdin.isTTY !== true) return ask(question, flag);
  process.stderr.write(question);
  const silent = new Writable({ write: (_chunk, _encoding, done) => done() });
  const prompt = createInterface({ input: process.stdin, output: silent, terminal: true });
  try {
    return (await prompt.question('')).trim();
  } catch (error) {
    throw unanswered(error, flag);
  } finally {
    prompt.close();
    process.stderr.write('\n');
  }
}

/** Follows a transfer that was just made, or prints its id with `--detach`. */
export async function finish(
  client: Client,
  transfer: Transfer,
  options: { detach?: boolean; json?: boolean },
): Promise<boolean> {
  if (options.detach) {
    if (options.json) printJson(transfer);
    else print(transfer.id);
    return false;
  }
  if (!options.json) tell(`${transfer.id}  ${transfer.sentence.map((piece) => piece.text).join('')}`);
  const ended = await watchTransfer(client, transfer.id);
  if (options.json) printJson(ended);
  if (!options.json || ended.state !== 'done') reportEnd(ended);
  return ended.state === 'done';
}

/** Shows a thing again and again until it is as it is wanted. @param type what events of it are called */
export async function awaitUntil<T>(
  client: Client,
  type: StreamEvent['type'],
  show: () => Promise<T>,
  isDone: (shown: T) => boolean,
): Promise<T> {
  const abort = new AbortController();
  try {
    let shown = await show();
    if (!isDone(shown))
      for await (const _ of mayHaveChanged(client, abort.signal, (event) => event.type === type)) {
        shown = await show();
        if (isDone(shown)) break;
      }
    return shown;
  } finally {
    abort.abort();
  }
}

/** Waits until a forecast is computed. */
export async function awaitForecast(client: Client, { id }: Pick<Forecast, 'id'>): Promise<Forecast> {
  const current = await awaitUntil(
    client,
    'forecast',
    () => client.call('forecastShow', { params: { id } }),
    ({ state }) => state !== 'computing',
  );
  if (current.state === 'failed')
    throw new CliError(
      1,
      'The forecast could not be made.',
      current.failure?.message ?? '',
      current.failure?.next ?? '',
    );
  return current;
}

/** An end that was left out is filled in where only one environment fits. */
export async function chooseEnds(
  client: Client,
  options: { from?: string; onto?: string },
  direction: 'push' | 'pull' | 'reset',
): Promise<{ from: string; onto: string }> {
  if (options.from !== undefined && options.onto !== undefined) return { from: options.from, onto: options.onto };
  const given = options.from ?? options.onto;
  if (given === undefined)
    throw new CliError(
      2,
      'Neither end is named.',
      'At least one of --from and --onto is needed.',
      `For example: tessarion ${direction} --from threadmill/staging --onto threadmill/live`,
    );
  const { site, environment } = readPath(given);
  const shown = await client.call('siteShow', { params: { site } });
  const own = shown.environments.find((one) => one.name === environment);
  if (!own)
    throw new CliError(1, `There is no environment ${given}.`, '', `See what there is: tessarion site show ${site}`);
  const side = options.from === undefined ? 'onto' : 'from';
  const found = usualEnds(direction, side, own, shown.environments);
  if (found.length !== 1 || !found[0])
    throw new CliError(
      2,
      `The other end of the ${direction} is not clear.`,
      found.length === 0 ? 'No environment fits.' : `These fit: ${found.map((one) => one.path).join(', ')}.`,
      'Name both with --from and --onto.',
    );
  return side === 'from' ? { from: given, onto: found[0].path } : { from: found[0].path, onto: given };
}

const MARKS: Partial<Record<ForecastItem['outcome'], string>> = {
  'needs-you': 'settle',
  kept: 'stays',
  'left-out': 'out',
};

/** What is to be said of an item in a few words. */
function wordsOf(item: ForecastItem): string {
  if (item.outcome === 'kept' || item.outcome === 'needs-you') return item.reason || (item.collisions[0]?.words ?? '');
  if (item.takenAlongFor !== null) return `comes along with ${item.takenAlongFor}`;
  if (item.reason !== '') return item.reason;
  return item.change === 'changed' ? item.fields.map((field) => field.name).join(', ') : '';
}

/** Says what collides, with what either side has, and the name by which it is settled. */
function printCollisions(items: readonly ForecastItem[]): void {
  for (const item of items.filter((one) => one.outcome !== 'left-out'))
    for (const collision of item.collisions) {
      if (collision.settled) continue;
      print(`${bold(collision.id)}  ${collision.words}`);
      const field = item.fields.find((one) => one.collision === collision.id);
      if (!field) continue;
      const values = [
        ['was', field.base],
        ['source', field.source],
        ['destination', field.before],
      ] as const;
      for (const [name, value] of values) print(`  ${name.padEnd(12)}${cut(value ?? 'nothing', 84)}`);
    }
}

/** When tasks run, in words. */
const TASK_TIMES = {
  staged: 'staged, before anybody sees it',
  held: 'held, while visitors wait',
  after: 'after, when it shows',
} as const;

/** Changed things of which a forecast says what uses them. */
const MOST_USED = 6;

/** How long visitors wait; a check says it where they do not come by the gateway. */
const holdWords = ({ holdMilliseconds, checks }: Forecast): string =>
  checks.some((check) => check.name === 'hold')
    ? ''
    : holdMilliseconds === null
      ? 'How long visitors wait is known after the first push. '
      : `Visitors wait about ${holdMilliseconds} ms. `;

/** Prints a forecast as people read it. */
export async function printForecast(client: Client, forecast: Forecast): Promise<void> {
  say(bold(forecast.sentence.map((piece) => piece.text).join('')));
  print();
  const { items } = await client.call('forecastItems', { params: { id: forecast.id }, query: { limit: 30 } });
  if (items.length > 0) {
    const usedBy = (item: ForecastItem): string =>
      item.usedBy.map((one) => `${count(one.count)} ${one.count === 1 ? one.kind : one.plural}`).join(', ');
    printTable(
      ['', 'item', 'title', 'change', 'what'],
      items.map((item) => [
        MARKS[item.outcome] ?? (item.overwrites ? '!' : ' '),
        item.id.length > 24 ? item.kind : item.id,
        cut(item.title, 34),
        item.change,
        cut(wordsOf(item), 30),
      ]),
    );
    const uses = (item: ForecastItem): number => item.usedBy.reduce((sum, one) => sum + one.count, 0);
    const used = items
      .filter((item) => item.usedBy.length > 0 && item.outcome !== 'left-out')
      .sort((a, b) => uses(b) - uses(a));
    for (const item of used.slice(0, MOST_USED)) say(dim(`${cut(item.title, 34)} is used by ${usedBy(item)}`));
    if (used.length > MOST_USED) print(dim(`and ${used.length - MOST_USED} more are used elsewhere`));
    if (forecast.itemCount > items.length) print(dim(`and ${count(forecast.itemCount - items.length)} more`));
    print();
    printCollisions(items);
    if (forecast.unsettled > 0) print();
  }
  for (const part of forecast.parts)
    print(`${part.type} ${part.name}: ${part.inserted} new, ${part.updated} changed, ${part.deleted} deleted`);
  const rewritten = forecast.rewrites.reduce((sum, one) => sum + one.count, 0);
  if (rewritten > 0)
    say(
      `${rewritten === 1 ? 'One address is' : `${count(rewritten)} addresses are`} rewritten, in ${forecast.rewrites
        .slice(0, 4)
        .map((one) => `${one.table}.${one.column}`)
        .join(', ')}${forecast.rewrites.length > 4 ? ` and ${forecast.rewrites.length - 4} more` : ''}`,
    );
  const fired = forecast.touched.filter((one) => one.triggers.length > 0);
  if (fired.length > 0)
    say(`Triggers fire: ${fired.map((one) => `${one.triggers.join(', ')} of ${one.table}`).join('; ')}`);
  for (const task of forecast.tasks)
    say(
      `Task ${task.name}, ${TASK_TIMES[task.phase]}${!task.changesSchema ? '' : task.runs ? '; it changes the schema' : `; it changes the schema; runs only when chosen: --run ${task.name}`}`,
    );
  const kept = forecast.kept
    .filter((one) => one.count > 0)
    .map((one) => `${count(one.count)} ${one.count === 1 ? one.kind : one.plural}`);
  if (kept.length > 0) print(`Stays as it is: ${kept.join(', ')}`);
  for (const check of forecast.checks)
    if (check.state !== 'passed')
      say(`${check.state === 'failed' ? 'Stops it' : 'Note'}: ${check.message} ${check.remedy ?? ''}`);
  say(
    dim(
      `${holdWords(forecast)}Forecast ${forecast.id}, fingerprint ${forecast.fingerprint.slice(0, 8)}, ${forecast.baselineAt ? `baseline ${when(forecast.baselineAt)}` : 'no baseline'}.`,
    ),
  );
}
