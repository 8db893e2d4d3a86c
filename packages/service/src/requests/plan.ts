import type { DeliveryPlan, Freeze as ShownFreeze } from '@tessarion/contract';
import {
  type DeliveryRules,
  deliverable,
  type Freeze,
  frozenOf,
  mayDeliverAt,
  type Stretch,
  type WeeklyWindow,
} from '@tessarion/core';
import { noSite } from '../records/absent.js';
import type { OnRecords } from '../records/open.js';

/** How far the plan looks ahead. */
const WEEKS_MS = 5 * 7 * 86_400_000;

interface FreezeRow {
  readonly id: string;
  readonly reason: string;
  readonly scope: string;
  readonly time: Freeze;
  readonly created_at: Date;
  readonly person: string;
}

export const toFreeze = (row: FreezeRow): ShownFreeze => ({
  id: row.id,
  reason: row.reason,
  scope: row.scope,
  time: row.time,
  person: row.person,
  createdAt: row.created_at.toISOString(),
});

export async function listFreezes(on: OnRecords): Promise<FreezeRow[]> {
  return on('freeze')
    .join('person', 'person.id', 'freeze.person_id')
    .orderBy('freeze.created_at')
    .select('freeze.*', 'person.name as person');
}

/** What holds for deliveries onto a site's live environment. @throws {ProblemError} `not-found` */
export async function rulesOfSite(
  on: OnRecords,
  site: string,
): Promise<DeliveryRules & { readonly rows: readonly FreezeRow[] }> {
  const found = (await on('site').where({ name: site }).first('client', 'time_zone')) as
    | { client: string; time_zone: string }
    | undefined;
  if (!found) throw noSite(site);
  const windows = (await on('delivery_window').where({ site }).orderBy('position')) as WeeklyWindow[];
  const rows = (await listFreezes(on)).filter(({ scope }) =>
    ['everything', `client:${found.client}`, site].includes(scope),
  );
  return {
    zone: found.time_zone,
    windows: windows.map(({ days, from, until }) => ({ days, from, until })),
    freezes: rows.map((row) => row.time),
    rows,
  };
}

const shown = ({ from, until }: Stretch) => ({
  from: new Date(from).toISOString(),
  until: new Date(until).toISOString(),
});

const iso = (at: number | undefined): string | null => (at === undefined ? null : new Date(at).toISOString());

/** When one may deliver onto a site's live environment, as people are shown it. */
export async function planOf(on: OnRecords, site: string, now: Date): Promise<DeliveryPlan> {
  const rules = await rulesOfSite(on, site);
  const span = { from: now.getTime(), until: now.getTime() + WEEKS_MS };
  const moment = mayDeliverAt(rules, span.from);
  const due = (await on('change_request')
    .where({ site, state: 'scheduled' })
    .orderBy('deliver_at')
    .select('id', 'title', 'deliver_at')) as { id: string; title: string; deliver_at: Date }[];
  return {
    site,
    timeZone: rules.zone,
    windows: rules.windows.map((one) => ({ ...one, days: [...one.days] })),
    freezes: rules.rows.map(toFreeze),
    now: {
      allowed: moment.allowed,
      because: moment.allowed ? null : moment.because,
      until: moment.allowed ? iso(moment.until) : null,
      next: moment.allowed ? null : iso(moment.next),
    },
    openings: deliverable(rules, span).map(shown),
    frozen: frozenOf(rules.freezes, rules.zone, span).map(shown),
    deliveries: due.map((one) => ({ request: one.id, title: one.title, at: one.deliver_at.toISOString() })),
  };
}
