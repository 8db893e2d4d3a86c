import { useVirtualizer } from '@tanstack/react-virtual';
import type { Environment, EnvironmentKind, EnvironmentState, Site } from '@tessarion/contract';
import { type JSX, useEffect, useMemo, useRef, useState } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { useKeys } from '../keys.js';
import { Icon } from '../parts/icon.js';
import { RunningJob } from '../parts/progress.js';
import { Empty, Failure, Loading } from '../parts/states.js';
import { stateWord, Tile } from '../parts/tile.js';
import { Ago, age, number, useNow } from '../parts/words.js';
import { useSites } from '../session.js';

const STATES: readonly EnvironmentState[] = ['in-step', 'drifted', 'working', 'failed', 'frozen', 'not-reached'];
const WORST: readonly EnvironmentState[] = ['not-reached', 'failed', 'working', 'frozen', 'drifted', 'in-step'];
const STALE_DAYS = 14;

const copiesOf = (site: Site): Environment[] => site.environments.filter((one) => one.kind !== 'live');
const ofKind = (site: Site, kind: EnvironmentKind): Environment[] =>
  site.environments.filter((one) => one.kind === kind);
const rank = (one: Environment): number => WORST.indexOf(one.state);

type Group = 'Needs a hand' | 'On the move' | 'Drifted' | 'In step';
const GROUPS: readonly Group[] = ['Needs a hand', 'On the move', 'Drifted', 'In step'];

function groupOf(site: Site): Group {
  const states = new Set(site.environments.map((one) => one.state));
  if (states.has('failed') || states.has('not-reached')) return 'Needs a hand';
  if (states.has('working')) return 'On the move';
  return states.has('drifted') ? 'Drifted' : 'In step';
}

/** Every site with its tiles; what each needs, and what is on the move. */
export function FleetRoom(): JSX.Element {
  const sites = useSites();
  if (sites.isPending)
    return (
      <main className="room slab">
        <Loading what="Reading the fleet" rows={14} />
      </main>
    );
  if (sites.isError)
    return (
      <main className="room slab">
        <Failure error={sites.error} />
      </main>
    );
  if (sites.data.length === 0) {
    return (
      <main className="room slab">
        <Empty title="No sites yet" act={<code className="mono">tessarion site adopt --help</code>}>
          Bring in a running site, and its tiles lie here: live first, then each copy that you make of it.
        </Empty>
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
    `${site.name} ${site.client} ${site.environments[0]?.server ?? ''}`.toLowerCase().includes(text.toLowerCase()) &&
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

/** The mosaic: each site is two copy cells left of live, always at its place; filtering dims the rest. */
function Frieze({
  sites,
  shown,
  at,
}: {
  readonly sites: Site[];
  readonly shown: ReadonlySet<string>;
  readonly at: string | null;
}): JSX.Element {
  const unit = sites.length <= 30 ? 14 : sites.length <= 120 ? 9 : 5;
  if (sites.length > 120) return <FriezeCanvas sites={sites} shown={shown} />;
  return (
    <nav
      className="frieze slab"
      aria-label="The fleet"
      style={{
        justifyContent: sites.length < 12 ? 'flex-start' : 'space-between',
        gap: `8px ${unit === 14 ? 8 : 6}px`,
      }}
    >
      {sites.map((site) => {
        const copies = copiesOf(site)
          .sort((a, b) => rank(a) - rank(b))
          .slice(0, 2)
          .sort((a, b) => (a.kind === b.kind ? 0 : a.kind === 'staging' ? -1 : 1));
        const live = site.environments.find((one) => one.kind === 'live');
        return (
          <Link
            key={site.name}
            className={`blk ${at === site.name ? 'at' : ''}`}
            style={{ opacity: shown.has(site.name) ? 1 : 0.25, width: unit === 14 ? 44 : undefined }}
            to={`/sites/${site.name}`}
            title={`${site.name} · ${site.client}`}
            aria-label={`${site.name}: ${site.environments.map((one) => `${one.name} ${stateWord(one.state)}`).join(', ')}`}
          >
            <span className="cp">
              {[0, 1].map((i) => {
                const copy = copies[i];
                return copy ? (
                  <Tile key={copy.path} kind={copy.kind} state={copy.state} size={unit} decorative />
                ) : (
                  <i key={`vacant ${String(i)}`} className="mt" style={{ width: unit, height: unit }} />
                );
              })}
            </span>
            {live && <Tile kind="live" state={live.state} size={2 * unit + 1} letter={false} decorative />}
            {unit === 14 && <span className="nm">{site.name}</span>}
          </Link>
        );
      })}
    </nav>
  );
}

/** The same mosaic for large fleets, drawn on one canvas. */
function FriezeCanvas({ sites, shown }: { readonly sites: Site[]; readonly shown: ReadonlySet<string> }): JSX.Element {
  const canvas = useRef<HTMLCanvasElement>(null);
  const navigate = useNavigate();
  const unit = sites.length <= 600 ? 5 : 3;
  const gap = unit === 5 ? 4 : 3;
  const block = { width: 3 * unit + 2 + gap, height: 2 * unit + 1 + gap };
  useEffect(() => {
    const element = canvas.current;
    if (!element) return;
    const draw = (): void => {
      const style = getComputedStyle(document.documentElement);
      const colour = (name: string): string => style.getPropertyValue(`--${name}`).trim();
      const columns = Math.max(1, Math.floor((element.clientWidth + gap) / block.width));
      const ratio = window.devicePixelRatio;
      element.style.height = `${Math.ceil(sites.length / columns) * block.height}px`;
      element.width = element.clientWidth * ratio;
      element.height = Math.ceil(sites.length / columns) * block.height * ratio;
      const pen = element.getContext('2d');
      if (!pen) return;
      pen.scale(ratio, ratio);
      const paint = (one: Environment | undefined, x: number, y: number, side: number): void => {
        if (!one) pen.fillStyle = colour('bed');
        else if (one.state === 'failed') pen.fillStyle = colour('danger');
        else pen.fillStyle = colour(one.state === 'not-reached' ? 'rim' : one.kind);
        pen.globalAlpha *= one?.state === 'in-step' ? 0.6 : 1;
        pen.fillRect(x, y, side, side);
      };
      for (const [i, site] of sites.entries()) {
        const [x, y] = [(i % columns) * block.width, Math.floor(i / columns) * block.height];
        const copies = copiesOf(site).sort((a, b) => rank(a) - rank(b));
        const base = shown.has(site.name) ? 1 : 0.25;
        for (const [one, dx, dy, side] of [
          [copies[0], 0, 0, unit],
          [copies[1], 0, unit + 1, unit],
          [site.environments.find((e) => e.kind === 'live'), unit + 1, 0, 2 * unit + 1],
        ] as const) {
          pen.globalAlpha = base;
          paint(one, x + dx, y + dy, side);
        }
      }
    };
    draw();
    const watch = new ResizeObserver(draw);
    watch.observe(element);
    return () => watch.disconnect();
  }, [sites, shown, unit, gap, block.width, block.height]);
  return (
    <section className="frieze slab" aria-label="The fleet; the rows below say the same">
      <canvas
        ref={canvas}
        style={{ width: '100%' }}
        onClick={(event) => {
          const columns = Math.max(1, Math.floor((event.currentTarget.clientWidth + gap) / block.width));
          const box = event.currentTarget.getBoundingClientRect();
          const site =
            sites[
              Math.floor((event.clientY - box.top) / block.height) * columns +
                Math.floor((event.clientX - box.left) / block.width)
            ];
          if (site) void navigate(`/sites/${site.name}`);
        }}
      />
    </section>
  );
}

type Line =
  | { readonly type: 'head'; readonly group: Group; readonly count: number }
  | { readonly type: 'site'; readonly site: Site };

function Rows({
  sites,
  text,
  find,
  set,
  view,
  stale,
  at,
}: {
  readonly sites: Site[];
  readonly text: string;
  readonly find: (wanted: string) => void;
  readonly set: (name: string, value: string | null) => void;
  readonly view: string | null;
  readonly stale: number;
  readonly at: string | null;
}): JSX.Element {
  const navigate = useNavigate();
  const scroll = useRef<HTMLDivElement>(null);
  const field = useRef<HTMLInputElement>(null);
  const lines = useMemo((): Line[] => {
    return GROUPS.flatMap((group) => {
      const members = sites.filter((site) => groupOf(site) === group);
      return members.length === 0
        ? []
        : [
            { type: 'head' as const, group, count: members.length },
            ...members.map((site) => ({ type: 'site' as const, site })),
          ];
    });
  }, [sites]);
  const isNarrow = window.matchMedia('(max-width: 720px)').matches;
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroll.current,
    estimateSize: (i) => (lines[i]?.type === 'head' ? 28 : isNarrow ? 64 : 32),
    overscan: 12,
  });
  const ordered = lines.flatMap((line) => (line.type === 'site' ? [line.site.name] : []));
  const move = (step: number): void => {
    const index = Math.min(ordered.length - 1, Math.max(0, ordered.indexOf(at ?? '') + step));
    const name = ordered[index];
    if (name === undefined) return;
    set('at', name);
    virtual.scrollToIndex(lines.findIndex((line) => line.type === 'site' && line.site.name === name));
  };
  useKeys({
    '/': () => field.current?.focus(),
    j: () => move(1),
    k: () => move(-1),
    Enter: () => at !== null && void navigate(`/sites/${at}`),
    f: () => {
      const site = sites.find((one) => one.name === at);
      const staging = site && ofKind(site, 'staging')[0];
      if (site && staging) void navigate(`/sites/${site.name}/forecast?from=${staging.path}&onto=${site.name}/live`);
    },
  });
  return (
    <section className="rows slab" aria-label="Sites">
      <div className="tools">
        <label className="fl">
          <Icon name="find" />
          <input
            ref={field}
            value={text}
            onChange={(event) => find(event.target.value)}
            onKeyDown={(event) => event.key === 'Escape' && event.currentTarget.blur()}
            placeholder="Filter by site, client, server"
            aria-label="Filter by site, client, server"
          />
          <kbd>/</kbd>
        </label>
        <span className="views">
          <button type="button" className={view === null ? 'on' : ''} onClick={() => set('view', null)}>
            All
          </button>
          <button type="button" className={view === 'stale' ? 'on' : ''} onClick={() => set('view', 'stale')}>
            Stale over {STALE_DAYS} d <b>{stale}</b>
          </button>
        </span>
      </div>
      <div className="r h">
        <span>Site</span>
        <span className="lane">
          <Tile kind="dev" state="in-step" size={14} decorative />
          dev
        </span>
        <span />
        <span className="lane">
          <Tile kind="staging" state="in-step" size={14} decorative />
          staging
        </span>
        <span />
        <span className="lane lv" style={{ gap: 4 }}>
          <Tile kind="live" state="in-step" size={14} decorative />
          live
        </span>
        <span className="why">What is going on</span>
        <span className="mv">Last move</span>
      </div>
      <div className="scroll" ref={scroll}>
        {lines.length === 0 && (
          <Empty
            title="No site fits"
            act={
              <button
                type="button"
                className="btn"
                onClick={() => {
                  find('');
                }}
              >
                Show all sites
              </button>
            }
          >
            Nothing in the fleet has “{text}” in its name or client, in this view.
          </Empty>
        )}
        <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {virtual.getVirtualItems().map((row) => {
            const line = lines[row.index] as Line;
            return (
              <div
                key={line.type === 'head' ? line.group : line.site.name}
                ref={virtual.measureElement}
                data-index={row.index}
                style={{ position: 'absolute', top: 0, left: 0, right: 0, transform: `translateY(${row.start}px)` }}
              >
                {line.type === 'head' ? (
                  <div className="g">
                    <b>{line.group}</b> <span className="qq">{line.count}</span>
                  </div>
                ) : (
                  <SiteRow site={line.site} isCurrent={line.site.name === at} />
                )}
              </div>
            );
          })}
        </div>
      </div>
    </section>
  );
}

function SiteRow({ site, isCurrent }: { readonly site: Site; readonly isCurrent: boolean }): JSX.Element {
  const [dev] = ofKind(site, 'dev');
  const [staging, ...more] = ofKind(site, 'staging');
  const [live] = ofKind(site, 'live');
  const reason =
    [...site.environments].sort((a, b) => rank(a) - rank(b)).find((one) => one.reason !== '')?.reason ?? '';
  const running = site.environments.find((one) => one.running)?.running;
  const last = site.environments
    .flatMap((one) => (one.last ? [one.last] : []))
    .sort((a, b) => ((a.endedAt ?? '') < (b.endedAt ?? '') ? 1 : -1))[0];
  const isHot = groupOf(site) === 'Needs a hand' || running !== undefined;
  return (
    <div className={`r ${isCurrent ? 'cur' : ''}`}>
      <Link className="st" to={`/sites/${site.name}`} title={`${site.name} · ${site.client}`}>
        <b>{site.name}</b> <span className="qq">{site.client}</span>
      </Link>
      <Cell one={dev} more={0} />
      <Lane from={dev} />
      <Cell one={staging} more={more.length} />
      <Lane from={staging} />
      <span className="lane lv">{live && <Tile kind="live" state={live.state} size={18} />}</span>
      <span className={`why ${isHot ? 'hot' : ''}`} title={reason}>
        {running ? `${verbOf(running.kind)} ${running.onto.split('/')[1]}` : reason}
      </span>
      <span className="mv qq">
        {isCurrent && staging ? (
          <Link className="btn sm" to={`/sites/${site.name}/forecast?from=${staging.path}&onto=${site.name}/live`}>
            Forecast
          </Link>
        ) : last ? (
          <>
            {last.kind} <Ago time={last.endedAt} />
          </>
        ) : null}
      </span>
    </div>
  );
}

const VERBS: Record<string, string> = {
  clone: 'Making',
  push: 'Pushing onto',
  pull: 'Bringing news into',
  reset: 'Resetting',
  restore: 'Restoring',
  undo: 'Undoing on',
  snapshot: 'Taking a snapshot of',
  remove: 'Removing',
  rename: 'Renaming',
  adopt: 'Bringing in',
};
const verbOf = (kind: string): string => VERBS[kind] ?? kind;

function Cell({ one, more }: { readonly one: Environment | undefined; readonly more: number }): JSX.Element {
  const now = useNow();
  if (!one) return <span className="lane none" />;
  const isStale = one.refreshedAt !== null && now - Date.parse(one.refreshedAt) > STALE_DAYS * 86_400_000;
  return (
    <span className="lane">
      <Tile kind={one.kind} state={one.state} size={18} />
      <span className="en q">{one.name}</span>
      {more > 0 && <span className="qq">+{more}</span>}
      {one.refreshedAt && <span className={`ag ${isStale ? 'stale' : 'qq'}`}>{age(one.refreshedAt, now)}</span>}
    </span>
  );
}

function Lane({ from }: { readonly from: Environment | undefined }): JSX.Element {
  if (!from) return <span className="x off" />;
  const { drift } = from;
  if (!drift || drift.up + drift.down === 0) return <span className="x eq" title="Nothing waits" />;
  return (
    <span className="x">
      <span className="up">
        {drift.up > 0 && (
          <>
            <b>{drift.up}</b>
            <Icon name="right" size={12} />
          </>
        )}
      </span>
      <span className="dn">
        {drift.down > 0 && (
          <>
            <Icon name="left" size={12} />
            {drift.down}
          </>
        )}
      </span>
    </span>
  );
}
