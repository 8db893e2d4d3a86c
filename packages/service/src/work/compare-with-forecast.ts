import { EngineError } from '@tessarion/engine';
import type { TransferContext } from './context.js';
import type { ForecastRecord } from './forecasting.js';
import type { TransferFacts } from './transfer-facts.js';

/** @throws {EngineError} `outdated` where it was never computed, or is not on record any more */
export async function forecastOf(context: TransferContext, id: string): Promise<ForecastRecord> {
  const { records } = context.installation;
  const forecast = (await records<ForecastRecord>('forecast').where({ id }).first()) as ForecastRecord | undefined;
  if (!forecast?.result) throw new EngineError('outdated', 'The forecast is gone.', 'Make a new forecast.');
  return forecast;
}

/** How what a transfer writes is looked at again. */
const againOf = ({ record }: TransferContext, { from_path, onto_path }: ForecastRecord): string =>
  record.request === null
    ? `tessarion forecast --from ${from_path} --onto ${onto_path}`
    : `tessarion request revise ${record.request}`;

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
  const shown = new Map(
    (
      (await records('forecast_item').where({ forecast_id: id }).select('item')) as {
        item: { id: string; hash: string; title: string; kind: string };
      }[]
    ).map(({ item }) => [item.id, item]),
  );
  const changed: string[] = [];
  for (const item of facts.collector.items.values())
    if (shown.get(item.id)?.hash !== item.hash) changed.push(`${item.kind} "${item.title}"`);
  for (const item of shown.values())
    if (!facts.collector.items.has(item.id)) changed.push(`${item.kind} "${item.title}"`);
  const named = changed.slice(0, 5).join(', ');
  throw new EngineError(
    'outdated',
    `The forecast is outdated; changed since: ${named}${changed.length > 5 ? ` and ${changed.length - 5} more` : ''}. Nothing was written.`,
    `Look again: ${again}`,
  );
}
