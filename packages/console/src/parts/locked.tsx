import type { Decision } from '@tessarion/core';
import type { JSX, ReactNode } from 'react';
import { Icon } from './icon.js';

/** Where an act would stand that who looks may not do: what it is, and on hover why not. */
export function Locked({
  decision,
  wide = false,
  small = false,
  children,
}: {
  readonly decision: Decision;
  readonly wide?: boolean | undefined;
  readonly small?: boolean | undefined;
  readonly children: ReactNode;
}): JSX.Element {
  return (
    <span
      className={`flex cursor-default items-center justify-center gap-6 whitespace-nowrap rounded-sm border border-rim border-dashed bg-bed text-ink2 ${
        wide
          ? 'h-36 font-semibold touch:h-44'
          : small
            ? 'h-24 px-8 text-small touch:min-h-36'
            : 'h-28 px-10 touch:min-h-44'
      }`}
      aria-disabled="true"
      title={decision.allowed ? undefined : decision.words}
    >
      <Icon name="lock" size={small ? 12 : 14} />
      {children}
    </span>
  );
}

/** Why some acts are locked, each reason once, and whom to ask. */
export function WhyLocked({ of }: { readonly of: readonly Decision[] }): JSX.Element | null {
  const refused = of.flatMap((one) => (one.allowed ? [] : [one]));
  const [first] = refused;
  if (!first) return null;
  return (
    <p className="text-ink2 text-small">
      {[...new Set(refused.map(({ words }) => words))].join(' ')} {first.next}
    </p>
  );
}
