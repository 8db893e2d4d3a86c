import { useMutation } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import type { Forecast, ForecastItem, Site } from '@tessarion/contract';
import { counted } from '@tessarion/core';
import { Fragment, type JSX, useEffect, useMemo, useRef, useState } from 'react';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import { useKeys } from '../../keys.js';
import { rowHeight } from '../../looks.js';
import { Button, ButtonLink } from '../../parts/button.js';
import { FilterField } from '../../parts/filter-field.js';
import { Icon } from '../../parts/icon.js';
import { Plate } from '../../parts/plate.js';
import { Crumb } from '../../parts/room.js';
import { Empty, Failure, Loading } from '../../parts/states.js';
import { useAt } from '../../parts/use-view.js';
import { number } from '../../parts/words.js';
import { client, useForecast, useSite } from '../../session.js';
import { forecastLink } from '../site/map.js';
import { ItemDetail } from './item-detail.js';
import { ItemLine } from './item-line.js';
import type { Sides } from './settle.js';
import { useItems } from './use-items.js';
import { useWishes } from './wishes.js';

/** An item as two copies have it: who changed it since they had it in common. */
interface Difference {
  readonly key: string;
  readonly of: 'both' | 'left' | 'right';
  readonly item: ForecastItem;
}

type Line =
  | { readonly is: 'group'; readonly title: string; readonly count: number }
  | { readonly is: 'item'; readonly one: Difference };

/** What two copies of one kind do not have in common. Nothing moves between them; each can be taken up. */
export function CompareRoom(): JSX.Element {
  const { site: siteName = '' } = useParams();
  const [query, setQuery] = useSearchParams();
  const [left, right] = [query.get('left') ?? '', query.get('right') ?? ''];
  const site = useSite(siteName);
  const make = useMutation({
    mutationFn: () =>
      Promise.all([
        client.call('forecastCreate', { body: { from: left, onto: right } }),
        client.call('forecastCreate', { body: { from: right, onto: left } }),
      ]),
  });
  const asked = useRef('');
  const { mutate } = make;
  useEffect(() => {
    if (asked.current === `${left} ${right}`) return;
    asked.current = `${left} ${right}`;
    mutate();
  }, [left, right, mutate]);
  const ahead = useForecast(make.data?.[0].id).data;
  const back = useForecast(make.data?.[1].id).data;
  const navigate = useNavigate();
  useKeys([
    { key: 'f', does: 'Compare again', act: () => mutate() },
    { key: 'x', does: 'Swap the two', act: () => setQuery({ left: right, right: left }) },
    { key: 'Escape', does: `Back to ${siteName}`, act: () => void navigate(`/sites/${siteName}`) },
  ]);
  const find = (path: string) => site.data?.environments.find((one) => one.path === path);
  const failed = [ahead, back].find((one) => one?.state === 'failed')?.failure;
  return (
    <>
      <Crumb
        way={[
          ['Fleet', '/'],
          [siteName, `/sites/${siteName}`],
        ]}
        here="Compare"
      >
        <span className="flex-1 max-desk:hidden" />
        <Button small className="max-desk:hidden" onClick={() => mutate()}>
          Compare again
        </Button>
      </Crumb>
      <main
        data-detail={query.has('item') || undefined}
        className="group/room grid min-h-0 flex-1 grid-cols-[432px_minmax(0,1fr)] grid-rows-[auto_auto_minmax(0,1fr)] gap-2 max-wide:grid-cols-[minmax(280px,38%)_minmax(0,1fr)] broad:grid-cols-[520px_minmax(0,1fr)] max-desk:flex max-desk:min-h-auto max-desk:flex-col"
      >
        <section
          className="col-[1/3] grid grid-cols-2 gap-2 bg-slab px-16 pt-12 max-desk:grid-cols-1 max-desk:px-12 max-desk:group-data-detail/room:hidden"
          aria-label="Compared"
        >
          <Plate side="even" label="Left" path={left} one={find(left)} />
          <Plate side="even" label="Right" path={right} one={find(right)} />
        </section>
        {make.isError || failed ? (
          <section className="col-span-full row-[2/-1] overflow-auto bg-slab">
            {make.isError ? (
              <Failure error={make.error} />
            ) : (
              <Empty title="They could not be compared">
                {failed?.message} {failed?.next}
              </Empty>
            )}
          </section>
        ) : ahead?.state === 'ready' && back?.state === 'ready' && site.data ? (
          <Compared ahead={ahead} back={back} site={site.data} />
        ) : (
          <section className="col-span-full row-[2/-1] overflow-auto bg-slab">
            <Loading what={`Reading ${left} and ${right}`} rows={10} />
          </section>
        )}
      </main>
    </>
  );
}

function Compared({
  ahead,
  back,
  site,
}: {
  readonly ahead: Forecast;
  readonly back: Forecast;
  readonly site: Site;
}): JSX.Element {
  const [query, setQuery] = useSearchParams();
  const [text, setText] = useState('');
  const scroll = useRef<HTMLDivElement>(null);
  const leftItems = useItems(ahead);
  const rightItems = useItems(back);
  const [isAt, goTo] = useAt('item', (key) => {
    const next = new URLSearchParams(query);
    if (key === undefined) next.delete('item');
    else next.set('item', key);
    setQuery(next, { replace: true });
  });
  const nameOf = (path: string): string => path.split('/')[1] ?? path;
  const [left, right] = [nameOf(ahead.from), nameOf(ahead.onto)];
  const all = useMemo((): readonly Difference[] => {
    const both = leftItems.items.filter((item) => item.collisions.length > 0);
    const ids = new Set(both.map((item) => item.id));
    return [
      ...both.map((item) => ({ key: item.id, of: 'both', item }) as const),
      ...leftItems.items
        .filter((item) => item.collisions.length === 0)
        .map((item) => ({ key: item.id, of: 'left', item }) as const),
      ...rightItems.items
        .filter((item) => item.collisions.length === 0 && !ids.has(item.id))
        .map((item) => ({ key: `right ${item.id}`, of: 'right', item: turned(item) }) as const),
    ];
  }, [leftItems.items, rightItems.items]);
  const lines = useMemo((): readonly Line[] => {
    const wanted = text.toLowerCase();
    const found = all.filter(({ item }) => `${item.kind} ${item.title} ${item.key}`.toLowerCase().includes(wanted));
    const titles = { both: 'Changed on both', left: `Changed on ${left}`, right: `Changed on ${right}` } as const;
    return (['both', 'left', 'right'] as const).flatMap((of): Line[] => {
      const own = found.filter((one) => one.of === of);
      return own.length === 0
        ? []
        : [{ is: 'group', title: titles[of], count: own.length }, ...own.map((one) => ({ is: 'item', one }) as const)];
    });
  }, [all, text, left, right]);
  const shown = lines.flatMap((line) => (line.is === 'item' ? [line.one] : []));
  const current = shown.find((one) => one.key === isAt) ?? shown[0];
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroll.current,
    estimateSize: rowHeight,
    overscan: 10,
  });
  const move = (step: number): void => {
    const next = shown[Math.min(shown.length - 1, Math.max(0, (current ? shown.indexOf(current) : -1) + step))];
    if (!next) return;
    goTo(next.key);
    virtual.scrollToIndex(lines.findIndex((line) => line.is === 'item' && line.one === next));
  };
  useKeys([
    { key: 'j', does: 'Next item', act: () => move(1) },
    { key: 'k', does: 'Previous item', act: () => move(-1) },
  ]);
  const wishes = useWishes(current?.of === 'right' ? back : ahead);
  const kind = site.environments.find((one) => one.path === ahead.from)?.kind ?? 'staging';
  const sides: Sides = {
    from: { name: left, kind, note: 'as it is now' },
    onto: { name: right, kind, note: 'as it is now' },
    base: { name: 'Baseline', note: ahead.baselineAt ? 'what both had' : 'none' },
    act: 'compare',
    isTurned: current?.of === 'right',
  };
  const count = (of: Difference['of']): number => all.filter((one) => one.of === of).length;
  return (
    <>
      <section className="col-[1/3] -mt-2 flex flex-wrap items-center gap-x-8 gap-y-8 bg-slab px-16 pt-8 pb-12 max-desk:px-12 max-desk:group-data-detail/room:hidden">
        <p className="max-w-900 flex-1 text-pretty text-sentence max-desk:text-[17px]/24" aria-live="polite">
          {all.length === 0 ? (
            'They have all in common.'
          ) : (
            <>
              They differ in <b className="font-[620]">{counted(all.length, 'thing')}</b>, changed on{' '}
              {(['left', 'right', 'both'] as const)
                .filter((of) => count(of) > 0)
                .map((of, i) => (
                  <Fragment key={of}>
                    {i > 0 && ', on '}
                    {of === 'both' ? 'both' : <span className="mono text-[18px]">{of === 'left' ? left : right}</span>}:{' '}
                    {number(count(of))}
                  </Fragment>
                ))}
              .
            </>
          )}
        </p>
        {[ahead.from, ahead.onto].map((path) => {
          const one = site.environments.find((candidate) => candidate.path === path);
          return (
            one && (
              <ButtonLink key={path} to={forecastLink(site, one)}>
                Forecast {one.name} onto {nameOf(new URLSearchParams(forecastLink(site, one)).get('onto') ?? '')}
              </ButtonLink>
            )
          );
        })}
      </section>
      <section className="flex min-h-0 flex-col bg-slab max-desk:group-data-detail/room:hidden" aria-label="Items">
        <div className="flex items-center gap-4 border-b border-line px-16 py-6 max-desk:px-12">
          <FilterField
            name="Filter items"
            placeholder="Title, path, kind"
            does="Filter"
            className="flex-1"
            text={text}
            change={setText}
          />
        </div>
        <div className="flex-1 overflow-auto max-desk:h-[60dvh]" ref={scroll}>
          {shown.length === 0 &&
            (all.length === 0 ? (
              <Empty title="Nothing differs">What both took from above is the same.</Empty>
            ) : (
              <Empty title="No item fits">Clear the filter to see all.</Empty>
            ))}
          <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
            {virtual.getVirtualItems().map((row) => {
              const line = lines[row.index];
              if (!line) return null;
              const style = {
                position: 'absolute',
                top: 0,
                left: 0,
                right: 0,
                transform: `translateY(${row.start}px)`,
              } as const;
              return line.is === 'group' ? (
                <div
                  key={line.title}
                  className="flex h-row items-center gap-8 border-b border-line bg-course px-16 max-desk:h-44 max-desk:px-12"
                  style={style}
                >
                  <b>{line.title}</b>
                  <span className="text-ink3">{number(line.count)}</span>
                </div>
              ) : (
                <ItemLine
                  key={line.one.key}
                  item={line.one.item}
                  isCurrent={line.one === current}
                  open={() => goTo(line.one.key)}
                  style={style}
                />
              );
            })}
          </div>
        </div>
      </section>
      <section
        className="flex min-h-0 flex-col overflow-auto bg-slab max-desk:hidden max-desk:group-data-detail/room:block"
        aria-label="Values"
      >
        <Button bare className="desk:hidden" onClick={() => goTo(undefined)}>
          <Icon name="left" /> All items
        </Button>
        {current ? (
          <ItemDetail
            key={current.key}
            item={current.item}
            sides={sides}
            forecast={current.of === 'right' ? back : ahead}
            wishes={wishes}
            step={null}
          />
        ) : (
          <Empty title="Nothing to show">Choose an item to see its values side by side.</Empty>
        )}
      </section>
    </>
  );
}

/** An item of the way back in the columns of the way there. */
const turned = (item: ForecastItem): ForecastItem => ({
  ...item,
  changed: { source: item.changed.destination, destination: item.changed.source },
  fields: item.fields.map((field) => ({ ...field, source: field.before, before: field.source })),
});
