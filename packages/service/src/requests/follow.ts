import { holdRequest, type RequestRecord } from '../records/requests.js';
import type { Installation } from '../work/context.js';
import type { ForecastRecord } from '../work/forecasting.js';
import { lookAgain } from './revisions.js';

/** How old what reviewers look at may become. */
const LOOK_EVERY_MS = 10 * 60_000;
/** Looks at a time, so that what people wait for is not kept waiting. */
const AT_ONCE = 4;
const FOLLOWED = ['in-review', 'approved', 'scheduled'] as const;

/**
 * Looks again at the ends of requests that people are looking at, oldest look first: work that was done since becomes
 * their next revision.
 */
export async function followSources({ records, environments, now }: Installation): Promise<void> {
  const due = (await records('change_request as r')
    .join('forecast as f', 'f.id', 'r.forecast')
    .whereIn('r.state', FOLLOWED)
    .whereNull('r.revising')
    .where('f.created_at', '<', new Date(now().getTime() - LOOK_EVERY_MS))
    .orderBy('f.created_at')
    .limit(AT_ONCE)
    .select('r.id')) as Pick<RequestRecord, 'id'>[];
  for (const { id } of due)
    await records.transaction(async (trx) => {
      const request = await holdRequest(trx, id);
      if (request.revising !== null || !FOLLOWED.some((state) => state === request.state)) return;
      for (const path of [request.from_path, request.onto_path])
        if ((await environments.find(trx, path))?.status !== 'ready') return;
      const { wishes } = (await trx<ForecastRecord>('forecast')
        .where({ id: request.forecast })
        .first()) as ForecastRecord;
      await lookAgain(trx, request, wishes, { at: now(), by: request.author, follows: true });
    });
}
