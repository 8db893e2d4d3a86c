import type { JSX } from 'react';

const PATHS = {
  find: 'M7,2.5A4.5,4.5 0 1 0 7,11.5A4.5,4.5 0 1 0 7,2.5M10.5,10.5L14,14',
  down: 'M4,6L8,10L12,6',
  up: 'M4,10L8,6L12,10',
  right: 'M1.5,8H13.5M9.5,4L13.5,8L9.5,12',
  left: 'M14.5,8H2.5M6.5,4L2.5,8L6.5,12',
  check: 'M3,8.5L6.5,12L13,4.5',
  warn: 'M8,2.5L14.5,13.5H1.5ZM8,6.5V9.5M8,11.4V11.5',
  undo: 'M3,6H9.5A3.5,3.5 0 0 1 9.5,13H6M6,3L3,6L6,9',
  bell: 'M4,11.5H12L11,10V7A3,3 0 0 0 5,7V10ZM7,13.5H9',
  lock: 'M4,7.5H12V13.5H4ZM5.5,7.5V5A2.5,2.5 0 0 1 10.5,5V7.5',
  swap: 'M3,5H13M10,2L13,5L10,8M13,11H3M6,8L3,11L6,14',
  plus: 'M8,3V13M3,8H13',
  close: 'M4,4L12,12M12,4L4,12',
  open: 'M6,3H3V13H13V10M9,3H13V7M13,3L7.5,8.5',
} as const;

type IconName = keyof typeof PATHS;

/** A sign of one line weight, in the colour of the text around it. */
export function Icon({
  name,
  size = 14,
  className = '',
}: {
  readonly name: IconName;
  readonly size?: number;
  readonly className?: string;
}): JSX.Element {
  return (
    <svg
      className={`block flex-none ${className}`.trim()}
      width={size}
      height={size}
      viewBox="0 0 16 16"
      aria-hidden="true"
    >
      <path d={PATHS[name]} fill="none" stroke="currentColor" strokeWidth={1.5} strokeLinecap="square" />
    </svg>
  );
}

/** Glyphs of the four outcomes of a forecast. */
export function OutcomeGlyph({
  outcome,
  size = 18,
  className = '',
}: {
  readonly outcome: 'needs' | 'written' | 'kept' | 'never';
  readonly size?: number;
  readonly className?: string;
}): JSX.Element {
  return (
    <svg className={`flex-none ${className}`.trim()} width={size} height={size} viewBox="0 0 16 16" aria-hidden="true">
      {outcome === 'needs' && (
        <>
          <path
            d="M1.5,1.5H9.5V9.5H1.5Z"
            fill="var(--color-accent-tint)"
            stroke="var(--color-accent)"
            strokeWidth={1.2}
          />
          <path d="M6.5,6.5H14.5V14.5H6.5Z" fill="var(--color-accent)" stroke="var(--color-accent)" strokeWidth={1.2} />
          <path d="M6.5,6.5H9.5V9.5H6.5Z" fill="var(--color-accent-tint)" />
        </>
      )}
      {outcome === 'written' && (
        <>
          <path d="M1.5,1.5H14.5V14.5H1.5Z" fill="var(--color-ink)" />
          <path d="M4.5,8H11M8.2,5L11.2,8L8.2,11" fill="none" stroke="var(--color-slab)" strokeWidth={1.6} />
        </>
      )}
      {outcome === 'kept' && (
        <>
          <path d="M2.2,2.2H13.8V13.8H2.2Z" fill="none" stroke="var(--color-ink2)" strokeWidth={1.4} />
          <path d="M5,5H11V11H5Z" fill="var(--color-ink2)" />
        </>
      )}
      {outcome === 'never' && (
        <>
          <path
            d="M2.2,2.2H13.8V13.8H2.2Z"
            fill="none"
            stroke="var(--color-ink3)"
            strokeWidth={1.2}
            strokeDasharray="2.3 1.57"
          />
          <path d="M5,8H11" stroke="var(--color-ink3)" strokeWidth={1.4} />
        </>
      )}
    </svg>
  );
}
