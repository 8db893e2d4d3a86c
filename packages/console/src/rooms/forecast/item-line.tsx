import type { ForecastItem } from '@tessarion/contract';
import type { CSSProperties, JSX } from 'react';
import { TickBox } from '../../parts/tick-box.js';
import { Ago } from '../../parts/words.js';

/** What is said of an item at the end of its line. */
function shortOf(item: ForecastItem): string {
  if (item.change !== 'changed') return item.change;
  const names = [...new Set(item.fields.filter((one) => !one.isHidden).map((one) => one.label))];
  return names.length > 2 ? `${names.length} fields` : names.join(', ') || 'content';
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
