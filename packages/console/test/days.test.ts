import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { daysFrom, placeAmong } from '../src/rooms/windows/days.js';

const HOUR = 3_600_000;

/** Midnights of days with so many hours each. */
function daysOf(...hours: number[]): number[] {
  const starts = [0];
  for (const one of hours) starts.push((starts.at(-1) as number) + one * HOUR);
  return starts;
}

describe('days on a strip', () => {
  it('are as wide as each other where clocks are put on or back', () => {
    for (const hours of [23, 25]) {
      const days = daysOf(24, hours, 24, 24);
      expect(days.map((start) => placeAmong(days, start))).toEqual([0, 0.25, 0.5, 0.75, 1]);
      expect(placeAmong(days, 24 * HOUR + (hours * HOUR) / 2)).toBe(0.375);
    }
  });

  it('put a later moment further right, and what lies outside at their ends', () => {
    const days = daysOf(24, 23, 24, 25, 24);
    const within = fc.integer({ min: -48 * HOUR, max: 180 * HOUR });
    fc.assert(
      fc.property(within, within, (a, b) => {
        const [earlier, later] = [Math.min(a, b), Math.max(a, b)].map((one) => placeAmong(days, one)) as [
          number,
          number,
        ];
        expect(earlier).toBeLessThanOrEqual(later);
        expect(earlier).toBeGreaterThanOrEqual(0);
        expect(later).toBeLessThanOrEqual(1);
      }),
    );
  });

  it('begin at the midnight before now, and follow each other by the calendar', () => {
    fc.assert(
      fc.property(fc.date({ min: new Date('2024-01-01'), max: new Date('2032-01-01'), noInvalidDate: true }), (now) => {
        const days = daysFrom(now.getTime());
        expect(days).toHaveLength(15);
        expect(days[0]).toBeLessThanOrEqual(now.getTime());
        expect(days[1]).toBeGreaterThan(now.getTime());
        const dates = days.map((one) => new Date(one));
        // In some zones clocks are put on at midnight: that day begins at one.
        for (const one of dates) expect(one.getHours()).toBeLessThanOrEqual(1);
        expect(new Set(dates.map((one) => one.toDateString())).size).toBe(15);
      }),
    );
  });
});
