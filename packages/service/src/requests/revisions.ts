import type { ForecastWishes } from '@tessarion/contract';
import { counted, isEditable, isOpenRequest } from '@tessarion/core';
import { beginForecast, type ForecastRecord, forgetForecast } from '../forecasts/forecasts.js';
import type { OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { doerOf } from '../people/people.js';
import type { Installation } from '../transfers/installation.js';
import { claim } from './claims.js';
import { tell } from './moves.js';
import {
  addHistory,
  addRevision,
  getRequest,
  holdRequest,
  itemsOfForecast,
  type RequestRecord,
  type RevisionItem,
  type RevisionRecord,
  revisionsOf,
} from './requests.js';
import { settleApproval } from './standing.js';
import { tellPeople } from './tell.js';

/** What a person chose themselves; what only comes along with that is not claimed. */
export const chosen = (items: readonly RevisionItem[]): string[] =>
  items.filter((item) => item.takenAlongFor === null).map((item) => item.id);

/** Notes that somebody did something to a request, which makes claims anew that had lapsed. */
export async function noteActivity(trx: OnRecords, id: string, at: Date): Promise<void> {
  await trx('change_request').where({ id }).update({ updated_at: at });
  const request = await getRequest(trx, id);
  if (!isOpenRequest(request.state) || (await trx('claim').where({ request_id: id }).first('item'))) return;
  await claim(trx, request, chosen((await revisionsOf(trx, id)).at(-1)?.items ?? []));
}

/**
 * Has a request's ends compared again, for its next revision.
 *
 * @param follows with the wishes that it had
 */
export async function lookAgain(
  trx: OnRecords,
  request: RequestRecord,
  wishes: ForecastWishes,
  { at, by, follows }: { readonly at: Date; readonly by: string; readonly follows: boolean },
): Promise<string> {
  const { from_path, onto_path, undoes } = request;
  const wanted = { from_path, onto_path, undoes, method: 'merge' as const, wishes };
  const revision = { request: request.id, request_by: by, follows };
  const id = await beginForecast(trx, { ...wanted, ...revision }, await doerOf(trx, by), at);
  await trx('change_request').where({ id: request.id }).update({ revising: id, looked_at: at });
  await tell(trx, request);
  return id;
}

/** Items that two revisions differ in. */
export function difference(
  former: readonly RevisionItem[],
  current: readonly RevisionItem[],
): { added: string[]; changed: string[]; gone: string[] } {
  const before = new Map(former.map((item) => [item.id, item]));
  const now = new Map(current.map((item) => [item.id, item]));
  const isOther = (item: RevisionItem): boolean => {
    const known = before.get(item.id);
    return known !== undefined && (known.hash !== item.hash || known.outcome !== item.outcome);
  };
  return {
    added: current.filter((item) => !before.has(item.id)).map((item) => item.id),
    changed: current.filter(isOther).map((item) => item.id),
    gone: former.filter((item) => !now.has(item.id)).map((item) => item.id),
  };
}

/**
 * Takes a forecast that was computed for a request as its next revision; where nothing differs, as the newer look at
 * the same one. Approvals fall for what changed.
 */
export async function takeRevision(installation: Installation, forecast: ForecastRecord): Promise<void> {
  const { records, now } = installation;
  const { request: id, request_by: by } = forecast;
  if (id === null || by === null) return;
  await records.transaction(async (trx) => {
    const request = await holdRequest(trx, id);
    if (request.revising !== forecast.id) return;
    const done = { revising: null };
    if (forecast.state !== 'ready' || !isEditable(request.state)) {
      await trx('change_request').where({ id }).update(done);
      if (forecast.failure) await noteFailedLook(trx, id, { at: now(), person: by, words: forecast.failure.message });
      return tell(trx, request);
    }
    const items = await itemsOfForecast(trx, forecast.id);
    const former = (await revisionsOf(trx, id)).at(-1) as RevisionRecord;
    const { added, changed, gone } = difference(former.items, items);
    const isSame = added.length + changed.length + gone.length === 0;
    const number = isSame ? former.number : former.number + 1;
    if (isSame) {
      await trx('request_revision').where({ request_id: id, number }).update({ forecast: forecast.id });
      await forget(trx, former.forecast);
    } else {
      await addRevision(trx, { request_id: id, number, forecast: forecast.id, at: now(), person_id: by, items });
      await claim(trx, request, chosen(items));
      const words = [
        [added, 'more'],
        [changed, 'changed'],
        [gone, 'gone'],
      ] as const;
      const said = words.flatMap(([list, word]) =>
        list.length > 0 ? [`${counted(list.length, 'item')} ${word}`] : [],
      );
      const told = `${said.join(', ')}.`;
      await addHistory(trx, id, { at: now(), person: by, act: 'revise', words: told });
      if (request.state !== 'draft') await tellPeople(trx, request, { kind: 'revised', by, at: now(), words: told });
    }
    await trx('change_request')
      .where({ id })
      .update({ ...done, forecast: forecast.id, revision: number, ...(isSame ? {} : { updated_at: now() }) });
    await settleApproval(trx, { ...request, ...done, forecast: forecast.id, revision: number }, now(), null);
    await tell(trx, request);
  });
}

/** What fails in the same way each time is told once. */
async function noteFailedLook(
  trx: OnRecords,
  id: string,
  said: { readonly at: Date; readonly person: string; readonly words: string },
): Promise<void> {
  const newest = (await trx('request_event').where({ request_id: id }).orderBy('id', 'desc').first('act', 'words')) as
    | { act: string; words: string }
    | undefined;
  if (newest?.act === 'look' && newest.words === said.words) return;
  await addHistory(trx, id, { ...said, act: 'look' });
}

/** A look in which nothing was found that the next one does not have. */
async function forget(trx: OnRecords, forecast: string): Promise<void> {
  if (await trx('transfer').where({ forecast }).first('id')) return;
  if (await trx('request_revision').where({ forecast }).first('number')) return;
  await forgetForecast(trx, forecast);
}

/** @throws {ProblemError} `conflict` where a request is no longer to be changed */
export function mustBeEditable(request: RequestRecord): void {
  if (!isEditable(request.state))
    throw new ProblemError(
      'conflict',
      `Change request ${request.id} is ${request.state}.`,
      'Open another one for what is still to be done.',
    );
}
