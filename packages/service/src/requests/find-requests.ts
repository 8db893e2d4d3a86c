import type { QueryOf } from '@tessarion/contract';
import { readCursor, writeCursor } from '../ground/cursor.js';
import type { OnRecords } from '../ground/open.js';
import type { Sight } from '../people/sight.js';
import type { RequestRecord } from './requests.js';

/**
 * A page of the requests that somebody may see, newest first.
 *
 * @param person who asks: whose requests are `mine`, and for whom others are `waiting`
 * @returns with the cursor of the next page, null after the last one
 */
export async function findRequests(
  on: OnRecords,
  { limit = 50, cursor, whose, state, open, site, find }: QueryOf<'requestList'>,
  person: string,
  sight: Sight,
): Promise<{ requests: RequestRecord[]; next: string | null }> {
  const before = readCursor(cursor);
  const rows = on<RequestRecord>('change_request as r')
    .orderBy('created_at', 'desc')
    .orderBy('id', 'desc')
    .limit(limit + 1);
  sight.narrow(rows, 'site', 'onto_path');
  if (state !== undefined) rows.where({ state });
  if (site !== undefined) rows.where({ site });
  if (find !== undefined) {
    const like = `%${find.replace(/[\\%_]/g, '\\$&')}%`;
    rows.whereRaw('(title ILIKE :like OR author IN (SELECT id FROM person WHERE name ILIKE :like))', { like });
  }
  if (open !== undefined) rows.whereNotIn('state', ['delivered', 'undone', 'withdrawn']);
  if (whose === 'mine') rows.where({ author: person });
  if (whose === 'waiting')
    rows.whereRaw(
      `((author = :me AND state IN ('returned', 'blocked'))
        OR (author <> :me AND (state = 'in-review' OR (state = 'delivered' AND urgent IS NOT NULL))
          AND EXISTS (SELECT FROM request_reviewer v WHERE v.request_id = r.id AND (v.person_id = :me
            OR v.team IN (SELECT team FROM team_member WHERE person_id = :me)))
          AND NOT EXISTS (SELECT FROM request_verdict v WHERE v.request_id = r.id AND v.person_id = :me
            AND v.revision = r.revision AND NOT v.is_answered)))`,
      { me: person },
    );
  if (before) rows.whereRaw('(created_at, id) < (?::timestamptz, ?)', [before.at, before.id]);
  const found = (await rows) as RequestRecord[];
  const page = found.slice(0, limit);
  const last = page.at(-1);
  return {
    requests: page,
    next: found.length > limit && last ? writeCursor({ at: last.created_at.toISOString(), id: last.id }) : null,
  };
}
