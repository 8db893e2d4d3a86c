import { useQuery } from '@tanstack/react-query';
import type { EnvironmentState, FleetSite } from '@tessarion/contract';
import { type JSX, useEffect, useMemo, useRef, useState } from 'react';
import { useLocation, useSearchParams } from 'react-router';
import { ButtonLink } from '../../parts/button.js';
import { Room } from '../../parts/room.js';
import { Empty, Loading, Unread } from '../../parts/states.js';
import { stateWord, Tile } from '../../parts/tile.js';
import { useAt } from '../../parts/use-view.js';
import { number, useNow } from '../../parts/words.js';
import { client, useFleet, useMe, useWaiting } from '../../session.js';
import { FleetAside } from './fleet-aside.js';
import { Frieze } from './frieze.js';
import { type Grouping, isStale } from './groups.js';
import { Rows } from './rows.js';

const STATES: readonly EnvironmentState[] = ['in-step', 'drifted', 'working', 'failed', 'frozen', 'not-reached'];

const TALLY =
  'flex min-w-0 items-center gap-8 px-14 py-8 max-desk:flex-wrap max-desk:gap-x-5 max-desk:gap-y-0 max-desk:px-0 max-desk:py-4';
const NUMERAL = 'text-numeral font-stretch-112% max-desk:text-[17px]/22';
const WORD = 'text-ink2 max-desk:basis-full max-desk:text-micro/14';

/** Every site with its tiles; what each needs, and what is on the move. */
export function FleetRoom(): JSX.Element {
  const sites = useFleet();
  const me = useMe();
  if (sites.isPending) return <Coming />;
  if (!sites.isSuccess) return <Unread error={sites.error} what="Reading the fleet" />;
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

const GRID =
  'grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_264px] grid-rows-[auto_auto_minmax(0,1fr)] gap-2 max-wide:grid-cols-1 max-wide:grid-rows-none max-wide:overflow-auto max-desk:flex max-desk:min-h-auto max-desk:flex-col';

/** The room before its sites are there: each slab as high as it will be. */
function Coming(): JSX.Element {
  return (
    <main className={GRID}>
      <h1 className="sr-only">Fleet</h1>
      <div className="col-span-full h-70 bg-slab" />
      <div className="col-span-full h-44 bg-slab max-desk:h-100" />
      <section className="flex min-h-0 flex-col bg-slab" aria-label="Sites">
        <div className="h-44 flex-none" />
        <Loading what="Reading the fleet" rows={18} />
      </section>
      <div className="bg-slab" />
    </main>
  );
}

function Fleet({ sites }: { readonly sites: FleetSite[] }): JSX.Element {
  const [query, setQuery] = useSearchParams();
  const { pathname } = useLocation();
  const now = useNow();
  const [text, setText] = useState(() => query.get('find') ?? '');
  const following = useRef<ReturnType<typeof setTimeout>>(undefined);
  const state = query.get('state') as EnvironmentState | null;
  const view = query.get('view');
  const mine = useMine(view === 'mine');
  const set = (name: string, value: string | null): void => {
    // As the address is now: what follows the field may come after another filter was set.
    const next = new URLSearchParams(window.location.search);
    if (value === null || value === '') next.delete(name);
    else next.set(name, value);
    setQuery(next, { replace: true });
  };
  // The field keeps what is typed; the address follows it a moment later, past the router: that would call back who has
  // set out for another room meanwhile.
  const find = (wanted: string): void => {
    setText(wanted);
    clearTimeout(following.current);
    following.current = setTimeout(() => {
      if (window.location.pathname !== pathname) return;
      const next = new URLSearchParams(window.location.search);
      if (wanted === '') next.delete('find');
      else next.set('find', wanted);
      window.history.replaceState(window.history.state, '', `${pathname}?${next}`);
    }, 150);
  };
  useEffect(() => () => clearTimeout(following.current), []);
  const clear = (): void => {
    clearTimeout(following.current);
    setText('');
    setQuery({}, { replace: true });
  };
  const words = useMemo(() => new Map(sites.map((site) => [site, wordsOf(site)])), [sites]);
  const shown = useMemo(() => {
    const wanted = text.toLowerCase();
    return sites.filter(
      (site) =>
        words.get(site)?.includes(wanted) === true &&
        (state === null || site.environments.some((one) => one.state === state)) &&
        (view !== 'stale' || site.environments.some((one) => isStale(one, now))) &&
        (view !== 'mine' || mine.has(site.name)),
    );
  }, [sites, words, text, state, view, now, mine]);
  const counts = useMemo(() => countsOf(sites, now), [sites, now]);
  const names = useMemo(() => new Set(shown.map((site) => site.name)), [shown]);
  const [at, goTo] = useAt('at', (name) => set('at', name ?? null));
  const by = (query.get('by') ?? 'need') as Grouping;

  return (
    <main className={GRID}>
      <h1 className="sr-only">Fleet</h1>
      <Frieze sites={sites} shown={names} at={at ?? null} />
      <section
        className="col-span-full flex bg-slab px-2 max-desk:grid max-desk:grid-cols-[repeat(4,1fr)] max-desk:px-12 max-desk:py-4"
        aria-label="Count"
      >
        <span className={TALLY}>
          <span className={NUMERAL}>{number(sites.length)}</span>
          <span className={WORD}>{sites.length === 1 ? 'site' : 'sites'}</span>
        </span>
        <span className={TALLY}>
          <span className={NUMERAL}>{number(counts.environments)}</span>
          <span className={WORD}>environments</span>
        </span>
        {STATES.map((one) => {
          const count = counts.states.get(one) ?? 0;
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
      <Rows
        sites={shown}
        text={text}
        find={find}
        set={set}
        goTo={goTo}
        clear={clear}
        view={view}
        stale={counts.stale}
        by={by}
        at={at ?? null}
      />
      <FleetAside sites={sites} />
    </main>
  );
}

/** What a site is found by. */
const wordsOf = ({ name, client, tags, environments }: FleetSite): string =>
  `${name} ${client} ${tags.join(' ')} ${environments[0]?.server ?? ''}`.toLowerCase();

/** Sites at which a change request is the viewer's own, or waits for them. */
function useMine(isWanted: boolean): ReadonlySet<string> {
  const waiting = useWaiting();
  const own = useQuery({
    queryKey: ['requests', 'own'],
    enabled: isWanted,
    queryFn: async () =>
      (await client.call('requestList', { query: { whose: 'mine', open: 'yes', limit: 100 } })).items,
  });
  return useMemo(
    () => new Set([...(waiting.data ?? []), ...(own.data ?? [])].map(({ site }) => site)),
    [waiting.data, own.data],
  );
}

/** How many environments there are, in each state, and how many are stale. */
function countsOf(
  sites: readonly FleetSite[],
  now: number,
): {
  readonly environments: number;
  readonly states: ReadonlyMap<EnvironmentState, number>;
  readonly stale: number;
} {
  const states = new Map<EnvironmentState, number>();
  let [environments, stale] = [0, 0];
  for (const site of sites)
    for (const one of site.environments) {
      environments++;
      states.set(one.state, (states.get(one.state) ?? 0) + 1);
      if (isStale(one, now)) stale++;
    }
  return { environments, states, stale };
}
