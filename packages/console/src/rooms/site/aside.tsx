import { useQuery } from '@tanstack/react-query';
import type { ChangeRequest, Site } from '@tessarion/contract';
import type { JSX } from 'react';
import { Link } from 'react-router';
import { Course } from '../../parts/course.js';
import { clock } from '../../parts/moments.js';
import { Ago, size } from '../../parts/words.js';
import { client } from '../../session.js';
import { LaneRules } from './lane-rules.js';
import { SiteGuests } from './site-guests.js';

const SHOWN_REQUESTS = 6;

/** What is on its way, who looks on, and what was done to a site last. */
export function SiteAside({
  site,
  requests,
}: {
  readonly site: Site;
  /** Those that are open; undefined until they are read. */
  readonly requests: readonly ChangeRequest[] | undefined;
}): JSX.Element {
  const transfers = useQuery({
    queryKey: ['transfers', site.name, 'latest'],
    queryFn: () => client.call('transferList', { query: { site: site.name, limit: 8 } }),
  });
  const snapshots = useQuery({
    queryKey: ['snapshots', site.name],
    queryFn: () => client.call('snapshotList', { query: { site: site.name } }),
  });
  // All at once, so that nothing moves.
  if (!transfers.isFetched || !snapshots.isFetched || requests === undefined)
    return <aside className="col-2 row-[1/3] bg-slab max-wide:col-1 max-wide:row-auto" />;
  return (
    <aside className="col-2 row-[1/3] flex min-h-0 flex-col gap-2 overflow-auto max-wide:col-1 max-wide:row-auto max-wide:overflow-visible">
      {requests.length > 0 && (
        <section className="bg-slab px-16 py-12 max-desk:px-12">
          <h2>
            <Link to={`/requests?site=${site.name}`}>On its way</Link>
          </h2>
          {requests.slice(0, SHOWN_REQUESTS).map((one) => (
            <Link key={one.id} className="flex min-h-24 flex-col py-3" to={`/requests/${one.id}`}>
              <b>{one.title}</b>
              <span className="truncate text-ink2">
                <Course state={one.state} /> · onto {one.onto.split('/')[1]}
                {one.deliverAt && ` · due ${clock(one.deliverAt)}`}
              </span>
            </Link>
          ))}
        </section>
      )}
      <section className="bg-slab px-16 py-12 max-desk:px-12">
        <h2>
          <Link to={`/transfers?site=${site.name}`}>Transfers</Link>
        </h2>
        {transfers.data?.items.map((one) => (
          <Link key={one.id} className="flex min-h-24 flex-col py-3" to={`/transfers/${one.id}`}>
            <b>
              {one.kind} {one.state === 'done' ? '' : one.state}
            </b>
            <span className="truncate text-ink2">
              onto {one.onto.split('/')[1]} · {one.person} · <Ago time={one.createdAt} />
            </span>
          </Link>
        ))}
      </section>
      <section className="bg-slab px-16 py-12 max-desk:px-12">
        <h2>
          <Link to={`/snapshots?site=${site.name}`}>Snapshots</Link>{' '}
          <span className="text-ink3">{snapshots.data?.length ?? ''}</span>
        </h2>
        {snapshots.data?.length === 0 && <p className="text-ink3">No snapshots of {site.name} yet</p>}
        {snapshots.data?.slice(0, 4).map((one) => (
          <Link key={one.id} className="flex min-h-24 flex-col py-3" to={`/snapshots?site=${site.name}`}>
            <b>{one.reason === '' ? one.environment : one.reason}</b>
            <span className="text-ink2">
              {one.environment.split('/')[1]} · {size(one.bytes)} · <Ago time={one.takenAt} suffix=" ago" />
            </span>
          </Link>
        ))}
      </section>
      {/* What is read by itself stands last: nothing is pushed down by it. */}
      <LaneRules site={site.name} />
      <SiteGuests site={site} />
      <div className="flex-1 bg-slab" />
    </aside>
  );
}
