import type { EnvironmentKind, EnvironmentState } from '@tessarion/contract';
import type { JSX } from 'react';

const SHAPE = {
  live: 'M1.5,1.5H14.5V14.5H1.5Z',
  staging: 'M1.5,1.5H9.5L14.5,6.5V14.5H1.5Z',
  dev: 'M8,.7L15.3,8L8,15.3L.7,8Z',
} as const;
const SLID = {
  live: 'M1.5,5H11V14.5H1.5Z',
  staging: 'M1.5,5H7.5L11,8.5V14.5H1.5Z',
  dev: 'M8,4.7L13.3,10L8,15.3L2.7,10Z',
} as const;
const LETTER = {
  live: 'M6.2,4.9V11.1H10.2',
  staging: 'M10.2,6.1L9,4.9H7L5.8,6.1V6.8L7,8H9L10.2,9.2V9.9L9,11.1H7L5.8,9.9',
  dev: 'M6.3,5.1H8.6L10.1,6.6V9.4L8.6,10.9H6.3Z',
} as const;
const FRAME = {
  live: 'M2.6,2.6H13.4V13.4H2.6Z',
  staging: 'M2.6,2.6H9L13.4,7V13.4H2.6Z',
  dev: 'M8,2.3L13.7,8L8,13.7L2.3,8Z',
} as const;
const CORNERS = {
  live: [
    [0.8, 0.8],
    [15.2, 0.8],
    [15.2, 15.2],
    [0.8, 15.2],
  ],
  staging: [
    [0.8, 0.8],
    [12, 4],
    [15.2, 15.2],
    [0.8, 15.2],
  ],
  dev: [
    [4, 4],
    [12, 4],
    [12, 12],
    [4, 12],
  ],
} as const;

const WORDS: Record<EnvironmentState, string> = {
  'in-step': 'in step',
  drifted: 'drifted',
  working: 'working',
  failed: 'failed',
  frozen: 'frozen',
  'not-reached': 'not reached',
};
/** How an environment stands, in words. */
export const stateWord = (state: EnvironmentState): string => WORDS[state];

interface TileProps {
  readonly kind: EnvironmentKind;
  readonly state: EnvironmentState;
  /** Pixels; from 18 up the tile carries its letter. */
  readonly size: number;
  /** 0 to 1, for `working`. */
  readonly progress?: number;
  /** Colours by kind; `any` draws in ink, for legends. */
  readonly tone?: 'kind' | 'any';
  /** Tiles from 18 pixels up carry their letter, unless they lie in the mosaic. */
  readonly letter?: boolean;
  /** True where words beside the tile say the same. */
  readonly decorative?: boolean;
  readonly className?: string;
}

/** The mark of one environment: kind by shape, letter and colour; state by how it is filled. */
export function Tile({
  kind,
  state,
  size,
  progress = 0.5,
  tone = 'kind',
  letter = true,
  decorative = false,
  className = '',
}: TileProps): JSX.Element {
  const hasLetter = letter && size >= 18 && tone === 'kind';
  const name = decorative ? { 'aria-hidden': true } : { role: 'img', 'aria-label': `${kind}, ${WORDS[state]}` };
  return (
    <svg
      className={`block flex-none ${tone === 'any' ? 'any' : kind} ${className}`.trim()}
      width={size}
      height={size}
      viewBox="0 0 16 16"
      {...name}
    >
      <Body kind={kind} state={state} hasLetter={hasLetter} progress={progress} />
    </svg>
  );
}

function Body({
  kind,
  state,
  hasLetter,
  progress,
}: {
  kind: EnvironmentKind;
  state: EnvironmentState;
  hasLetter: boolean;
  progress: number;
}): JSX.Element {
  const outline = { stroke: 'var(--color-kind-edge)', strokeWidth: 1, strokeLinejoin: 'round' } as const;
  const letter = (stroke: string, move?: string) =>
    hasLetter && (
      <path d={LETTER[kind]} transform={move} fill="none" stroke={stroke} strokeWidth={1.5} strokeLinecap="square" />
    );
  switch (state) {
    case 'not-reached':
      return (
        <>
          <path d={SHAPE[kind]} fill="none" stroke="var(--color-ink3)" strokeWidth={1.2} strokeDasharray="2.2 1.8" />
          {letter('var(--color-ink3)')}
        </>
      );
    case 'failed':
      return (
        <>
          <path d={SHAPE[kind]} fill="var(--color-danger)" stroke="var(--color-danger)" strokeLinejoin="round" />
          {CORNERS[kind].map(([x, y]) => {
            const reach = hasLetter ? (kind === 'dev' ? 3 : 3.8) / Math.hypot(8 - x, 8 - y) : 1;
            return (
              <path
                key={`${x} ${y}`}
                d={`M${x},${y}L${x + (8 - x) * reach},${y + (8 - y) * reach}`}
                stroke="var(--under, var(--color-slab))"
                strokeWidth={1.5}
              />
            );
          })}
          {letter('var(--color-on-danger)')}
        </>
      );
    case 'working': {
      const level = hasLetter ? (progress >= 0.5 ? 0.86 : 0.18) : progress;
      const top = 14.5 - 13 * level;
      return (
        <>
          <path d={SHAPE[kind]} fill="var(--color-kind-tint)" {...outline} />
          <svg
            className="animate-working motion-reduce:animate-none"
            x="0"
            y={top}
            width="16"
            height={16 - top}
            viewBox={`0 ${top} 16 ${16 - top}`}
            aria-hidden="true"
          >
            <path d={SHAPE[kind]} fill="var(--color-kind)" {...outline} />
          </svg>
          {letter(progress >= 0.5 ? 'var(--color-on-kind)' : 'var(--color-kind-edge)')}
        </>
      );
    }
    case 'frozen':
      return (
        <>
          <path d={SHAPE[kind]} fill="var(--color-kind-tint)" />
          <path d={FRAME[kind]} fill="none" stroke="var(--color-kind-edge)" strokeWidth={hasLetter ? 1 : 2.4} />
          {hasLetter ? (
            <path d={SHAPE[kind]} fill="none" stroke="var(--color-kind-edge)" strokeWidth={1.2} />
          ) : (
            <path
              d="M6,6H10V10H6Z"
              fill="var(--color-kind-edge)"
              transform={kind === 'dev' ? 'rotate(45 8 8)' : undefined}
            />
          )}
          {letter('var(--color-kind-edge)', 'translate(1.6 1.6) scale(.8)')}
        </>
      );
    case 'drifted':
      return (
        <>
          <path d={SHAPE[kind]} fill="var(--color-kind-tint)" {...outline} />
          <path d={SLID[kind]} fill="var(--color-kind)" {...outline} />
          {letter('var(--color-on-kind)', kind === 'dev' ? 'translate(0 2)' : 'translate(-1.8 1.8)')}
        </>
      );
    case 'in-step':
      return (
        <>
          <path d={SHAPE[kind]} fill="var(--color-kind)" {...outline} />
          {letter('var(--color-on-kind)')}
        </>
      );
  }
}

/** The product's own mark: four tiles laid together. */
export function Mark({ size = 22 }: { readonly size?: number }): JSX.Element {
  return (
    <svg width={size} height={size} viewBox="0 0 22 22" aria-hidden="true">
      <rect x="12" width="10" height="10" fill="var(--color-live)" />
      <path d="M0,0H7L10,3V10H0Z" fill="var(--color-staging)" />
      <path d="M5,11.2L10.5,16.7L5,22.2L-.5,16.7Z" fill="var(--color-dev)" />
      <rect
        x="12.75"
        y="12.75"
        width="8.5"
        height="8.5"
        fill="none"
        stroke="var(--color-rim)"
        strokeWidth={1.5}
        strokeDasharray="2.4 1.85"
      />
    </svg>
  );
}
