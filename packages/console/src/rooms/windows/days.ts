const DAYS_SHOWN = 14;

/**
 * The midnights at which two weeks of days begin, in the viewer's own zone, and that at which the last one ends: where
 * clocks are put on or back, a day has 23 or 25 hours.
 *
 * @param now milliseconds
 */
export function daysFrom(now: number): number[] {
  const day = new Date(now);
  return Array.from({ length: DAYS_SHOWN + 1 }, (_one, i) =>
    new Date(day.getFullYear(), day.getMonth(), day.getDate() + i).getTime(),
  );
}

/** Where a moment lies on a strip of equally wide days, from 0 to 1; what lies before or after is at its ends. */
export function placeAmong(days: readonly number[], time: number): number {
  const count = days.length - 1;
  const day = days.findLastIndex((start) => start <= time);
  if (day < 0) return 0;
  const [start, end] = [days[day] as number, days[day + 1]];
  return end === undefined ? 1 : (day + (time - start) / (end - start)) / count;
}
