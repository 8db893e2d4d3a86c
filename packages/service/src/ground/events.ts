import type { StreamEvent } from '@tessarion/contract';
import { json, type OnRecords } from './open.js';

/** The channel of the records' database on which new events are announced. */
export const EVENT_CHANNEL = 'tessarion_event';

/** Records an event for the stream and wakes those who listen, when the transaction commits. */
export const publishEvent = (on: OnRecords, event: StreamEvent): Promise<void> => publishEvents(on, [event]);

/** Records events for the stream and wakes those who listen once. */
export async function publishEvents(on: OnRecords, events: readonly StreamEvent[]): Promise<void> {
  if (events.length === 0) return;
  await on.raw(
    `WITH added AS (INSERT INTO event (at, data)
        SELECT clock_timestamp(), one.value FROM jsonb_array_elements(?::jsonb) WITH ORDINALITY AS one ORDER BY one.ordinality
        RETURNING id)
      SELECT pg_notify('${EVENT_CHANNEL}', max(id)::text) FROM added`,
    [json(events)],
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

/** Id of the newest event; 0 where there is none. */
export async function lastEventId(on: OnRecords): Promise<number> {
  const row = await on('event').max<{ max: number | null }[]>('id as max');
  return row[0]?.max ?? 0;
}

/** Events are kept for a day: long enough to resume a stream. */
export async function forgetOldEvents(on: OnRecords): Promise<void> {
  await on.raw("DELETE FROM event WHERE at < clock_timestamp() - interval '1 day'");
}
