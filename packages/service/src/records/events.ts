import type { StreamEvent } from '@tessarion/contract';
import { json, type OnRecords } from './open.js';

export const EVENT_CHANNEL = 'tessarion_event';

/** Records an event for the stream and wakes those who listen, when the transaction commits. */
export async function publishEvent(on: OnRecords, event: StreamEvent): Promise<void> {
  await on.raw(
    `WITH added AS (INSERT INTO event (at, data) VALUES (clock_timestamp(), ?::jsonb) RETURNING id) SELECT pg_notify('${EVENT_CHANNEL}', id::text) FROM added`,
    [json(event)],
  );
}

/** Events after an id, oldest first. */
export async function eventsAfter(
  on: OnRecords,
  id: number,
  limit: number,
): Promise<{ id: number; data: StreamEvent }[]> {
  return on('event').where('id', '>', id).orderBy('id').limit(limit).select('id', 'data');
}

export async function lastEventId(on: OnRecords): Promise<number> {
  const row = await on('event').max<{ max: number | null }[]>('id as max');
  return row[0]?.max ?? 0;
}

/** Events are kept for a day: long enough to resume a stream. */
export async function forgetOldEvents(on: OnRecords): Promise<void> {
  await on.raw("DELETE FROM event WHERE at < clock_timestamp() - interval '1 day'");
}
