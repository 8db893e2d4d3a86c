import { useMutation, useQuery } from '@tanstack/react-query';
import type { Environment, Site, Transfer } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { useKeys } from '../keys.js';
import { Confirm } from '../parts/confirm.js';
import { Course } from '../parts/course.js';
import { Icon } from '../parts/icon.js';
import { RunningJob } from '../parts/progress.js';
import { Failure, Loading } from '../parts/states.js';
import { stateWord, Tile } from '../parts/tile.js';
import { Ago, clock, number, size } from '../parts/words.js';
import { client, useSite } from '../session.js';
import { Description, Rename, Schedule, Siblings, Tags } from './copy-facts.js';
import { ItemHistory } from './item-history.js';
import { LaneRules } from './lane-rules.js';
import { SiteGuests } from './site-guests.js';

/** A site: its environments and the lanes between them, and what one may do with the one at hand. */
export function SiteRoom(): JSX.Element {
  const { site: name = '' } = useParams();
  const site = useSite(name);
  if (site.isPending)
    return (
      <main className="room slab">
        <Loading what={`Reading ${name}`} />
      </main>
    );
  if (site.isError)
    return (
      <main className="room slab">
        <Failure error={site.error} />
      </main>
    );
  return <SiteShown site={site.data} />;
}

function SiteShown({ site }: { readonly site: Site }): JSX.Element {
  const [query, setQuery] = useSearchParams();
  const at = site.environments.find((one) => one.name === query.get('at')) ?? site.environments[0];
  const navigate = useNavigate();
  const order = (['dev', 'staging', 'live'] as const).flatMap((kind) =>
    site.environments.filter((one) => one.kind === kind),
  );
  const move = (step: number): void => {
    const next = order[Math.min(order.length - 1, Math.max(0, order.findIndex((one) => one.path === at?.path) + step))];
    if (next) setQuery({ at: next.name }, { replace: true });
  };
  useKeys({
    j: () => move(1),
    k: () => move(-1),
    Escape: () => void navigate('/'),
    f: () => at && at.kind !== 'live' && void navigate(forecastLink(site, at)),
  });
  return (
    <>
      <div className="crumb slab">
        <Link to="/">Fleet</Link>
        <i>/</i>
        <h1>{site.name}</h1>
        <span className="q cut">{site.client}</span>
        <span className="sp" />
        <span className="qq cut">
          {site.profile ? (
            <Link className="u" to={`/profiles/${site.profile}`}>
              {site.profile} version {site.profileVersion}
            </Link>
          ) : (
            'No profile'
          )}
        </span>
        <Link className="btn" to={`/sites/${site.name}/new`}>
          <Icon name="plus" /> New copy
        </Link>
      </div>
      <main className="site">
        <section className="map slab" aria-label="Environments">
          {(['dev', 'staging', 'live'] as const).map((kind) => (
            <Column
              key={kind}
              site={site}
              kind={kind}
              at={at?.path}
              choose={(name) => setQuery({ at: name }, { replace: true })}
            />
          ))}
        </section>
        {at && <Detail key={at.path} site={site} one={at} />}
        <SiteAside site={site} />
      </main>
    </>
  );
}

const forecastLink = (site: Site, one: Environment): string =>
  `/sites/${site.name}/forecast?from=${one.path}&onto=${one.kind === 'dev' ? (site.environments.find((e) => e.kind === 'staging')?.path ?? `${site.name}/staging`) : `${site.name}/live`}`;

function Column({
  site,
  kind,
  at,
  choose,
}: {
  readonly site: Site;
  readonly kind: Environment['kind'];
  readonly at: string | undefined;
  readonly choose: (name: string) => void;
}): JSX.Element {
  const members = site.environments.filter((one) => one.kind === kind);
  return (
    <div className={`col ${kind}`}>
      <h2 className="qq">{kind}</h2>
      {members.length === 0 && (
        <Link className="vacant" to={`/sites/${site.name}/new?kind=${kind}`}>
          <svg width="32" height="32" viewBox="0 0 16 16" aria-hidden="true">
            <path
              d={kind === 'dev' ? 'M8,.7L15.3,8L8,15.3L.7,8Z' : 'M1.5,1.5H9.5L14.5,6.5V14.5H1.5Z'}
              fill="none"
              stroke="var(--ink3)"
              strokeWidth={0.8}
              strokeDasharray="2.2 1.8"
            />
          </svg>
          Make a {kind} copy
        </Link>
      )}
      {members.map((one) => (
        <div key={one.path} className={`env ${one.path === at ? 'cur' : ''}`}>
          <button
            type="button"
            className="plate-button"
            aria-pressed={one.path === at}
            onClick={() => choose(one.name)}
          >
            <Tile kind={one.kind} state={one.state} size={32} progress={0.6} />
            <span className="pl">
              <b>{one.name}</b>
              <span className="q">
                {one.kind === 'live' ? (
                  one.state === 'in-step' ? (
                    'the public site'
                  ) : (
                    stateWord(one.state)
                  )
                ) : one.refreshedAt ? (
                  <>
                    {stateWord(one.state)}, <Ago time={one.refreshedAt} suffix=" old" />
                  </>
                ) : (
                  'being made'
                )}
              </span>
            </span>
          </button>
          {kind !== 'live' && (
            <Link
              className={`lane-link ${one.drift && one.drift.up > 0 ? 'waits' : ''}`}
              to={forecastLink(site, one)}
              title={`Forecast from ${one.path}`}
            >
              {one.drift && one.drift.up > 0 ? <b>{one.drift.up}</b> : <span className="qq">–</span>}
              <Icon name="right" size={16} />
            </Link>
          )}
        </div>
      ))}
    </div>
  );
}

function Detail({ site, one }: { readonly site: Site; readonly one: Environment }): JSX.Element {
  const navigate = useNavigate();
  const follow = { onSuccess: (transfer: Transfer) => void navigate(`/transfers/${transfer.id}`) };
  const params = { site: site.name, environment: one.name };
  const [isRemoving, setRemoving] = useState(false);
  const [isResetting, setResetting] = useState(false);
  const [login, setLogin] = useState<{ user: string; password: string } | null>(null);
  const snapshot = useMutation({
    mutationFn: () => client.call('snapshotTake', { body: { environment: one.path } }),
    ...follow,
  });
  const remove = useMutation({
    mutationFn: (confirm: string) => client.call('environmentRemove', { params, query: { confirm } }),
    ...follow,
  });
  const reset = useMutation({
    mutationFn: () => client.call('resetCreate', { body: { from: `${site.name}/live`, onto: one.path } }),
    ...follow,
  });
  const acknowledge = useMutation({
    mutationFn: (id: string) => client.call('transferAcknowledge', { params: { id } }),
  });
  const showLogin = useMutation({
    mutationFn: () => client.call('environmentLogins', { params }),
    onSuccess: (given) => setLogin(given.gate),
  });
  const enter = async (path: string): Promise<void> => {
    const target = window.open('about:blank');
    const { url } = await client.call('environmentEnter', { params });
    if (target)
      target.location.href = path === '' ? url : `${url}${url.includes('?') ? '&' : '?'}to=${encodeURIComponent(path)}`;
  };
  const isBusy = one.state === 'working';
  const failure = [snapshot, remove, reset].find((act) => act.isError)?.error;
  return (
    <section className="env-detail slab" aria-label={one.path}>
      <header>
        <Tile kind={one.kind} state={one.state} size={32} decorative />
        <h2 className="mono">{one.path}</h2>
        <span className="q cut" title={one.reason}>
          {one.reason === '' || one.state === 'failed' ? stateWord(one.state) : one.reason}
        </span>
        <span className="sp" />
        <button type="button" className="btn" onClick={() => void enter('')}>
          <Icon name="open" /> Open
        </button>
        {one.kind !== 'live' && (
          <Link className="btn main" to={forecastLink(site, one)} aria-disabled={isBusy}>
            Forecast
          </Link>
        )}
      </header>
      {failure !== undefined && <Failure error={failure} />}
      {one.running && (
        <div className="running">
          <RunningJob transfer={one.running} kinds={new Map(site.environments.map((e) => [e.path, e.kind]))} />
        </div>
      )}
      {one.state === 'failed' && one.last && (
        <div className="failure">
          <b>
            {one.last.kind} failed <Ago time={one.last.endedAt} suffix=" ago" />
          </b>
          <p>{one.last.failure?.message}</p>
          <p className="q">{one.last.failure?.next}</p>
          <Link className="btn" to={`/transfers/${one.last.id}`}>
            What happened
          </Link>{' '}
          <button type="button" className="btn" onClick={() => acknowledge.mutate(one.last?.id ?? '')}>
            I have seen it
          </button>
        </div>
      )}
      <dl className="facts">
        <Fact name="Address">
          {one.addresses.map((address) => (
            <span key={address.name} className="mono line">
              {address.url}
            </span>
          ))}
        </Fact>
        <Fact name="Editors">{one.editorsUrl ? <span className="mono">{one.editorsUrl}</span> : '–'}</Fact>
        {one.hasGate && (
          <Fact name="Gate">
            {login ? (
              <span className="mono">
                {login.user} / {login.password}
              </span>
            ) : (
              <button type="button" className="btn sm" onClick={() => showLogin.mutate()}>
                Show the login
              </button>
            )}
            <span className="qq aside">closed to strangers and search engines</span>
          </Fact>
        )}
        <Fact name="Made">
          {one.madeFrom ? (
            <>
              from <span className="mono">{one.madeFrom}</span>, {clock(one.madeAt)}
            </>
          ) : (
            `brought in ${clock(one.madeAt)}`
          )}
        </Fact>
        {one.kind === 'live' && (
          <Fact name="Tags">
            <Tags site={site} />
          </Fact>
        )}
        {one.kind !== 'live' && (
          <>
            <Fact name="What for">
              <Description one={one} />
            </Fact>
            <Fact name="Up to date">
              <Ago time={one.refreshedAt} suffix=" ago" />
            </Fact>
            <Fact name="News comes">
              <Schedule one={one} zone={site.timeZone} />
            </Fact>
            <Siblings one={one} site={site} />
          </>
        )}
        <Fact name="Size">
          {one.size ? (
            <>
              <b>{size(one.size.fileBytes)}</b> in {number(one.size.files)} files, <b>{size(one.size.databaseBytes)}</b>{' '}
              in the database
            </>
          ) : (
            'not measured yet'
          )}
        </Fact>
        <Fact name="Server">
          {one.server}, <span className="mono cut">{one.roots[0]?.path}</span>
        </Fact>
        <Fact name="Database">
          <span className="mono">{one.databases.join(', ')}</span>
        </Fact>
      </dl>
      <ItemHistory one={one} />
      <footer>
        <button type="button" className="btn" disabled={snapshot.isPending} onClick={() => snapshot.mutate()}>
          Take a snapshot
        </button>
        {one.kind !== 'live' && (
          <>
            <Link
              className="btn"
              to={`/sites/${site.name}/forecast?from=${site.name}/live&onto=${one.path}`}
              aria-disabled={isBusy}
            >
              Bring live’s news
            </Link>
            <button type="button" className="btn" disabled={isBusy} onClick={() => setResetting(true)}>
              Reset from live
            </button>
            <Rename one={one} />
            <button type="button" className="btn danger" onClick={() => setRemoving(true)}>
              Remove
            </button>
          </>
        )}
      </footer>
      <Confirm
        isOpen={isRemoving}
        close={() => setRemoving(false)}
        title={`Remove ${one.path}`}
        mustType={one.path}
        button={`Remove ${one.path}`}
        isDanger
        act={(typed) => remove.mutate(typed)}
      >
        {one.drift && one.drift.up > 0 ? `${one.drift.up} items exist only there, and go with it. ` : ''}
        {one.size ? `${size(one.size.fileBytes + one.size.databaseBytes)} are freed.` : ''}
      </Confirm>
      <Confirm
        isOpen={isResetting}
        close={() => setResetting(false)}
        title={`Make ${one.path} live’s double again`}
        button={`Reset ${one.name}`}
        isDanger
        act={() => reset.mutate()}
      >
        {one.drift && one.drift.up > 0
          ? `${one.drift.up} items that exist only there go.`
          : 'Work that exists only there goes.'}{' '}
        Personal data comes masked.
      </Confirm>
    </section>
  );
}

function Fact({ name, children }: { readonly name: string; readonly children: React.ReactNode }): JSX.Element {
  return (
    <div>
      <dt>{name}</dt>
      <dd>{children}</dd>
    </div>
  );
}

function SiteAside({ site }: { readonly site: Site }): JSX.Element {
  const transfers = useQuery({
    queryKey: ['transfers', site.name, 'latest'],
    queryFn: () => client.call('transferList', { query: { site: site.name, limit: 8 } }),
  });
  const snapshots = useQuery({
    queryKey: ['snapshots', site.name],
    queryFn: () => client.call('snapshotList', { query: { site: site.name } }),
  });
  const requests = useQuery({
    queryKey: ['requests', 'on its way', site.name],
    queryFn: () => client.call('requestList', { query: { site: site.name, open: 'yes', limit: 6 } }),
  });
  return (
    <aside>
      {(requests.data?.items.length ?? 0) > 0 && (
        <section className="slab p">
          <h2>
            <Link to={`/requests?site=${site.name}`}>On its way</Link>
          </h2>
          {requests.data?.items.map((one) => (
            <Link key={one.id} className="req" to={`/requests/${one.id}`}>
              <b>{one.title}</b>
              <span className="q cut">
                <Course state={one.state} /> · onto {one.onto.split('/')[1]}
                {one.deliverAt && ` · due ${clock(one.deliverAt)}`}
              </span>
            </Link>
          ))}
        </section>
      )}
      <LaneRules site={site.name} />
      <SiteGuests site={site} />
      <section className="slab p">
        <h2>
          <Link to={`/transfers?site=${site.name}`}>Transfers</Link>
        </h2>
        {transfers.data?.items.map((one) => (
          <Link key={one.id} className="req" to={`/transfers/${one.id}`}>
            <b>
              {one.kind} {one.state === 'done' ? '' : one.state}
            </b>
            <span className="q cut">
              onto {one.onto.split('/')[1]} · {one.person} · <Ago time={one.createdAt} />
            </span>
          </Link>
        ))}
      </section>
      <section className="slab p">
        <h2>
          <Link to={`/snapshots?site=${site.name}`}>Snapshots</Link>{' '}
          <span className="qq">{snapshots.data?.length ?? ''}</span>
        </h2>
        {snapshots.data?.length === 0 && <p className="qq">No snapshots of {site.name} yet</p>}
        {snapshots.data?.slice(0, 4).map((one) => (
          <Link key={one.id} className="req" to={`/snapshots?site=${site.name}`}>
            <b>{one.reason === '' ? one.environment : one.reason}</b>
            <span className="q">
              {one.environment.split('/')[1]} · {size(one.bytes)} · <Ago time={one.takenAt} suffix=" ago" />
            </span>
          </Link>
        ))}
      </section>
    </aside>
  );
}
