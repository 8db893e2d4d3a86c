import type { Environment, EnvironmentState, Site } from '@tessarion/contract';
import { type JSX, useMemo, useRef, useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { RunningJob } from '../../parts/progress.js';
import { Empty, Unread } from '../../parts/states.js';
import { stateWord, Tile } from '../../parts/tile.js';
import { Ago, number, useNow } from '../../parts/words.js';
import { useMe, useSites } from '../../session.js';
import { Frieze } from './frieze.js';
import { STALE_DAYS } from './groups.js';
import { Rows } from './rows.js';

const STATES: readonly EnvironmentState[] = ['in-step', 'drifted', 'working', 'failed', 'frozen', 'not-reached'];

/** Every site with its tiles; what each needs, and what is on the move. */
export function FleetRoom(): JSX.Element {
  const sites = useSites();
  const me = useMe();
  if (!sites.isSuccess) return <Unread error={sites.error} what="Reading the fleet" rows={14} />;
  if (sites.data.length === 0) {
    return (
      <main className="room slab">
        {me.data?.permissions.includes('site.manage') === false ? (
          <Empty title="No sites yet">Sites lie here as soon as a role is given to you on one.</Empty>
        ) : (
          <Empty
            title="No sites yet"
            act={
              <Link className="btn main" to="/bring-in">
                Bring in a site
              </Link>
            }
          >
            Bring in a running site, and its tiles lie here: live first, then each copy that you make of it.
          </Empty>
        )}
      </main>
    );
  }
  return <Fleet sites={sites.data} />;
}

function Fleet({ sites }: { readonly sites: Site[] }): JSX.Element {
  const [query, setQuery] = useSearchParams();
  const now = useNow();
  const [text, setText] = useState(() => query.get('find') ?? '');
  const following = useRef<ReturnType<typeof setTimeout>>(undefined);
  const state = query.get('state') as EnvironmentState | null;
  const view = query.get('view');
  const isStale = (one: Environment): boolean =>
    one.refreshedAt !== null && now - Date.parse(one.refreshedAt) > STALE_DAYS * 86_400_000;
  const set = (name: string, value: string | null): void => {
    // As the address is now: what follows the field may come after another filter was set.
    const next = new URLSearchParams(window.location.search);
    if (value === null || value === '') next.delete(name);
    else next.set(name, value);
    setQuery(next, { replace: true });
  };
  // The field keeps what is typed; the address follows it a moment later.
  const find = (wanted: string): void => {
    setText(wanted);
    clearTimeout(following.current);
    following.current = setTimeout(() => set('find', wanted), 150);
  };
  const fits = (site: Site): boolean =>
    `${site.name} ${site.client} ${site.tags.join(' ')} ${site.environments[0]?.server ?? ''}`
      .toLowerCase()
      .includes(text.toLowerCase()) &&
    (state === null || site.environments.some((one) => one.state === state)) &&
    (view !== 'stale' || site.environments.some(isStale));
  const shown = sites.filter(fits);
  const environments = sites.flatMap((site) => site.environments);
  const kinds = useMemo(
    () => new Map(sites.flatMap((site) => site.environments.map((one) => [one.path, one.kind] as const))),
    [sites],
  );
  const running = environments.flatMap((one) => (one.running ? [one.running] : []));
  const lastMoves = environments
    .flatMap((one) => (one.last ? [one.last] : []))
    .sort((a, b) => (a.createdAt < b.createdAt ? 1 : -1))
    .slice(0, 5);
  const stale = environments.filter(isStale).length;

  return (
    <main className="fleet">
      <h1 className="sr-only">Fleet</h1>
      <Frieze sites={sites} shown={new Set(shown.map((site) => site.name))} at={query.get('at')} />
      <section className="tally slab" aria-label="Count">
        <span className="t">
          <span className="num">{number(sites.length)}</span>
          <span className="q">{sites.length === 1 ? 'site' : 'sites'}</span>
        </span>
        <span className="t">
          <span className="num">{number(environments.length)}</span>
          <span className="q">environments</span>
        </span>
        {STATES.map((one) => {
          const count = environments.filter((environment) => environment.state === one).length;
          return (
            <button
              key={one}
              type="button"
              className={`t ${state === one ? 'on' : ''}`}
              aria-pressed={state === one}
              onClick={() => set('state', state === one ? null : one)}
            >
              <Tile kind="live" state={one} size={18} tone="any" decorative />
              <span className="num">{number(count)}</span>
              <span className="q">{stateWord(one)}</span>
            </button>
          );
        })}
      </section>
      <Rows sites={shown} text={text} find={find} set={set} view={view} stale={stale} at={query.get('at')} />
      <aside>
        <section className="slab p">
          <h2>
            On the move <span className="qq">{running.length}</span>
          </h2>
          {running.length === 0 && <p className="qq">Nothing is running.</p>}
          {running.slice(0, 6).map((transfer) => (
            <RunningJob key={transfer.id} transfer={transfer} kinds={kinds} />
          ))}
        </section>
        <section className="slab p">
          <h2>Last moves</h2>
          {lastMoves.map((transfer) => (
            <Link key={transfer.id} className="req" to={`/transfers/${transfer.id}`}>
              <b>
                {transfer.kind} {transfer.state === 'done' ? '' : transfer.state}
              </b>
              <span className="q">
                {transfer.onto} · <Ago time={transfer.endedAt} suffix=" ago" />
              </span>
            </Link>
          ))}
        </section>
      </aside>
    </main>
  );
}
