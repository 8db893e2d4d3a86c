import type { ChangeRequest } from '@tessarion/contract';
import type { JSX } from 'react';

type State = ChangeRequest['state'];

/** How far each state is on the way from a draft to live: tiles laid of four. */
const LAID: Record<State, number> = {
  draft: 0,
  'in-review': 1,
  returned: 1,
  approved: 2,
  scheduled: 3,
  blocked: 3,
  delivering: 3,
  delivered: 4,
  undone: 0,
  withdrawn: 0,
};

const WORDS: Record<State, string> = {
  draft: 'draft',
  'in-review': 'in review',
  returned: 'returned',
  approved: 'approved',
  scheduled: 'scheduled',
  delivering: 'delivering',
  blocked: 'blocked',
  delivered: 'delivered',
  undone: 'undone',
  withdrawn: 'withdrawn',
};

/** Where a request stands, in words. */
export const stateWords = (state: State): string => WORDS[state];

/** A request's way in four tiles, laid as far as it has come; the next one is in accent where somebody must act. */
export function Course({ state }: { readonly state: State }): JSX.Element {
  const laid = LAID[state];
  const isStopped = state === 'returned' || state === 'blocked';
  const isOver = state === 'undone' || state === 'withdrawn';
  const fill = (i: number): string =>
    i < laid - (isStopped ? 1 : 0) ? 'fill-ink2' : i === laid - 1 && isStopped ? 'fill-accent' : 'fill-bed stroke-line';
  return (
    <span
      className={`inline-flex items-center gap-8 ${state === 'delivering' ? 'animate-working motion-reduce:animate-none' : ''}`}
    >
      <svg width="35" height="8" viewBox="0 0 35 8" aria-hidden="true">
        {isOver ? (
          // Nothing is laid any more: one frame for all four.
          <rect className="fill-none stroke-ink3 [stroke-dasharray:2.5_2]" x={0.5} y={0.5} width={34} height={7} />
        ) : (
          [0, 1, 2, 3].map((i) => <rect key={i} className={fill(i)} x={i * 9} y={0} width={8} height={8} />)
        )}
      </svg>
      <span className={isStopped ? 'text-accent' : ''}>{WORDS[state]}</span>
    </span>
  );
}
