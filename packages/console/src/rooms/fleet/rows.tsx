import { useVirtualizer } from '@tanstack/react-virtual';
import type { FleetSite } from '@tessarion/contract';
import { type JSX, lazy, Suspense, useCallback, useMemo, useRef, useState } from 'react';
import { useNavigate } from 'react-router';
import { useKeys } from '../../keys.js';
import { rowHeight } from '../../looks.js';
import { Button, ButtonLink } from '../../parts/button.js';
import { Choice } from '../../parts/choice.js';
import { FilterField } from '../../parts/filter-field.js';
import { Icon } from '../../parts/icon.js';
import { SavedViews } from '../../parts/saved-views.js';
import { Empty } from '../../parts/states.js';
import { TickBox } from '../../parts/tick-box.js';
import { Tile } from '../../parts/tile.js';
import { Views } from '../../parts/views.js';
import { number } from '../../parts/words.js';
import { useMe } from '../../session.js';
import { GROUPINGS, type Grouping, groupsOf, ofKind, STALE_DAYS } from './groups.js';
import { COLUMNS, SiteRow } from './site-row.js';

const ActsUponSeveral = lazy(async () => ({ default: (await import('./several.js')).ActsUponSeveral }));

type Line =
  | { readonly type: 'head'; readonly name: string; readonly count: number }
  | { readonly type: 'site'; readonly site: FleetSite; readonly group: string };

/** The sites, line by line, those that need a hand first; filtered as one types. */
export function Rows({
  sites,
  text,
  find,
  set,
  goTo,
  clear,
  view,
  stale,
  by,
  at,
}: {
  readonly sites: readonly FleetSite[];
  readonly text: string;
  readonly find: (wanted: string) => void;
  readonly set: (name: string, value: string | null) => void;
  /** Makes a site the one that keys act upon. */
  readonly goTo: (name: string) => void;
  /** Takes every filter out. */
  readonly clear: () => void;
  readonly view: string | null;
  readonly stale: number;
  readonly by: Grouping;
  readonly at: string | null;
}): JSX.Element {
  const navigate = useNavigate();
  const me = useMe();
  const scroll = useRef<HTMLDivElement>(null);
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [folded, setFolded] = useState<ReadonlySet<string>>(new Set());
  const lines = useMemo(
    (): Line[] =>
      groupsOf(sites, by).flatMap(({ name, sites: members }) => [
        { type: 'head' as const, name, count: members.length },
        ...(folded.has(name) ? [] : members.map((site) => ({ type: 'site' as const, site, group: name }))),
      ]),
    [sites, by, folded],
  );
  const fold = (name: string): void =>
    setFolded((now) => {
      const next = new Set(now);
      if (!next.delete(name)) next.add(name);
      return next;
    });
  const isNarrow = window.matchMedia('(max-width: 720px)').matches;
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroll.current,
    estimateSize: (i) => (lines[i]?.type === 'head' ? (isNarrow ? 44 : 28) : isNarrow ? 64 : rowHeight()),
    overscan: 12,
  });
  const ordered = lines.flatMap((line) => (line.type === 'site' ? [line.site.name] : []));
  const move = (step: number): void => {
    const index = Math.min(ordered.length - 1, Math.max(0, ordered.indexOf(at ?? '') + step));
    const name = ordered[index];
    if (name === undefined) return;
    goTo(name);
    virtual.scrollToIndex(lines.findIndex((line) => line.type === 'site' && line.site.name === name));
  };
  const anchor = useRef<string>(undefined);
  const choose = (name: string, isRange: boolean): void => {
    const [from, to] = [ordered.indexOf(anchor.current ?? ''), ordered.indexOf(name)];
    const names = isRange && from !== -1 ? ordered.slice(Math.min(from, to), Math.max(from, to) + 1) : [name];
    anchor.current = name;
    const isIn = !chosen.has(name);
    setChosen(new Set([...[...chosen].filter((one) => !names.includes(one)), ...(isIn ? names : [])]));
  };
  // The same one for every row, whatever was chosen since.
  const latest = useRef(choose);
  latest.current = choose;
  const chooseNow = useCallback((name: string, isRange: boolean): void => latest.current(name, isRange), []);
  /** Chooses all of some sites, or none of them where they are all chosen. */
  const chooseAll = (names: readonly string[]): void =>
    setChosen(
      names.every((name) => chosen.has(name))
        ? new Set([...chosen].filter((one) => !names.includes(one)))
        : new Set([...chosen, ...names]),
    );
  const shownChosen = sites.filter(({ name }) => chosen.has(name));
  useKeys([
    { key: 'Space', does: 'Choose the site, for acts upon several', act: () => at !== null && choose(at, false) },
    {
      key: 'Shift Space',
      does: 'Choose all from the last chosen one to here',
      act: () => at !== null && choose(at, true),
    },
    { key: 'a', does: 'Choose all that are shown, or none', act: () => chooseAll(sites.map(({ name }) => name)) },
    { key: 'j', does: 'Next site', act: () => move(1) },
    { key: 'k', does: 'Previous site', act: () => move(-1) },
    { key: 'c', does: 'New copy of the site', act: () => at !== null && void navigate(`/sites/${at}/new`) },
    { key: 'Enter', does: 'Open the site', act: () => at !== null && void navigate(`/sites/${at}`) },
    {
      key: 'f',
      does: 'Forecast the site’s staging onto live',
      act: () => {
        const site = sites.find((one) => one.name === at);
        const staging = site && ofKind(site, 'staging')[0];
        if (!site || !staging) return false;
        return void navigate(`/sites/${site.name}/forecast?from=${staging.path}&onto=${site.name}/live`);
      },
    },
  ]);
  return (
    <section className="flex min-h-0 flex-col bg-slab max-desk:min-h-[60dvh]" aria-label="Sites">
      <div className="flex items-center gap-8 px-16 py-8 max-desk:flex-wrap max-desk:px-12">
        <FilterField name="Filter by site, client, tag, server" does="Filter" text={text} change={find} />
        <Views
          name="Which"
          views={[
            { view: 'all', words: 'All' },
            { view: 'mine', words: 'Mine' },
            {
              view: 'stale',
              words: (
                <>
                  Stale over {STALE_DAYS} d <b>{stale}</b>
                </>
              ),
            },
          ]}
          at={view ?? 'all'}
          choose={(wanted) => set('view', wanted === 'all' ? null : wanted)}
        />
        <Choice
          name="Group by"
          value={by}
          none="need"
          options={GROUPINGS.slice(1)}
          choose={(wanted) => set('by', wanted === 'need' ? null : wanted)}
        />
        <SavedViews room="fleet" find={text} take={(wanted) => find(wanted.get('find') ?? '')} />
        {me.data?.permissions.includes('site.manage') && (
          <>
            <span className="flex-1 max-desk:hidden" />
            <ButtonLink to="/bring-in">
              <Icon name="plus" />
              Bring in a site
            </ButtonLink>
          </>
        )}
      </div>
      <div className={`grid h-28 border-b border-line text-ink3 text-small max-desk:hidden ${COLUMNS}`}>
        <TickBox
          state={chosen.size === 0 ? 'out' : shownChosen.length < sites.length ? 'some' : 'in'}
          label="Choose all sites that are shown"
          choose={() => chooseAll(sites.map(({ name }) => name))}
          className="w-14 self-stretch justify-self-start"
        />
        <span>Site</span>
        <span className="flex items-center gap-6">
          <Tile kind="dev" state="in-step" size={14} decorative />
          dev
        </span>
        <span />
        <span className="flex items-center gap-6">
          <Tile kind="staging" state="in-step" size={14} decorative />
          staging
        </span>
        <span />
        <span className="flex items-center justify-center gap-4">
          <Tile kind="live" state="in-step" size={14} decorative />
          live
        </span>
        <span className="px-8">What is going on</span>
        <span className="text-right">Last move</span>
      </div>
      {shownChosen.length > 0 && (
        <Suspense fallback={<div className="h-36 flex-none border-b border-line bg-accent-tint" />}>
          <ActsUponSeveral sites={shownChosen} leave={() => setChosen(new Set())} />
        </Suspense>
      )}
      <div className="flex-1 overflow-auto max-desk:h-[70dvh] max-desk:flex-none" ref={scroll}>
        {lines.length === 0 && (
          <Empty title="No site fits" act={<Button onClick={clear}>Show all sites</Button>}>
            {text === ''
              ? 'No site is as this view and the count above ask for.'
              : `Nothing in this view has “${text}” in its name, client, tags or server.`}
          </Empty>
        )}
        <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {virtual.getVirtualItems().map((row) => {
            const line = lines[row.index] as Line;
            return (
              <div
                key={line.type === 'head' ? `${line.name}/` : `${line.group}/${line.site.name}`}
                ref={virtual.measureElement}
                data-index={row.index}
                style={{ position: 'absolute', top: 0, left: 0, right: 0, transform: `translateY(${row.start}px)` }}
              >
                {line.type === 'head' ? (
                  <button
                    type="button"
                    aria-expanded={!folded.has(line.name)}
                    className="group flex h-28 w-full items-center gap-8 border-b border-line bg-course px-16 text-left focus-visible:-outline-offset-2 max-desk:h-44 max-desk:px-12"
                    onClick={() => fold(line.name)}
                  >
                    <Icon name="down" size={12} className="text-ink3 group-aria-expanded:rotate-0 -rotate-90" />
                    <b>{line.name}</b> <span className="text-ink3">{number(line.count)}</span>
                  </button>
                ) : (
                  <SiteRow
                    site={line.site}
                    isCurrent={line.site.name === at}
                    isChosen={chosen.has(line.site.name)}
                    choose={chooseNow}
                  />
                )}
              </div>
            );
          })}
        </div>
      </div>
    </section>
  );
}
