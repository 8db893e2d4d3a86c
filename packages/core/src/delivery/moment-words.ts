/** What windows and freezes say of a moment; times as they were given. */
export interface SaidMoment {
  readonly allowed: boolean;
  readonly because: 'window' | 'freeze' | null;
  readonly until: string | null;
  readonly next: string | null;
}

/**
 * Whether one may deliver at a moment, in a few words: `open until 02:00`, `closed, opens 22:00`.
 *
 * @param write how a time is written for who reads it
 */
export function momentWords({ allowed, because, until, next }: SaidMoment, write: (time: string) => string): string {
  if (allowed) return until === null ? 'open' : `open until ${write(until)}`;
  const state = because === 'freeze' ? 'frozen' : 'closed';
  return next === null ? `${state}, and never opens within a year` : `${state}, opens ${write(next)}`;
}
