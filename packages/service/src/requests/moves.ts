import { afterEvent, isAnnounced, isOpenRequest, type NoticeKind, type RequestEvent } from '@tessarion/core';
import { publishEvent } from '../ground/events.js';
import type { OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { announce } from '../notices/announce.js';
import { release, waitingBehind } from './claims.js';
import { addHistory, type RequestRecord } from './requests.js';
import { tellPeople } from './tell.js';

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
  const moved = { ...request, ...changed };
  const kind = NEWS[event];
  // Nobody was asked about a draft.
  if (kind && !(kind === 'withdrawn' && request.state === 'draft'))
    await tellPeople(trx, moved, { kind, by, at, words });
  const type = `tessarion.request.${kind}`;
  if (isAnnounced(type))
    await announce(trx, {
      type,
      at,
      site: moved.site,
      onto: moved.onto_path,
      subject: moved.id,
      data: { title: moved.title, state, from: moved.from_path, revision: moved.revision, transfer: moved.transfer },
    });
  if (!isOpenRequest(state)) await letGo(trx, moved, by, at);
  await tell(trx, request);
  return moved;
}

/** What people are told of an event; what they are told of verdicts and conversations is told there. */
const NEWS: Partial<Record<RequestEvent, NoticeKind>> = {
  ask: 'review-asked',
  approve: 'approved',
  schedule: 'scheduled',
  block: 'blocked',
  fail: 'blocked',
  arrive: 'delivered',
  undo: 'undone',
  withdraw: 'withdrawn',
};

/** Lets go of a request's claims; whoever waited for one is told. */
export async function letGo(trx: OnRecords, request: RequestRecord, by: string | null, at: Date): Promise<void> {
  const waiting = await waitingBehind(trx, request);
  await release(trx, request.id);
  for (const next of waiting)
    await tellPeople(trx, next, {
      kind: 'freed',
      by,
      at,
      words: request.title,
      concerned: { 'next-in-line': [next.author] },
    });
}

/** Says that something about a request has changed. */
export const tell = (on: OnRecords, { id, site, onto_path }: RequestRecord): Promise<void> =>
  publishEvent(on, { type: 'request', request: id, site, onto: onto_path });
