import type { DeliveryPlan } from '@tessarion/contract';
import type { JSX } from 'react';
import { placeAmong } from './days.js';
import { NAMES } from './words.js';

const HEIGHT = 20;

/** The days above the strips. */
export function DayHeads({ days }: { readonly days: readonly number[] }): JSX.Element {
  return (
    <span className="grid grid-cols-[repeat(14,1fr)] text-micro">
      {days.slice(0, -1).map((start, i) => {
        const day = new Date(start);
        return (
          <span key={start} className={i === 0 ? 'font-semibold text-accent' : ''}>
            {NAMES[(day.getDay() + 6) % 7]} {day.getDate()}
          </span>
        );
      })}
    </span>
  );
}

/** Two weeks of one site, hour by hour from left to right; the same is listed in words beside it. */
export function Strip({
  plan,
  days,
  now,
}: {
  readonly plan: DeliveryPlan;
  /** As `daysFrom` gives them. */
  readonly days: readonly number[];
  readonly now: number;
}): JSX.Element {
  const count = days.length - 1;
  const x = (time: string | number): number => 1000 * placeAmong(days, new Date(time).getTime());
  const isInside = (one: { from: string; until: string }): boolean => x(one.until) > 0 && x(one.from) < 1000;
  const bar = (one: { from: string; until: string }, name: string, y: number): JSX.Element => (
    <rect
      key={one.from}
      className={name}
      x={x(one.from)}
      y={y}
      width={Math.max(2, x(one.until) - x(one.from))}
      height={HEIGHT - 2 * y}
    />
  );
  return (
    <svg
      className="block h-20 w-full"
      viewBox={`0 0 1000 ${HEIGHT}`}
      preserveAspectRatio="none"
      role="img"
      aria-label={`${plan.openings.length} openings in the next weeks, ${plan.frozen.length} freezes`}
    >
      {days.slice(0, -1).map((start, i) => (
        <rect key={start} className="fill-bed" x={(i * 1000) / count} y={0} width={1000 / count - 2} height={HEIGHT} />
      ))}
      {plan.openings.filter(isInside).map((one) => bar(one, 'fill-ink2', 3))}
      {plan.frozen.filter(isInside).map((one) => bar(one, 'fill-warn', 8))}
      {plan.deliveries.map((one) => (
        <rect key={one.request} className="fill-accent" x={x(one.at) - 3} y={0} width={7} height={HEIGHT} />
      ))}
      <rect className="fill-ink" x={x(now)} y={0} width={1.2} height={HEIGHT} />
    </svg>
  );
}
