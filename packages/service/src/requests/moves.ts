import { afterEvent, isOpenRequest, type RequestEvent } from '@tessarion/core';
import { ProblemError } from '../problems.js';
import { publishEvent } from '../records/events.js';
import type { OnRecords } from '../records/open.js';
import { addHistory, type RequestRecord } from '../records/requests.js';
import { release } from './claims.js';

const REFUSED: Record<RequestEvent, string> = {
  ask: 'be sent to review',
  return: 'be returned',
  approve: 'be approved',
  lapse: 'lose its approval',
  schedule: 'be given a time',
  unschedule: 'lose its time',
  begin: 'be delivered',
  arrive: 'arrive',
  fail: 'fail',
  block: 'be blocked',
  undo: 'be undone',
  withdraw: 'be withdrawn',
};

/**
 * Moves a request on, as the state machine says, in the caller's transaction.
 *
 * @param by person who did it; null for the service itself
 * @throws {ProblemError} `conflict` where it may not happen in this state
 */
export async function move(
  trx: OnRecords,
  request: RequestRecord,
  event: RequestEvent,
  { at, by, words = '' }: { readonly at: Date; readonly by: string | null; readonly words?: string },
  changes: Partial<RequestRecord> = {},
): Promise<RequestRecord> {
  const state = afterEvent(request.state, event);
  if (!state)
    throw new ProblemError(
      'conflict',
      `Change request ${request.id} is ${request.state}, and cannot ${REFUSED[event]}.`,
      `See what may be done: tessarion request show ${request.id}`,
    );
  const changed = { ...changes, state, updated_at: at };
  await trx('change_request').where({ id: request.id }).update(changed);
  await addHistory(trx, request.id, { at, person: by, act: event, words });
  if (!isOpenRequest(state)) await release(trx, request.id);
  await tell(trx, request);
  return { ...request, ...changed };
}

/** Says that something about a request has changed. */
export const tell = (on: OnRecords, { id, site, onto_path }: RequestRecord): Promise<void> =>
  publishEvent(on, { type: 'request', request: id, site, onto: onto_path });
