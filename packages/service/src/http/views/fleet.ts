import type { Environment, EnvironmentState, Site } from '@tessarion/contract';
import { type FreezableSite, type Freeze, formatLocation, frozenOf, isFreezeFor, type Profile } from '@tessarion/core';
import type { EnvironmentRecord } from '../../fleet/environments.js';
import { profileOfSite } from '../../fleet/profiles.js';
import { type SiteRecord, siteTag } from '../../fleet/sites.js';
import { etagOf } from '../../ground/entity-tag.js';
import { iso, type OnRecords } from '../../ground/open.js';
import type { Sight } from '../../people/sight.js';
import { listFreezes } from '../../plans/plan.js';
import type { Installation } from '../../transfers/installation.js';
import { type Move, type TransferRecord, toTransfer } from '../../transfers/transfers.js';

const scheduleOf = ({ from, at, days }: NonNullable<EnvironmentRecord['schedule']>) => ({ from, at, days: [...days] });

/** The entity tag of what an edit can change of an environment. */
export const environmentTag = (record: Pick<EnvironmentRecord, 'description' | 'schedule'>): string =>
  etagOf({ description: record.description, schedule: record.schedule && scheduleOf(record.schedule) });

interface Moves {
  readonly running?: TransferRecord;
  readonly last?: TransferRecord;
}

/** Refusals before anything is written, by the code of their failure: there is nothing to look at on the environment. */
const REFUSED: ReadonlySet<string> = new Set(['outdated', 'closed']);

const wroteNothing = ({ failure, isPastSwitch, remains }: LastMove): boolean =>
  failure !== null && REFUSED.has(failure.code) && !isPastSwitch && remains.length === 0;

type LastMove = Pick<Move, 'state' | 'acknowledged' | 'failure' | 'remains' | 'isPastSwitch'>;

/** The first state that holds. */
export function stateOf(
  record: Pick<EnvironmentRecord, 'unreached' | 'status' | 'drift'>,
  { last, running }: { readonly last?: LastMove | undefined; readonly running?: unknown },
  frozen: string | undefined,
): { state: EnvironmentState; reason: string } {
  if (record.unreached) return { state: 'not-reached', reason: record.unreached.problem };
  if (last && !last.acknowledged && last.state === 'failed' && !wroteNothing(last))
    return { state: 'failed', reason: last.failure?.message ?? 'The last transfer failed.' };
  if (running || record.status !== 'ready') return { state: 'working', reason: running ? '' : 'Being made or removed' };
  if (frozen !== undefined) return { state: 'frozen', reason: frozen };
  const { drift } = record;
  if (drift && drift.up + drift.down > 0)
    return { state: 'drifted', reason: `${drift.up} ${drift.up === 1 ? 'item waits' : 'items wait'} to go up` };
  return { state: 'in-step', reason: '' };
}

/** @param frozen why nothing may be delivered onto it now; undefined where it may */
export function toEnvironment(
  record: EnvironmentRecord,
  moves: Moves,
  profile: Profile | undefined,
  frozen?: string,
): Environment {
  const [main] = record.addresses;
  return {
    path: record.path,
    site: record.site,
    name: record.name,
    kind: record.kind,
    ...stateOf(
      record,
      { ...moves, last: moves.last && { ...moves.last, isPastSwitch: moves.last.outcome.pastSwitch === true } },
      frozen,
    ),
    addresses: record.addresses.map((address) => ({ name: address.name, url: formatLocation(address) })),
    editorsUrl: main && profile?.editors ? `${formatLocation(main)}${profile.editors.path}` : null,
    madeFrom: record.made_from,
    foreignOrigin: record.foreign_origin,
    madeAt: record.made_at.toISOString(),
    refreshedAt: iso(record.refreshed_at),
    size: record.size,
    server: record.server,
    hasGate: record.gate !== null,
    databases: record.databases.map((database) => database.database),
    roots: record.roots.map(({ name, path, isPlain }) => ({ name, path, isPlain: isPlain === true })),
    drift: record.drift && { ...record.drift, first: record.drift.first ?? [] },
    description: record.description,
    schedule: record.schedule && { ...scheduleOf(record.schedule), last: record.schedule.last },
    etag: environmentTag(record),
    preview: record.preview,
    running: moves.running ? toTransfer(moves.running, null) : null,
    last: moves.last ? toTransfer(moves.last, null) : null,
  };
}

/**
 * Sites with their environments, as far as they may be read, in the order in which they were brought in. Previews of
 * change requests are no part of a site's work, and come only where they are asked for.
 */
export async function readFleet(
  installation: Installation,
  on: OnRecords,
  sight: Sight,
  { site, previews = false }: { readonly site?: string | undefined; readonly previews?: boolean } = {},
): Promise<Site[]> {
  const query = on<SiteRecord>('site').orderBy('position');
  const all = (await (site === undefined ? query : query.where({ name: site }))) as SiteRecord[];
  const sites = all.filter((one) => sight.seesSite(one.name));
  const environments = (await installation.environments.list(on, site)).filter(
    (one) => sight.seesEnvironment(one.path) && (previews || one.preview === null),
  );
  const moves = await installation.transfers.newestByEnvironment(on, site);
  const profiles = new Map<string, Awaited<ReturnType<typeof profileOfSite>>>();
  for (const one of sites)
    if (one.profile !== null && !profiles.has(one.profile))
      profiles.set(one.profile, await profileOfSite(on, one.name));
  const frozen = frozenSites(sites, await listFreezes(on), installation.now());
  const rank = { live: 0, staging: 1, dev: 2 } as const;
  return sites.map((one) => {
    const profile = one.profile === null ? undefined : profiles.get(one.profile);
    return {
      name: one.name,
      client: one.client,
      profile: one.profile,
      profileVersion: profile?.version ?? null,
      timeZone: one.time_zone,
      tags: [...one.tags],
      etag: siteTag(one),
      environments: environments
        .filter((environment) => environment.site === one.name)
        .map((environment) =>
          toEnvironment(
            environment,
            moves.get(environment.path) ?? {},
            profile?.profile,
            environment.kind === 'live' ? frozen.get(one.name)?.words : undefined,
          ),
        )
        .sort((a, b) => rank[a.kind] - rank[b.kind] || (a.name < b.name ? -1 : 1)),
    };
  });
}

/** How far ahead the end of a freeze is looked for. */
const YEAR_MS = 366 * 86_400_000;

/** Why nothing may be delivered now, and until when, by the sites that a freeze holds for. */
export function frozenSites(
  sites: readonly (FreezableSite & { readonly name: string; readonly time_zone: string })[],
  freezes: readonly { reason: string; scope: string; time: Freeze }[],
  now: Date,
): Map<string, { readonly words: string; readonly until: Date }> {
  const from = now.getTime();
  return new Map(
    sites.flatMap((site) => {
      const own = freezes.filter(({ scope }) => isFreezeFor(scope, site));
      const found = own.find(({ time }) => frozenOf([time], site.time_zone, { from, until: from + 1 }).length > 0);
      if (!found) return [];
      const [first] = frozenOf(
        own.map(({ time }) => time),
        site.time_zone,
        { from, until: from + YEAR_MS },
      );
      return [
        [site.name, { words: `Frozen: ${found.reason}`, until: new Date(first?.until ?? from + YEAR_MS) }] as const,
      ];
    }),
  );
}
