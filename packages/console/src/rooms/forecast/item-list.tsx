import { useVirtualizer } from '@tanstack/react-virtual';
import type { Environment, Forecast, ForecastItem } from '@tessarion/contract';
import { type JSX, useEffect, useMemo, useRef, useState } from 'react';
import { useSearchParams } from 'react-router';
import { useKeys } from '../../keys.js';
import { rowHeight } from '../../looks.js';
import { Button } from '../../parts/button.js';
import { Choice } from '../../parts/choice.js';
import { FilterField } from '../../parts/filter-field.js';
import { Icon, OutcomeGlyph } from '../../parts/icon.js';
import { Empty } from '../../parts/states.js';
import { TickBox, type Ticked } from '../../parts/tick-box.js';
import { useAt } from '../../parts/use-view.js';
import { number } from '../../parts/words.js';
import { Unclassified } from './classify.js';
import { ItemDetail } from './item-detail.js';
import { ItemLine } from './item-line.js';
import type { Sides } from './settle.js';
import type { Wishes } from './wishes.js';

type Group = 'needs' | 'written' | 'kept' | 'left-out';

type Line =
  | { readonly is: 'group'; readonly group: Group; readonly own: readonly ForecastItem[] }
  | { readonly is: 'item'; readonly item: ForecastItem };

const GROUPS: readonly Group[] = ['needs', 'written', 'kept', 'left-out'];
const TITLES: Record<Group, string> = {
  needs: 'Needs you',
  written: 'Will be written',
  kept: 'Stays as it is',
  'left-out': 'Left out',
};

const groupOf = ({ outcome, overwrites }: ForecastItem): Group =>
  outcome === 'needs-you' || (outcome === 'written' && overwrites) ? 'needs' : outcome;

/** Where an item stood when it was first seen, or they were last sorted. */
interface Place {
  readonly group: Group;
  readonly at: number;
}

/** Everything that a forecast moves, by what becomes of it; and the chosen item beside it. */
export function Items({
  items,
  forecast,
  ends,
  wishes,
  look,
}: {
  readonly items: readonly ForecastItem[];
  readonly forecast: Forecast;
  readonly ends: { readonly from: Environment | undefined; readonly onto: Environment | undefined };
  readonly wishes: Wishes;
  /** The outcome that one looks at first. */
  readonly look: 'needs' | 'written';
}): JSX.Element {
  const [query, setQuery] = useSearchParams();
  const [text, setText] = useState(query.get('find') ?? '');
  const scroll = useRef<HTMLDivElement>(null);
  const anchor = useRef<string>(undefined);
  // An item keeps its place, whatever is chosen and settled, until somebody has them sorted anew.
  const [placed, setPlaced] = useState(() => new Map<string, Place>());
  const kind = query.get('kind') ?? '';
  const kinds = useMemo(() => [...new Set(items.map((item) => item.kind))].sort(), [items]);
  const person = query.get('by') ?? '';
  const people = useMemo(
    () => [...new Set(items.flatMap((item) => item.changed.source?.by ?? []))].sort((a, b) => a.localeCompare(b)),
    [items],
  );
  const { lines, shown } = useMemo(() => {
    for (const item of items) if (!placed.has(item.id)) placed.set(item.id, { group: groupOf(item), at: placed.size });
    const wanted = text.toLowerCase();
    const found = items.filter(
      (item) =>
        (kind === '' || item.kind === kind) &&
        (person === '' || item.changed.source?.by === person) &&
        `${item.kind} ${item.title} ${item.key}`.toLowerCase().includes(wanted),
    );
    const places = new Map(found.map((item) => [item, placed.get(item.id) as Place]));
    const ordered = [...places].sort(([, a], [, b]) => a.at - b.at);
    const groups = new Map(
      GROUPS.map((group) => [group, ordered.flatMap(([item, place]) => (place.group === group ? [item] : []))]),
    );
    const all = GROUPS.flatMap((group): Line[] => {
      const own = groups.get(group) ?? [];
      return own.length === 0
        ? []
        : [{ is: 'group', group, own }, ...own.map((item) => ({ is: 'item', item }) as const)];
    });
    return { lines: all, shown: all.flatMap((line) => (line.is === 'item' ? [line.item] : [])) };
  }, [items, text, kind, person, placed]);
  const isMoved = !wishes.isCounting && items.some((item) => placed.get(item.id)?.group !== groupOf(item));
  const firstOf = shown.find((item) => placed.get(item.id)?.group === look);
  const set = (name: string, value: string | undefined): void => {
    const next = new URLSearchParams(query);
    if (value === undefined || value === '') next.delete(name);
    else next.set(name, value);
    setQuery(next, { replace: true });
  };
  const [isAt, goTo] = useAt('item', (id) => set('item', id));
  const current = shown.find((item) => item.id === isAt) ?? firstOf ?? shown[0];
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroll.current,
    estimateSize: rowHeight,
    overscan: 10,
  });
  const hasItem = query.has('item');
  useEffect(() => {
    const at = lines.findIndex((line) => line.is === 'group' && line.group === look);
    if (!hasItem && at !== -1) virtual.scrollToIndex(at, { align: 'start' });
  }, [look, hasItem]);
  const open = (item: ForecastItem | undefined): void => {
    if (!item) return;
    goTo(item.id);
    virtual.scrollToIndex(lines.findIndex((line) => line.is === 'item' && line.item.id === item.id));
  };
  const at = shown.findIndex((item) => item.id === current?.id);
  const move = (step: number): void => open(shown[Math.min(shown.length - 1, Math.max(0, at + step))]);
  const needing = shown.filter((item) => item.outcome === 'needs-you');
  const moveToNeed = (step: number): void => {
    const place = current ? needing.indexOf(current) : -1;
    open(needing[(place + step + needing.length) % Math.max(1, needing.length)]);
  };
  /** Chooses one item, or with shift all from the last one that was chosen. */
  const choose = (item: ForecastItem | undefined, isRange: boolean): void => {
    if (!item) return;
    const [from, to] = [shown.findIndex((one) => one.id === anchor.current), shown.indexOf(item)];
    const range = isRange && from !== -1 ? shown.slice(Math.min(from, to), Math.max(from, to) + 1) : [item];
    anchor.current = item.id;
    wishes.choose(range, !isIn(item, wishes));
  };
  const chosenOf = (own: readonly ForecastItem[]): number => own.filter((item) => isIn(item, wishes)).length;
  useKeys([
    { key: 'j', does: 'Next item', act: () => move(1) },
    { key: 'k', does: 'Previous item', act: () => move(-1) },
    { key: 'n', does: 'Next that needs you', act: () => moveToNeed(1) },
    { key: 'p', does: 'Previous that needs you', act: () => moveToNeed(-1) },
    { key: 'Space', does: 'Choose the item, or leave it out', act: () => choose(current, false) },
    { key: 'Shift Space', does: 'Choose all from the last chosen one to here', act: () => choose(current, true) },
    {
      key: 'a',
      does: 'Choose all that are shown',
      act: () => (shown.length === items.length ? wishes.all() : wishes.choose(shown, true)),
    },
    { key: 'A', does: 'Leave all out that are shown', act: () => wishes.choose(shown, false) },
    { key: 'i', does: 'Choose only what is shown', act: () => wishes.only(shown) },
  ]);
  // Unclassified tables are asked for one by one.
  const failed = forecast.checks.filter((one) => one.state === 'failed' && one.name !== 'unclassified tables');
  const sides = sidesOf(forecast, ends);
  return (
    <>
      <section className="flex min-h-0 flex-col bg-slab max-desk:group-data-detail/room:hidden" aria-label="Items">
        <div className="flex items-center gap-4 border-b border-line px-16 py-6 max-desk:flex-wrap max-desk:px-12">
          <FilterField
            name="Filter items"
            placeholder="Title, path, kind"
            does="Filter"
            className="flex-1"
            text={text}
            change={(wanted) => {
              setText(wanted);
              set('find', wanted);
            }}
          />
          {kinds.length > 1 && (
            <Choice name="Kind" value={kind} options={kinds} choose={(value) => set('kind', value)} />
          )}
          {people.length > 0 && (
            <Choice name="By" value={person} options={people} choose={(value) => set('by', value)} />
          )}
        </div>
        <div className="flex-1 overflow-auto max-desk:h-[60dvh]" ref={scroll}>
          {forecast.unclassified.map((one) => (
            <Unclassified key={`${one.database} ${one.table}`} forecast={forecast} one={one} />
          ))}
          {failed.map((check) => (
            <p key={check.message} className="border-l-3 border-danger bg-danger-tint px-16 py-8">
              <b>{check.message}</b> {check.remedy}
            </p>
          ))}
          {shown.length === 0 && failed.length === 0 && forecast.unclassified.length === 0 && (
            <NoItems forecast={forecast} isFiltered={items.length > 0} />
          )}
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
                  key={line.group}
                  data-group={line.group}
                  className="flex h-row items-center gap-8 border-b border-line bg-course px-16 max-desk:h-44 max-desk:px-12"
                  style={style}
                >
                  <OutcomeGlyph outcome={line.group === 'left-out' ? 'never' : line.group} size={14} />
                  <b className={line.group === 'needs' ? 'text-accent' : ''}>
                    {line.group === 'written' && forecast.undoes !== null ? 'Will be taken back' : TITLES[line.group]}
                  </b>
                  <span className="text-ink3">{chosenText(chosenOf(line.own), line.own.length)}</span>
                  <span className="ml-auto" />
                  {row.index === 0 && isMoved && (
                    <Button bare onClick={() => setPlaced(new Map())}>
                      Sort anew
                    </Button>
                  )}
                  <TickBox
                    state={tickedOf(chosenOf(line.own), line.own.length)}
                    label={`Move all of ${TITLES[line.group]}`}
                    className="w-14 self-stretch touch:w-44"
                    choose={() => wishes.choose(line.own, chosenOf(line.own) < line.own.length)}
                  />
                </div>
              ) : (
                <ItemLine
                  key={line.item.id}
                  item={line.item}
                  isCurrent={line.item.id === current?.id}
                  isChosen={isIn(line.item, wishes)}
                  open={() => open(line.item)}
                  choose={(isRange) => choose(line.item, isRange)}
                  style={style}
                />
              );
            })}
          </div>
        </div>
      </section>
      <section
        className="col-[2/4] flex min-h-0 flex-col overflow-auto bg-slab max-desk:hidden max-desk:group-data-detail/room:block"
        aria-label="Values"
      >
        <Button bare className="desk:hidden" onClick={() => goTo(undefined)}>
          <Icon name="left" /> All items
        </Button>
        {current ? (
          <ItemDetail
            key={current.id}
            item={current}
            sides={sides}
            forecast={forecast}
            wishes={wishes}
            step={
              needing.includes(current) && needing.length > 1 ? (
                <span className="flex items-center gap-4">
                  <span className="whitespace-nowrap text-ink3">
                    {needing.indexOf(current) + 1} of {needing.length}
                  </span>
                  <Button bare onClick={() => moveToNeed(-1)} aria-label="Previous that needs you">
                    <Icon name="up" />
                  </Button>
                  <Button bare onClick={() => moveToNeed(1)} aria-label="Next that needs you">
                    <Icon name="down" />
                  </Button>
                </span>
              ) : null
            }
          />
        ) : (
          <Empty title="Nothing to show">Choose an item to see its values side by side.</Empty>
        )}
      </section>
    </>
  );
}

/** Whether an item goes, by what a person wished last; what comes along goes whether chosen or not. */
function isIn(item: ForecastItem, { current, narrowed }: Wishes): boolean {
  if (narrowed) return narrowed.has(item.id);
  if (current.except.includes(item.id)) return item.takenAlongFor !== null;
  return current.only.includes(item.id) || item.outcome !== 'left-out';
}

const tickedOf = (chosen: number, all: number): Ticked => (chosen === 0 ? 'out' : chosen < all ? 'some' : 'in');
const chosenText = (chosen: number, all: number): string =>
  chosen === all || chosen === 0 ? number(all) : `${number(chosen)} of ${number(all)} chosen`;

function sidesOf(
  forecast: Forecast,
  { from, onto }: { readonly from: Environment | undefined; readonly onto: Environment | undefined },
): Sides {
  const nameOf = (path: string): string => path.split('/')[1] ?? path;
  const destination = { name: nameOf(forecast.onto), kind: onto?.kind ?? 'live', note: 'as it is now' } as const;
  return forecast.undoes === null
    ? {
        from: { name: nameOf(forecast.from), kind: from?.kind ?? 'staging', note: 'where it comes from' },
        onto: destination,
        base: { name: 'Baseline', note: forecast.baselineAt ? 'what both had' : 'none' },
        act: forecast.direction === 'up' ? 'push' : 'pull',
      }
    : {
        from: { name: 'before', kind: destination.kind, note: 'what it was before' },
        onto: destination,
        base: { name: 'Written', note: `by ${forecast.undoes}` },
        act: 'undo',
      };
}

function NoItems({
  forecast: { undoes, from, onto },
  isFiltered,
}: {
  readonly forecast: Forecast;
  readonly isFiltered: boolean;
}): JSX.Element {
  if (isFiltered) return <Empty title="No item fits">Clear the filter to see all.</Empty>;
  if (undoes !== null)
    return <Empty title="Nothing to take back">All of it was changed since, or is as it was before.</Empty>;
  return (
    <Empty title="Nothing waits">
      {onto} has all that was made in {from}; what it alone has stays.
    </Empty>
  );
}
