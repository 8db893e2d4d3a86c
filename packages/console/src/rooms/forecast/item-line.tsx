import type { ForecastItem } from '@tessarion/contract';
import type { CSSProperties, JSX } from 'react';
import { Ago } from '../../parts/words.js';

/** What is said of an item at the end of its line. */
function shortOf(item: ForecastItem): string {
  if (item.change !== 'changed') return item.change;
  const names = [...new Set(item.fields.filter((one) => !one.isHidden).map((one) => one.label))];
  return names.length > 2 ? `${names.length} fields` : names.join(', ') || 'content';
}

/** Whether what a box stands for goes, stays behind, or goes in part. */
export type Ticked = 'in' | 'out' | 'some';

const MARKS: Record<Ticked, string> = { in: 'M3.5,7L6,9.5L10.5,4.5', out: '', some: 'M3.5,7H10.5' };
/** What still needs somebody is marked, and not ticked. */
const NEEDS = 'M7,3V8M7,10V11.2';

/** A box by which items are put in or left out. */
export function TickBox({
  state,
  needs = false,
  label,
  choose,
  className,
}: {
  readonly state: Ticked;
  readonly needs?: boolean;
  readonly label: string;
  /** @param isRange whether all from the last chosen one to here are meant */
  readonly choose: (isRange: boolean) => void;
  /** How much of the line takes a click for it. */
  readonly className: string;
}): JSX.Element {
  const isOut = state === 'out';
  const colour = isOut ? 'var(--color-rim)' : needs ? 'var(--color-accent)' : 'var(--color-ink2)';
  return (
    <label className={`relative grid flex-none items-center justify-items-end ${className}`}>
      <input
        className="peer absolute inset-0 size-full opacity-0"
        type="checkbox"
        checked={state === 'in'}
        ref={(input) => {
          if (input) input.indeterminate = state === 'some';
        }}
        aria-label={label}
        onChange={({ nativeEvent }) => choose(nativeEvent instanceof MouseEvent && nativeEvent.shiftKey)}
      />
      <svg
        className="peer-focus-visible:outline-2 peer-focus-visible:outline-offset-2 peer-focus-visible:outline-accent"
        width="14"
        height="14"
        viewBox="0 0 14 14"
        aria-hidden="true"
      >
        <rect
          x=".75"
          y=".75"
          width="12.5"
          height="12.5"
          fill={isOut || needs ? 'none' : 'var(--color-ink2)'}
          stroke={colour}
          strokeWidth={1.5}
        />
        {!isOut && (
          <path
            d={needs ? NEEDS : MARKS[state]}
            fill="none"
            stroke={needs ? 'var(--color-accent)' : 'var(--color-slab)'}
            strokeWidth={1.6}
          />
        )}
      </svg>
    </label>
  );
}

/** One item in the list. Enter opens it, Space puts it in or leaves it out. */
export function ItemLine({
  item,
  isCurrent,
  isChosen = true,
  open,
  choose,
  style,
}: {
  readonly item: ForecastItem;
  readonly isCurrent: boolean;
  /** Whether it goes; absent where nothing does. */
  readonly isChosen?: boolean;
  readonly open: () => void;
  readonly choose?: (isRange: boolean) => void;
  readonly style: CSSProperties;
}): JSX.Element {
  const goes = !choose || (isChosen && item.outcome !== 'kept');
  const at = item.changed.source?.at ?? null;
  return (
    <div
      data-item={item.id}
      data-current={isCurrent || undefined}
      className={`flex h-row whitespace-nowrap border-b border-line max-desk:h-44 ${isCurrent ? 'bg-accent-tint shadow-at' : ''}`}
      style={style}
    >
      {choose && (
        <TickBox
          state={isChosen ? 'in' : 'out'}
          needs={item.outcome === 'needs-you' || item.overwrites}
          label={`Move ${item.title}`}
          choose={choose}
          className="w-30 max-desk:w-44"
        />
      )}
      <button
        type="button"
        className={`grid min-w-0 flex-1 grid-cols-[56px_minmax(0,1fr)_auto_40px] items-center gap-8 pr-16 max-desk:grid-cols-[56px_minmax(0,1fr)_auto] ${choose ? 'pl-8' : 'pl-16'} text-left focus-visible:-outline-offset-2 max-desk:pr-12 ${goes ? '' : 'text-ink3'}`}
        aria-pressed={isCurrent}
        onClick={open}
        onKeyDown={(event) => {
          if (event.key !== ' ' || !choose) return;
          event.preventDefault();
          choose(event.shiftKey);
        }}
      >
        <span className="text-small text-ink3">{item.kind}</span>
        <span className="truncate font-medium" title={item.title}>
          {item.title}
        </span>
        <span className={`max-w-140 truncate text-small ${goes ? 'text-ink2' : ''}`}>
          {goes || !isChosen ? shortOf(item) : 'stays as it is'}
        </span>
        <span className="text-right text-small text-ink3 max-desk:hidden" title={item.changed.source?.by ?? undefined}>
          {at !== null && <Ago time={at} />}
        </span>
      </button>
    </div>
  );
}
