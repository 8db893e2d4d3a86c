import fc from 'fast-check';
import { DateTime } from 'luxon';
import { describe, expect, test } from 'vitest';
import { type HourCount, quietHours } from '../src/index.js';

const HOUR = 3_600_000;
const ZONES = ['UTC', 'Europe/Oslo', 'America/St_Johns', 'Australia/Lord_Howe', 'Asia/Kathmandu'];
const from = Date.parse('2026-10-01T00:00:00Z');

/** Some weeks of traffic, hour by hour, made from the local time. */
const traffic = (zone: string, weeks: number, of: (weekday: number, hour: number) => number): HourCount[] =>
  Array.from({ length: weeks * 7 * 24 }, (_one, i) => {
    const at = from + i * HOUR;
    const { weekday, hour } = DateTime.fromMillis(at, { zone });
    return { at, requests: of(weekday, hour) };
  });
const span = (weeks: number) => ({ from, until: from + weeks * 7 * 24 * HOUR });

describe('quiet hours', () => {
  // Four weeks from the first of October hold a change of clocks in two of these zones.
  test.each(ZONES)('are found by the clock on the wall in %s', (zone) => {
    const counts = traffic(zone, 5, (_day, hour) => (hour >= 2 && hour < 5 ? 3 : 100));
    expect(quietHours(counts, zone, span(5), 3)).toMatchObject({
      window: { days: [1, 2, 3, 4, 5, 6, 7], from: '02:00', until: '05:00' },
    });
  });

  test('leave out days on which there is no quiet, and go past midnight', () => {
    const busyNights = [5, 6];
    const counts = traffic('UTC', 3, (day, hour) => {
      const isNight = hour >= 23 || hour < 2;
      // The small hours belong to the night of the day before.
      const night = hour < 2 ? ((day + 5) % 7) + 1 : day;
      return isNight && !busyNights.includes(night) ? 1 : 80;
    });
    const found = quietHours(counts, 'UTC', span(3), 3);
    expect(found?.window).toEqual({ days: [1, 2, 3, 4, 7], from: '23:00', until: '02:00' });
    expect(found?.quiet).toBeCloseTo(1);
    expect(found?.usual).toBeGreaterThan(50);
  });

  test('are proposed neither too early, nor where all hours are alike, nor where nobody comes', () => {
    const alike = traffic('UTC', 2, () => 10);
    expect(quietHours(alike, 'UTC', span(2), 3)).toBeUndefined();
    expect(quietHours([], 'UTC', span(2), 3)).toBeUndefined();
    const night = traffic('UTC', 1, (_day, hour) => (hour < 4 ? 0 : 10));
    expect(quietHours(night, 'UTC', { from, until: from + 6 * 24 * HOUR }, 3)).toBeUndefined();
    expect(quietHours(night, 'UTC', span(1), 3)?.quiet).toBe(0);
  });

  test('are never busier than half of what is usual, and nothing quieter is passed over', () => {
    const week = fc.array(fc.integer({ min: 0, max: 500 }), { minLength: 24, maxLength: 24 });
    fc.assert(
      fc.property(week, fc.integer({ min: 1, max: 6 }), (hours, length) => {
        const counts = traffic('UTC', 2, (_day, hour) => hours[hour] as number);
        const found = quietHours(counts, 'UTC', span(2), length);
        const means = hours.map(
          (_one, i) =>
            Array.from({ length }, (_two, j) => hours[(i + j) % 24] as number).reduce((a, b) => a + b, 0) / length,
        );
        const usual = hours.reduce((a, b) => a + b, 0) / 24;
        const least = Math.min(...means);
        if (found === undefined) expect(usual === 0 || least > usual / 2).toBe(true);
        else expect(found.quiet).toBeCloseTo(least);
      }),
    );
  });
});
