import type { FleetRequest, FleetSite } from '@tessarion/contract';
import { addTo } from '@tessarion/core';
import type { EnvironmentRecord } from '../../fleet/environments.js';
import type { SiteRecord } from '../../fleet/sites.js';
import { iso, type OnRecords } from '../../ground/open.js';
import type { Sight } from '../../people/sight.js';
import { listFreezes } from '../../plans/plan.js';
import type { Installation } from '../../transfers/installation.js';
import type { Move } from '../../transfers/transfers.js';
import { frozenSites, stateOf } from './fleet.js';

type Row = Pick<EnvironmentRecord, 'path' | 'site' | 'name' | 'kind' | 'status' | 'server' | 'drift' | 'unreached'> & {
  readonly refreshed: string | null;
};

const RANK = { live: 0, staging: 1, dev: 2 } as const;

/**
 * The sites that may be read, in the order in which they were brought in, with what one sees of them among all. Nothing
 * sealed is opened for it but what a failed transfer left: it costs as little as thousands of sites need.
 *
 * @param site the only one that is wanted
 */
export async function glanceAt(
  { transfers, now }: Installation,
  on: OnRecords,
  sight: Sight,
  site?: string,
): Promise<FleetSite[]> {
  const only = site === undefined ? {} : { site };
  const [sites, environments, moves, freezes, requests] = await Promise.all([
    on<SiteRecord>('site')
      .where(site === undefined ? {} : { name: site })
      .orderBy('position')
      .select('name', 'client', 'tags', 'time_zone') as Promise<
      Pick<SiteRecord, 'name' | 'client' | 'tags' | 'time_zone'>[]
    >,
    on('environment').where(only).whereNull('preview').select(
      'path',
      'site',
      'name',
      'kind',
      'status',
      'server',
      // As the answer has it: to read thousands of moments, and to write them again, is a tenth of the work.
      on.raw(`to_char(refreshed_at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"') AS refreshed`),
      on.raw("drift - 'first' AS drift"),
      'unreached',
    ) as Promise<Row[]>,
    transfers.newestMoves(on, site),
    listFreezes(on),
    openRequests(on, sight, site),
  ]);
  const seen = sites.filter(({ name }) => sight.seesSite(name));
  const frozen = frozenSites(seen, freezes, now());
  const bySite = new Map<string, Row[]>();
  for (const one of environments) if (sight.seesEnvironment(one.path)) addTo(bySite, one.site, one);
  return seen.map(({ name, client, tags }) => {
    const freeze = frozen.get(name);
    return {
      name,
      client,
      tags: [...tags],
      environments: (bySite.get(name) ?? [])
        .map((one) => shown(one, moves.get(one.path) ?? {}, one.kind === 'live' ? freeze?.words : undefined))
        .sort((a, b) => RANK[a.kind] - RANK[b.kind] || (a.name < b.name ? -1 : 1)),
      frozenUntil: freeze?.until.toISOString() ?? null,
      requests: requests.get(name) ?? [],
    };
  });
}

function shown(
  one: Row,
  { running, last }: { readonly running?: Move; readonly last?: Move },
  frozen: string | undefined,
): FleetSite['environments'][number] {
  return {
    path: one.path,
    site: one.site,
    name: one.name,
    kind: one.kind,
    ...stateOf(one, { running, last }, frozen),
    refreshedAt: one.refreshed,
    server: one.server,
    drift: one.drift,
    running: running
      ? {
          id: running.id,
          kind: running.kind,
          state: running.state,
          from: running.from_path,
          onto: running.onto_path,
          startedAt: iso(running.started_at),
          progress: running.progress,
        }
      : null,
    last: last ? { id: last.id, kind: last.kind, state: last.state, endedAt: iso(last.ended_at) } : null,
  };
}

/** Change requests that are neither drafts nor over, by site, the newest first. */
async function openRequests(on: OnRecords, sight: Sight, site?: string): Promise<Map<string, FleetRequest[]>> {
  const query = on('change_request as r')
    .leftJoin('forecast as f', 'f.id', 'r.forecast')
    .whereNotIn('r.state', ['draft', 'delivered', 'undone', 'withdrawn'])
    .orderBy('r.created_at', 'desc')
    .select(
      'r.id',
      'r.site',
      'r.title',
      'r.state',
      'r.from_path',
      'r.onto_path',
      'r.deliver_at',
      on.raw("coalesce((f.result ->> 'unsettled')::int, 0) AS unsettled"),
      on.raw(
        `(SELECT count(*)::int FROM request_comment c
          WHERE c.request_id = r.id AND c.id = c.thread AND c.resolved_at IS NULL
          AND EXISTS (SELECT FROM request_comment o WHERE o.thread = c.id AND o.removed_at IS NULL)) AS threads`,
      ),
    );
  if (site !== undefined) query.where({ 'r.site': site });
  sight.narrow(query, 'r.site', 'r.onto_path');
  const rows = (await query) as {
    id: string;
    site: string;
    title: string;
    state: FleetRequest['state'];
    from_path: string;
    onto_path: string;
    deliver_at: Date | null;
    unsettled: number;
    threads: number;
  }[];
  const found = new Map<string, FleetRequest[]>();
  for (const one of rows)
    addTo(found, one.site, {
      id: one.id,
      title: one.title,
      state: one.state,
      from: one.from_path,
      onto: one.onto_path,
      openThreads: one.threads,
      unsettled: one.unsettled,
      deliverAt: iso(one.deliver_at),
    });
  return found;
}
