import { DateTime } from 'luxon';
import type { WeeklyWindow } from './windows.js';

/** Requests in one hour, which begins at `at` (milliseconds since 1970). */
export interface HourCount {
  readonly at: number;
  readonly requests: number;
}

/** Hours in which few come, proposed as a window. */
export interface QuietHours {
  readonly window: WeeklyWindow;
  /** Requests in an hour of it, and in an hour of the whole week; means. */
  readonly quiet: number;
  readonly usual: number;
}

const WEEK = 7 * 24;
const HOUR_MS = 3_600_000;
/** Of an hour's usual traffic, what still counts as quiet. */
const QUIET_SHARE = 0.5;

/**
 * Finds the stretch of hours, the same on each day, in which the fewest requests come, and the days on which it is
 * quiet. An hour that was measured and had no request counts as one with none.
 *
 * @param hours length of the stretch
 * @returns undefined before a whole week was measured, or where no stretch is quieter than others
 */
export function quietHours(
  counts: readonly HourCount[],
  zone: string,
  span: { readonly from: number; readonly until: number },
  hours: number,
): QuietHours | undefined {
  if (span.until - span.from < WEEK * HOUR_MS) return undefined;
  const requests = new Map(counts.map((one) => [one.at, one.requests]));
  const sums = Array.from({ length: WEEK }, () => ({ requests: 0, times: 0 }));
  for (let at = Math.ceil(span.from / HOUR_MS) * HOUR_MS; at + HOUR_MS <= span.until; at += HOUR_MS) {
    const local = DateTime.fromMillis(at, { zone });
    const sum = sums[(local.weekday - 1) * 24 + local.hour];
    if (!sum) continue;
    sum.requests += requests.get(at) ?? 0;
    sum.times++;
  }
  const means = sums.map((sum) => (sum.times === 0 ? 0 : sum.requests / sum.times));
  const usual = means.reduce((total, one) => total + one, 0) / WEEK;
  if (usual === 0) return undefined;
  /** Mean of a stretch that begins on a day of the week at an hour, and may end on the next day. */
  const stretch = (day: number, hour: number): number => {
    let sum = 0;
    for (let i = 0; i < hours; i++) sum += means[(day * 24 + hour + i) % WEEK] as number;
    return sum / hours;
  };
  const days = [0, 1, 2, 3, 4, 5, 6];
  const ofDays = (hour: number): number => days.reduce((sum, day) => sum + stretch(day, hour), 0);
  const hour = Array.from({ length: 24 }, (_one, i) => i).reduce((best, one) =>
    ofDays(one) < ofDays(best) ? one : best,
  );
  const quietDays = days.filter((day) => stretch(day, hour) <= usual * QUIET_SHARE);
  if (quietDays.length === 0) return undefined;
  const clock = (at: number): string => `${String(at % 24).padStart(2, '0')}:00`;
  return {
    window: { days: quietDays.map((day) => day + 1), from: clock(hour), until: clock(hour + hours) },
    quiet: quietDays.reduce((sum, day) => sum + stretch(day, hour), 0) / quietDays.length,
    usual,
  };
}
