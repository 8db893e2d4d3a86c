import { READY_ROLES, readScope } from '@tessarion/core';
import { previewPath } from '../fleet/preview-path.js';
import type { OnRecords } from '../ground/open.js';
import type { Holder } from './pass.js';

/** By holder the sites and environments whose gates they may pass; `*` for all. */
export type Holders = Readonly<Record<string, readonly string[]>>;

/** Whether somebody may pass the gate of an environment. Whoever knows a copy's own login needs nothing else. */
export function mayHold(holders: Holders, holder: Holder, environment: string): boolean {
  if (holder === 'login') return true;
  return (holders[holder] ?? []).some(
    (place) => place === '*' || place === environment || environment.startsWith(`${place}/`),
  );
}

/** Who may pass gates now: people who may read an environment, and guests who are shown it. */
export async function holdersOf(on: OnRecords, now: Date): Promise<Holders> {
  const holders: Record<string, string[]> = {};
  const add = (holder: Holder, places: readonly string[]): void => {
    holders[holder] = [...(holders[holder] ?? []), ...places];
  };
  const sites = (await on('site').select('name', 'client')) as { name: string; client: string }[];
  const { rows: grants } = await on.raw<{
    rows: { person: string; role: string; scope: string; own: string[] | null }[];
  }>(
    `SELECT p.id AS person, g.role, g.scope, r.permissions AS own
     FROM person p
       JOIN role_grant g ON g.person_id = p.id OR g.team IN (SELECT team FROM team_member m WHERE m.person_id = p.id)
       LEFT JOIN role r ON r.name = g.role
     WHERE p.state = 'active'`,
  );
  for (const { person, role, scope, own } of grants) {
    const permissions: readonly string[] = READY_ROLES.find(({ name }) => name === role)?.permissions ?? own ?? [];
    if (!permissions.includes('site.read')) continue;
    const given = readScope(scope);
    if (given.to === 'everything') add(`person ${person}`, ['*']);
    else if (given.to === 'site') add(`person ${person}`, [given.site]);
    else if (given.to === 'environment') add(`person ${person}`, [given.environment]);
    else
      add(
        `person ${person}`,
        sites.filter(({ client }) => client === given.client).map(({ name }) => name),
      );
  }
  const { rows: looks } = await on.raw<{ rows: LookRow[] }>(
    `SELECT l.id, k.environment, q.site, q.id AS request
     FROM guest_link l JOIN guest_look k ON k.link_id = l.id LEFT JOIN change_request q ON q.id = k.request_id
     WHERE l.ended_at IS NULL AND l.expires_at > :now`,
    { now },
  );
  for (const { id, environment, site, request } of looks)
    add(`guest ${id}`, [environment ?? previewPath({ site: site as string, id: request as string })]);
  return holders;
}

interface LookRow {
  readonly id: string;
  readonly environment: string | null;
  readonly site: string | null;
  readonly request: string | null;
}
