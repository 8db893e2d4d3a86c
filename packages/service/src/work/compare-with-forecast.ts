import { type ChangedItem, counted, isDecidedAbout } from '@tessarion/core';
import { EngineError } from '@tessarion/engine';
import { type ForecastRecord, findForecast } from '../forecasts/forecasts.js';
import type { TransferFacts } from '../forecasts/transfer-facts.js';
import type { TransferContext } from './context.js';

/** @throws {EngineError} `outdated` where it was never computed, or is not on record any more */
export async function forecastOf(context: TransferContext, id: string): Promise<ForecastRecord> {
  const { records } = context.installation;
  const forecast = await findForecast(records, id);
  if (!forecast?.result) throw new EngineError('outdated', 'The forecast is gone.', 'Make a new forecast.');
  return forecast;
}

/** The command by which what a transfer writes is looked at again, with all that was wished. */
function againOf({ record }: TransferContext, forecast: ForecastRecord): string {
  if (record.request !== null) return `tessarion request revise ${record.request}`;
  if (forecast.undoes !== null) return `tessarion undo ${forecast.undoes}`;
  const { from_path, onto_path, snapshot, method, wishes } = forecast;
  const of = (take: 'source' | 'destination'): string[] =>
    Object.entries(wishes.settlements).flatMap(([id, one]) => (one.take === take ? [id] : []));
  const lists = { only: wishes.only, except: wishes.except, take: of('source'), keep: of('destination') };
  const said = Object.entries(lists).flatMap(([name, list]) =>
    list.length === 0 ? [] : [`--${name} ${list.map(quoted).join(' ')}`],
  );
  if (snapshot !== null) return [`tessarion snapshot restore ${snapshot} --onto ${onto_path}`, ...said].join(' ');
  const replaces = method === 'replace' ? ['--replace'] : [];
  const rest = wishes.rest === null ? [] : [`--rest ${wishes.rest}`];
  return [`tessarion forecast --from ${from_path} --onto ${onto_path}`, ...replaces, ...said, ...rest].join(' ');
}

/** A word as a shell takes it. */
const quoted = (word: string): string => (/^[\w:/.@%+-]+$/.test(word) ? word : `'${word.replaceAll("'", "'\\''")}'`);

/**
 * @param again the command by which it is looked at again
 * @throws {EngineError} `outdated` where something differs from what was shown
 */
export async function compareWithForecast(
  context: TransferContext,
  forecast: ForecastRecord,
  facts: TransferFacts,
  again = againOf(context, forecast),
): Promise<void> {
  if (forecast.result?.fingerprint === facts.fingerprint && facts.unsettled === 0) return;
  const { records } = context.installation;
  const { id } = forecast;
  type Shown = Pick<ChangedItem, 'id' | 'hash' | 'title' | 'kind' | 'outcome' | 'collisions'>;
  const rows = (await records('forecast_item').where({ forecast_id: id }).select('item')) as { item: Shown }[];
  const shown = new Map(rows.flatMap(({ item }) => (isDecidedAbout(item) ? [[item.id, item] as const] : [])));
  const now = new Map([...facts.collector.items].filter(([, item]) => isDecidedAbout(item)));
  const changed = [
    ...[...now.values()].filter((item) => shown.get(item.id)?.hash !== item.hash),
    ...[...shown.values()].filter((item) => !now.has(item.id)),
  ].map((item) => `${item.kind} "${item.title}"`);
  if (JSON.stringify(forecast.result?.tasks ?? []) !== JSON.stringify(facts.tasks))
    changed.push('the tasks of the profile');
  const named = changed.slice(0, MOST_NAMED).join(', ');
  const more = changed.length > MOST_NAMED ? ` and ${changed.length - MOST_NAMED} more` : '';
  const why =
    changed.length > 0 ? `changed since: ${named}${more}` : `${counted(facts.unsettled, 'item')} to be decided`;
  throw new EngineError('outdated', `The forecast is outdated; ${why}. Nothing was written.`, `Look again: ${again}`);
}

const MOST_NAMED = 5;
