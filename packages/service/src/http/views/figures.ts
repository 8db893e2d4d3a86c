import type { Figures } from '@tessarion/contract';
import type { Knex } from 'knex';
import type { OnRecords } from '../../ground/open.js';
import type { Sight } from '../../people/sight.js';

const WEEKS = 12;
const DAY_MS = 86_400_000;
/** Over so many weeks the hours of a day are averaged. */
const VISIT_WEEKS = 4;
/** The Mondays (UTC) of the last weeks, oldest first, as `2026-11-30`. */
function weeksUntil(now: Date): string[] {
  const today = Date.UTC(now.getUTCFullYear(), now.getUTCMonth(), now.getUTCDate());
  const monday = today - ((now.getUTCDay() + 6) % 7) * DAY_MS;
  return Array.from({ length: WEEKS }, (_one, i) =>
    new Date(monday - (WEEKS - 1 - i) * 7 * DAY_MS).toISOString().slice(0, 10),
  );
}

/** How the sites that may be read went over the last weeks. @param site only this one */
export async function figuresOf(on: OnRecords, sight: Sight, now: Date, site?: string): Promise<Figures> {
  const weeks = weeksUntil(now);
  const since = weeks[0] as string;
  const narrowed = (query: Knex.QueryBuilder, siteColumn: string, pathColumn: string): void => {
    sight.narrow(query, siteColumn, pathColumn);
    if (site !== undefined) query.where(siteColumn, site);
  };
  // Of each environment what was measured last in a week, then all of them together.
  const last = (columns: string, isThere: string) =>
    on
      .select(on.raw(`to_char(week, 'YYYY-MM-DD') AS week, ${columns}`))
      .from(
        on('measure as m')
          .join('environment as e', 'e.path', 'm.environment')
          .select(
            on.raw(
              "DISTINCT ON (m.environment, date_trunc('week', m.day)) date_trunc('week', m.day) AS week, m.up, m.down, m.bytes",
            ),
          )
          .where('m.day', '>=', since)
          .whereRaw(isThere)
          .modify((query) => narrowed(query, 'e.site', 'e.path'))
          .orderByRaw("m.environment, date_trunc('week', m.day), m.day DESC")
          .as('seen'),
      )
      .groupBy('week');
  const [drift, disk, visits, transfers] = await Promise.all([
    last('sum(up)::int AS up, sum(down)::int AS down', 'm.up IS NOT NULL') as unknown as Promise<
      Figures['drift'][number][]
    >,
    last('sum(bytes)::text AS bytes', 'm.bytes IS NOT NULL') as unknown as Promise<{ week: string; bytes: string }[]>,
    on('traffic_hour as h')
      .join('environment as e', 'e.path', 'h.environment')
      .where('e.kind', 'live')
      .where('h.at', '>=', new Date(now.getTime() - VISIT_WEEKS * 7 * DAY_MS))
      .modify((query) => narrowed(query, 'e.site', 'e.path'))
      .select(
        on.raw(
          `extract(hour FROM h.at AT TIME ZONE 'UTC')::int AS hour, sum(h.requests)::float AS requests,
           greatest(1, count(DISTINCT (h.at AT TIME ZONE 'UTC')::date))::float AS days`,
        ),
      )
      .groupBy('hour') as unknown as Promise<{ hour: number; requests: number; days: number }[]>,
    on('transfer as t')
      .where('t.ended_at', '>=', since)
      .modify((query) => narrowed(query, 't.site', 't.onto_path'))
      .select(
        on.raw(
          `to_char(date_trunc('week', t.ended_at AT TIME ZONE 'UTC'), 'YYYY-MM-DD') AS week,
           count(*) FILTER (WHERE t.state = 'done')::int AS done,
           count(*) FILTER (WHERE t.state = 'failed')::int AS failed,
           count(*) FILTER (WHERE t.state IN ('undone', 'stopped'))::int AS undone`,
        ),
      )
      .groupBy('week') as unknown as Promise<Figures['transfers'][number][]>,
  ]);
  // What nobody measured is not told as nothing.
  const known = [...drift, ...disk, ...transfers].map(({ week }) => week);
  const told = weeks.filter((week, i) => i === weeks.length - 1 || known.some((one) => one <= week));
  const of = <T extends { readonly week: string }>(rows: readonly T[], none: Omit<T, 'week'>): T[] =>
    told.map((week) => rows.find((one) => one.week === week) ?? ({ week, ...none } as T));
  const hours = new Map(visits.map((one) => [one.hour, Math.round((10 * one.requests) / one.days) / 10]));
  return {
    drift: of(drift, { up: 0, down: 0 }),
    disk: of(disk, { bytes: '0' }).map(({ week, bytes }) => ({ week, bytes: Number(bytes) })),
    visits: Array.from({ length: 24 }, (_one, hour) => ({ hour, requests: hours.get(hour) ?? 0 })),
    transfers: of(transfers, { done: 0, failed: 0, undone: 0 }),
  };
}
