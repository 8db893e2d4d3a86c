import type { JSX } from 'react';

/** Whether what a box stands for goes, stays behind, or goes in part. */
export type Ticked = 'in' | 'out' | 'some';

const MARKS: Record<Ticked, string> = { in: 'M3.5,7L6,9.5L10.5,4.5', out: '', some: 'M3.5,7H10.5' };
/** What still needs somebody is marked, and not ticked. */
const NEEDS = 'M7,3V8M7,10V11.2';

/** A box by which things of a list are chosen, or left out. */
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
