import type { QuietHours as ShownQuiet } from '@tessarion/contract';
import { quietHours } from '@tessarion/core';
import type { Ground } from '../ground/ground.js';
import type { OnRecords } from '../ground/open.js';
import type { Front } from './front.js';

const KEPT_MS = 8 * 7 * 86_400_000;
/** How long a delivery should be able to take its time. */
const HOURS = 3;

/** Takes what the front has counted into the records; what a site had long ago is forgotten. */
export async function keepTraffic({ records, front, now }: Ground & { readonly front: Front }): Promise<void> {
  const taken = await front.takeTraffic();
  const rows = Object.entries(taken).flatMap(([environment, hours]) =>
    Object.entries(hours).map(([hour, requests]) => ({ environment, at: `${hour}:00:00.000Z`, requests })),
  );
  if (rows.length > 0)
    await records.raw(
      `INSERT INTO traffic_hour (environment, at, requests)
       SELECT * FROM unnest(?::text[], ?::timestamptz[], ?::bigint[])
       ON CONFLICT (environment, at) DO UPDATE SET requests = traffic_hour.requests + excluded.requests`,
      [rows.map((one) => one.environment), rows.map((one) => one.at), rows.map((one) => one.requests)],
    );
  await records('traffic_hour')
    .where('at', '<', new Date(now().getTime() - KEPT_MS))
    .delete();
}

/** When few visitors come to a site's live environment, as far as its traffic goes through the gateway. */
export async function quietOf(on: OnRecords, site: string, now: Date): Promise<ShownQuiet> {
  const { time_zone: zone } = (await on('site').where({ name: site }).first('time_zone')) as { time_zone: string };
  const rows = (await on('traffic_hour')
    .where({ environment: `${site}/live` })
    .orderBy('at')
    .select('at', 'requests')) as { at: Date; requests: string }[];
  const [first] = rows;
  if (!first) return { site, since: null, proposal: null };
  const counts = rows.map((one) => ({ at: one.at.getTime(), requests: Number(one.requests) }));
  const found = quietHours(counts, zone, { from: first.at.getTime(), until: now.getTime() }, HOURS);
  return {
    site,
    since: first.at.toISOString(),
    proposal: found
      ? {
          window: { ...found.window, days: [...found.window.days] },
          quiet: Math.round(found.quiet * 10) / 10,
          usual: Math.round(found.usual * 10) / 10,
        }
      : null,
  };
}
