import { useVirtualizer } from '@tanstack/react-virtual';
import type { Site } from '@tessarion/contract';
import { type JSX, useMemo, useRef } from 'react';
import { useNavigate } from 'react-router';
import { useKeys } from '../../keys.js';
import { Button, ButtonLink } from '../../parts/button.js';
import { FilterField } from '../../parts/filter-field.js';
import { Icon } from '../../parts/icon.js';
import { Empty } from '../../parts/states.js';
import { Tile } from '../../parts/tile.js';
import { Views } from '../../parts/views.js';
import { useMe } from '../../session.js';
import { GROUPS, type Group, groupOf, ofKind, STALE_DAYS } from './groups.js';
import { COLUMNS, SiteRow } from './site-row.js';

type Line =
  | { readonly type: 'head'; readonly group: Group; readonly count: number }
  | { readonly type: 'site'; readonly site: Site };

/** The sites, line by line, those that need a hand first; filtered as one types. */
export function Rows({
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
  const me = useMe();
  const scroll = useRef<HTMLDivElement>(null);
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
  useKeys([
    { key: 'j', does: 'Next site', act: () => move(1) },
    { key: 'k', does: 'Previous site', act: () => move(-1) },
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
      <div className="flex-1 overflow-auto max-desk:h-[70dvh] max-desk:flex-none" ref={scroll}>
        {lines.length === 0 && (
          <Empty
            title="No site fits"
            act={
              <Button
                onClick={() => {
                  find('');
                }}
              >
                Show all sites
              </Button>
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
                  <div className="sticky top-0 z-1 h-28 border-b border-line bg-course px-16 py-4 max-desk:px-12">
                    <b>{line.group}</b> <span className="text-ink3">{line.count}</span>
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
