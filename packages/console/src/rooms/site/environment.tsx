import { useMutation } from '@tanstack/react-query';
import type { Environment, Site } from '@tessarion/contract';
import type { JSX, ReactNode } from 'react';
import { Link } from 'react-router';
import { Icon } from '../../parts/icon.js';
import { RunningJob } from '../../parts/progress.js';
import { Failure } from '../../parts/states.js';
import { stateWord, Tile } from '../../parts/tile.js';
import { useEnter } from '../../parts/use-enter.js';
import { Ago, clock, number, size } from '../../parts/words.js';
import { client } from '../../session.js';
import { Description, Schedule, Siblings, Tags } from './copy-facts.js';
import { EnvironmentActs } from './environment-acts.js';
import { ItemHistory } from './item-history.js';
import { forecastLink } from './map.js';

/** The environment at hand: how it stands, what is known of it, and what one may do with it. */
export function Detail({ site, one }: { readonly site: Site; readonly one: Environment }): JSX.Element {
  const { enter, error } = useEnter(one);
  const acknowledge = useMutation({
    mutationFn: (id: string) => client.call('transferAcknowledge', { params: { id } }),
  });
  const failure = error ?? acknowledge.error ?? undefined;
  return (
    <section className="env-detail slab" aria-label={one.path}>
      <header>
        <Tile kind={one.kind} state={one.state} size={32} decorative />
        <h2 className="mono">{one.path}</h2>
        <span className="q cut" title={one.reason}>
          {one.reason === '' || one.state === 'failed' ? stateWord(one.state) : one.reason}
        </span>
        <span className="sp" />
        <button type="button" className="btn" onClick={enter}>
          <Icon name="open" /> Open
        </button>
        {one.kind !== 'live' && (
          <Link className="btn main" to={forecastLink(site, one)} aria-disabled={one.state === 'working'}>
            Forecast
          </Link>
        )}
      </header>
      {failure !== undefined && <Failure error={failure} />}
      {one.running && (
        <div className="running-job">
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
      <Facts site={site} one={one} />
      <ItemHistory one={one} />
      <EnvironmentActs site={site} one={one} />
    </section>
  );
}

function Facts({ site, one }: { readonly site: Site; readonly one: Environment }): JSX.Element {
  return (
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
          <Gate one={one} />
        </Fact>
      )}
      <Fact name="Made">
        {one.madeFrom ? (
          <>
            from <span className="mono">{one.madeFrom}</span>, {clock(one.madeAt)}
            {one.foreignOrigin !== null && !one.madeFrom.startsWith(one.foreignOrigin) && (
              <>
                ; holds the work of <span className="mono">{one.foreignOrigin}</span>
              </>
            )}
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
        {one.server}, <span className="mono">{one.roots[0]?.path}</span>
      </Fact>
      <Fact name="Database">
        <span className="mono">{one.databases.join(', ')}</span>
      </Fact>
    </dl>
  );
}

/** The login of a copy's gate, shown when it is asked for. */
function Gate({ one }: { readonly one: Environment }): JSX.Element {
  const login = useMutation({
    mutationFn: () => client.call('environmentLogins', { params: { site: one.site, environment: one.name } }),
  });
  return (
    <>
      {login.data?.gate ? (
        <span className="mono">
          {login.data.gate.user} / {login.data.gate.password}
        </span>
      ) : (
        <button type="button" className="btn sm" disabled={login.isPending} onClick={() => login.mutate()}>
          Show the login
        </button>
      )}
      <span className="qq aside">closed to strangers and search engines</span>
      {login.isError && <Failure error={login.error} />}
    </>
  );
}

function Fact({ name, children }: { readonly name: string; readonly children: ReactNode }): JSX.Element {
  return (
    <div>
      <dt>{name}</dt>
      <dd>{children}</dd>
    </div>
  );
}
