import type { Failure, Forecast, ForecastWishes } from '@tessarion/contract';
import { EngineError } from '@tessarion/engine';
import { noForecast } from '../ground/absent.js';
import { newId } from '../ground/data-folder.js';
import { json, type OnRecords } from '../ground/open.js';
import { enqueue } from '../ground/queue.js';
import { type Doer, doneBy } from '../people/people.js';
import type { Installation } from '../transfers/installation.js';
import { forgetItems } from './forecast-items.js';

/** A forecast in the records. */
export interface ForecastRecord {
  readonly id: string;
  readonly state: 'computing' | 'ready' | 'failed';
  readonly from_path: string;
  readonly onto_path: string;
  readonly snapshot: string | null;
  /** The transfer that would be undone. */
  readonly undoes: string | null;
  readonly method: 'merge' | 'replace';
  readonly wishes: ForecastWishes;
  readonly person: string;
  readonly created_at: Date;
  readonly failure: Failure | null;
  readonly result: ForecastResult | null;
  /** The change request of which it becomes a revision, and who wanted it. */
  readonly request: string | null;
  readonly request_by: string | null;
  /** It is looked at again with the wishes that it had. */
  readonly follows: boolean;
}

/** What a forecast found, as it is kept. */
export type ForecastResult = Omit<
  Forecast,
  'id' | 'state' | 'from' | 'onto' | 'snapshot' | 'undoes' | 'method' | 'wishes' | 'createdAt' | 'failure'
>;

/** @returns undefined where there is none, or none any more */
export const findForecast = async (on: OnRecords, id: string | null): Promise<ForecastRecord | undefined> =>
  id === null ? undefined : ((await on('forecast').where({ id }).first()) as ForecastRecord | undefined);

/** @throws {ProblemError} `not-found` */
export async function getForecast(on: OnRecords, id: string): Promise<ForecastRecord> {
  const record = await findForecast(on, id);
  if (!record) throw noForecast(id);
  return record;
}

/** The same, and nobody else changes it until the transaction ends. @throws {ProblemError} `not-found` */
export async function holdForecast(trx: OnRecords, id: string): Promise<ForecastRecord> {
  const record = (await trx('forecast').where({ id }).forUpdate().first()) as ForecastRecord | undefined;
  if (!record) throw noForecast(id);
  return record;
}

/** A forecast that is asked for. */
export type NewForecast = Pick<ForecastRecord, 'from_path' | 'onto_path' | 'method' | 'wishes'> &
  Partial<Pick<ForecastRecord, 'snapshot' | 'undoes' | 'request' | 'request_by' | 'follows'>>;

/** Records a forecast that is to be computed by who records it. @returns its id */
export async function recordForecast(
  on: OnRecords,
  { wishes, ...wanted }: NewForecast,
  by: Doer,
  at: Date,
): Promise<string> {
  const id = newId('f');
  await on('forecast').insert({
    ...wanted,
    id,
    state: 'computing',
    wishes: json(wishes),
    ...doneBy(by),
    created_at: at,
  });
  return id;
}

/** Records a forecast and wakes a worker, both in the caller's transaction. @returns its id */
export async function beginForecast(trx: OnRecords, wanted: NewForecast, by: Doer, at: Date): Promise<string> {
  const id = await recordForecast(trx, wanted, by, at);
  await enqueue(trx, 'forecast', id);
  return id;
}

/** Has a forecast computed anew by other wishes. */
export async function beginAnew(trx: OnRecords, id: string, wishes: ForecastWishes): Promise<void> {
  await trx('forecast')
    .where({ id })
    .update({ state: 'computing', failure: null, tries: 0, kept_by: null, wishes: json(wishes) });
  await enqueue(trx, 'forecast', id);
}

/** How often a forecast is begun: a worker that dies of one takes what else it does with it. */
const MOST_TRIES = 3;

/** @throws {EngineError} `command-failed` where the workers that computed it before all ended with it */
export async function countTry(on: OnRecords, id: string): Promise<void> {
  const [begun] = (await on('forecast').where({ id }).increment('tries', 1).returning('tries')) as { tries: number }[];
  if (begun && begun.tries > MOST_TRIES)
    throw new EngineError(
      'command-failed',
      `Its worker ended ${MOST_TRIES} times while it was computed; it may be too large for the machine.`,
      'Choose a part of it, such as --only table:NAME, or give the machine more memory.',
    );
}

/** That forecast as it was begun: neither has another worker been quicker, nor has somebody wished otherwise since. */
const asBegun = (on: OnRecords, { id, wishes }: ForecastRecord) =>
  on('forecast')
    .where({ id, state: 'computing' })
    .whereRaw('wishes = ?', [json(wishes)]);

/**
 * Records what was found.
 *
 * @param storeItems what belongs to it, in the same transaction
 * @returns false where the forecast is no longer that one
 */
export function endForecast(
  { records }: Pick<Installation, 'records'>,
  record: ForecastRecord,
  result: ForecastResult,
  storeItems: (trx: OnRecords) => Promise<void>,
): Promise<boolean> {
  return records.transaction(async (trx) => {
    if (!(await asBegun(trx, record).forUpdate().first('id'))) return false;
    await storeItems(trx);
    await trx('forecast')
      .where({ id: record.id })
      .update({ state: 'ready', result: json(result) });
    return true;
  });
}

/** Records why it could not be computed. @returns false where the forecast is no longer that one */
export const failForecast = async (on: OnRecords, record: ForecastRecord, failure: Failure): Promise<boolean> =>
  (await asBegun(on, record).update({ state: 'failed', failure: json(failure) })) > 0;

/** Notes which worker has what a forecast found. */
export async function noteKeeper(on: OnRecords, id: string, worker: number): Promise<void> {
  await on('forecast').where({ id }).update({ kept_by: worker });
}

/** Forgets a forecast with its items. */
export async function forgetForecast(trx: OnRecords, id: string): Promise<void> {
  await forgetItems(trx, id);
  await trx('forecast').where({ id }).delete();
}
