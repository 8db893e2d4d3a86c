const DAY_MS = 86_400_000;

/** After so many days in which nobody did anything to a request, it lets go of what it has claimed. */
export const CLAIM_DAYS = 14;
/** So many days before, its author is told. */
export const WARNING_DAYS = 3;

/** What becomes of the claims of a request that lies still. */
export type IdleStep = 'none' | 'warn' | 'lapse';

/**
 * @param lastAct when somebody last did something to it
 * @param warned when its author was told that its claims will lapse; a former warning counts for nothing
 */
export function idleStep(lastAct: number, warned: number | undefined, now: number): IdleStep {
  const isWarned = warned !== undefined && warned >= lastAct;
  if (!isWarned) return now - lastAct >= (CLAIM_DAYS - WARNING_DAYS) * DAY_MS ? 'warn' : 'none';
  // Whoever is told late, since nobody was there to tell, has the days all the same.
  return now - Math.max(lastAct + (CLAIM_DAYS - WARNING_DAYS) * DAY_MS, warned) >= WARNING_DAYS * DAY_MS
    ? 'lapse'
    : 'none';
}
