import type { DeliveryMoment, DeliveryPlan, Freeze as ShownFreeze } from '@tessarion/contract';
import {
  type DeliveryRules,
  deliverable,
  type FreezableSite,
  type Freeze,
  frozenOf,
  isFreezeFor,
  mayDeliverAt,
  type Stretch,
  type WeeklyWindow,
} from '@tessarion/core';
import { noSite } from '../ground/absent.js';
import { etagOf } from '../ground/entity-tag.js';
import type { OnRecords } from '../ground/open.js';

/** The entity tag of a site's windows. */
export const windowsTag = (windows: DeliveryRules['windows']): string => etagOf({ windows });

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

/** A freeze as the interface shows it. */
export const toFreeze = (row: FreezeRow): ShownFreeze => ({
  id: row.id,
  reason: row.reason,
  scope: row.scope,
  time: row.time,
  person: row.person,
  createdAt: row.created_at.toISOString(),
});

/** All freezes, in the order in which they were made. */
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
  const found = (await on('site').where({ name: site }).first('name', 'client', 'tags', 'time_zone')) as
    | (FreezableSite & { time_zone: string })
    | undefined;
  if (!found) throw noSite(site);
  const windows = (await on('delivery_window').where({ site }).orderBy('position')) as WeeklyWindow[];
  const rows = (await listFreezes(on)).filter(({ scope }) => isFreezeFor(scope, found));
  return {
    zone: found.time_zone,
    windows: windows.map(({ days, from, until }) => ({ days, from, until })),
    freezes: rows.map((row) => row.time),
    rows,
  };
}

/** Sites of which there is something to plan around: windows, freezes that are not for everything, or deliveries. */
export const plannedSites = (on: OnRecords) =>
  on('site as s')
    .orderBy('name')
    .select('name')
    .whereRaw(
      `(EXISTS (SELECT FROM delivery_window w WHERE w.site = s.name)
        OR EXISTS (SELECT FROM "freeze" AS f WHERE f.scope IN (s.name, 'client:' || s.client)
          OR f.scope LIKE 'tag:%' AND jsonb_exists(s.tags, substr(f.scope, 5)))
        OR EXISTS (SELECT FROM change_request r WHERE r.site = s.name AND r.state = 'scheduled'))`,
    );

const shown = ({ from, until }: Stretch) => ({
  from: new Date(from).toISOString(),
  until: new Date(until).toISOString(),
});

const iso = (at: number | undefined): string | null => (at === undefined ? null : new Date(at).toISOString());

/** What the rules say of a moment, as people are shown it. */
export function momentAt(rules: DeliveryRules, at: Date): DeliveryMoment {
  const moment = mayDeliverAt(rules, at.getTime());
  return {
    allowed: moment.allowed,
    because: moment.allowed ? null : moment.because,
    until: moment.allowed ? iso(moment.until) : null,
    next: moment.allowed ? null : iso(moment.next),
  };
}

/**
 * When one may deliver onto a site's live environment, as people are shown it.
 *
 * @param asked the moment that is looked at
 */
export async function planOf(on: OnRecords, site: string, now: Date, asked = now): Promise<DeliveryPlan> {
  const rules = await rulesOfSite(on, site);
  const span = { from: now.getTime(), until: now.getTime() + WEEKS_MS };
  const due = (await on('change_request')
    .where({ site, state: 'scheduled' })
    .orderBy('deliver_at')
    .select('id', 'title', 'deliver_at')) as { id: string; title: string; deliver_at: Date }[];
  return {
    site,
    timeZone: rules.zone,
    windows: rules.windows.map((one) => ({ ...one, days: [...one.days] })),
    etag: windowsTag(rules.windows),
    freezes: rules.rows.map(toFreeze),
    moment: momentAt(rules, asked),
    openings: deliverable(rules, span).map(shown),
    frozen: frozenOf(rules.freezes, rules.zone, span).map(shown),
    deliveries: due.map((one) => ({ request: one.id, title: one.title, at: one.deliver_at.toISOString() })),
  };
}
