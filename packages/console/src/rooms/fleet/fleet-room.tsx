import type { Environment, EnvironmentState, Site } from '@tessarion/contract';
import { type JSX, useMemo, useRef, useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { ButtonLink } from '../../parts/button.js';
import { RunningJob } from '../../parts/progress.js';
import { Room } from '../../parts/room.js';
import { Empty, Unread } from '../../parts/states.js';
import { stateWord, Tile } from '../../parts/tile.js';
import { Ago, number, useNow } from '../../parts/words.js';
import { useMe, useSites } from '../../session.js';
import { Frieze } from './frieze.js';
import { STALE_DAYS } from './groups.js';
import { Rows } from './rows.js';

const STATES: readonly EnvironmentState[] = ['in-step', 'drifted', 'working', 'failed', 'frozen', 'not-reached'];

const TALLY =
  'flex min-w-0 items-center gap-8 px-14 py-8 max-desk:flex-wrap max-desk:gap-x-5 max-desk:gap-y-0 max-desk:px-0 max-desk:py-4';
const NUMERAL = 'text-numeral font-stretch-112% max-desk:text-[17px]/22';
const WORD = 'text-ink2 max-desk:basis-full max-desk:text-micro/14';

/** Every site with its tiles; what each needs, and what is on the move. */
export function FleetRoom(): JSX.Element {
  const sites = useSites();
  const me = useMe();
  if (!sites.isSuccess) return <Unread error={sites.error} what="Reading the fleet" rows={14} />;
  if (sites.data.length === 0) {
    return (
      <Room>
        {me.data?.permissions.includes('site.manage') === false ? (
          <Empty title="No sites yet">Sites lie here as soon as a role is given to you on one.</Empty>
        ) : (
          <Empty
            title="No sites yet"
            act={
              <ButtonLink main to="/bring-in">
                Bring in a site
              </ButtonLink>
            }
          >
            Bring in a running site, and its tiles lie here: live first, then each copy that you make of it.
          </Empty>
        )}
      </Room>
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
    <main className="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_264px] grid-rows-[auto_auto_minmax(0,1fr)] gap-2 max-wide:grid-cols-1 max-wide:grid-rows-none max-wide:overflow-auto max-desk:flex max-desk:min-h-auto max-desk:flex-col">
      <h1 className="sr-only">Fleet</h1>
      <Frieze sites={sites} shown={new Set(shown.map((site) => site.name))} at={query.get('at')} />
      <section
        className="col-span-full flex bg-slab px-2 max-desk:grid max-desk:grid-cols-[repeat(4,1fr)] max-desk:px-12 max-desk:py-4"
        aria-label="Count"
      >
        <span className={TALLY}>
          <span className={NUMERAL}>{number(sites.length)}</span>
          <span className={WORD}>{sites.length === 1 ? 'site' : 'sites'}</span>
        </span>
        <span className={TALLY}>
          <span className={NUMERAL}>{number(environments.length)}</span>
          <span className={WORD}>environments</span>
        </span>
        {STATES.map((one) => {
          const count = environments.filter((environment) => environment.state === one).length;
          return (
            <button
              key={one}
              type="button"
              className={`${TALLY} text-left hover:bg-course aria-pressed:shadow-under`}
              aria-pressed={state === one}
              onClick={() => set('state', state === one ? null : one)}
            >
              <Tile kind="live" state={one} size={18} tone="any" decorative className="max-desk:size-14" />
              <span className={NUMERAL}>{number(count)}</span>
              <span className={WORD}>{stateWord(one)}</span>
            </button>
          );
        })}
      </section>
      <Rows sites={shown} text={text} find={find} set={set} view={view} stale={stale} at={query.get('at')} />
      <aside className="flex min-h-0 flex-col gap-2 overflow-auto">
        <section className="bg-slab px-16 py-12 max-desk:px-12">
          <h2>
            On the move <span className="text-ink3">{running.length}</span>
          </h2>
          {running.length === 0 && <p className="text-ink3">Nothing is running.</p>}
          {running.slice(0, 6).map((transfer) => (
            <RunningJob key={transfer.id} transfer={transfer} kinds={kinds} />
          ))}
        </section>
        <section className="flex-1 bg-slab px-16 py-12 max-desk:px-12">
          <h2>Last moves</h2>
          {lastMoves.map((transfer) => (
            <Link key={transfer.id} className="flex min-h-24 flex-col py-3" to={`/transfers/${transfer.id}`}>
              <b>
                {transfer.kind} {transfer.state === 'done' ? '' : transfer.state}
              </b>
              <span className="text-ink2">
                {transfer.onto} · <Ago time={transfer.endedAt} suffix=" ago" />
              </span>
            </Link>
          ))}
        </section>
      </aside>
    </main>
  );
}
