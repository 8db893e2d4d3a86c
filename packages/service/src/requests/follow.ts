import { getForecast } from '../forecasts/forecasts.js';
import type { Installation } from '../transfers/installation.js';
import { holdRequest, type RequestRecord } from './requests.js';
import { lookAgain } from './revisions.js';

/** How old what reviewers look at may become. */
const LOOK_EVERY_MS = 10 * 60_000;
const FOLLOWED = ['in-review', 'approved', 'scheduled'] as const;

/**
 * Looks again at the ends of a request that people are looking at: work that was done since becomes its next revision.
 * One at a time, the oldest look first, so that what people wait for is not kept waiting. A look that fails counts as
 * well, and an end that is not there to be looked at is passed over: neither keeps others from their turn.
 */
export async function followSources({ records, now }: Installation): Promise<void> {
  const due = (await records('change_request as r')
    .whereIn('r.state', FOLLOWED)
    .whereNull('r.revising')
    .whereRaw('COALESCE(r.looked_at, r.created_at) < ?', [new Date(now().getTime() - LOOK_EVERY_MS)])
    .whereRaw(
      `NOT EXISTS (SELECT FROM (VALUES (r.from_path), (r.onto_path)) AS side (path)
         WHERE NOT EXISTS (SELECT FROM environment e WHERE e.path = side.path AND e.status = 'ready'))`,
    )
    .orderByRaw('COALESCE(r.looked_at, r.created_at), r.id')
    .first('r.id')) as Pick<RequestRecord, 'id'> | undefined;
  if (!due) return;
  await records.transaction(async (trx) => {
    const request = await holdRequest(trx, due.id);
    if (request.revising !== null || !FOLLOWED.some((state) => state === request.state)) return;
    const { wishes } = await getForecast(trx, request.forecast);
    await lookAgain(trx, request, wishes, { at: now(), by: request.author, follows: true });
  });
}
