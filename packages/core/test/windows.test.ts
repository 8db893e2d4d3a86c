import fc from 'fast-check';
import { DateTime } from 'luxon';
import { describe, expect, test } from 'vitest';
import {
  type DeliveryRules,
  deliverable,
  frozenOf,
  isStillDue,
  mayDeliverAt,
  openingsOf,
  type WeeklyWindow,
} from '../src/index.js';

const ZONES = [
  'Europe/Oslo',
  'America/New_York',
  // Half an hour of daylight saving; clocks that change at midnight; a quarter of an hour off.
  'Australia/Lord_Howe',
  'America/Santiago',
  'Asia/Kathmandu',
];
const MINUTE = 60_000;
const HOUR = 60 * MINUTE;

const local = (text: string, zone: string): number => DateTime.fromISO(text, { zone }).toMillis();
const shown = (at: number, zone: string): string => DateTime.fromMillis(at, { zone }).toFormat("yyyy-MM-dd'T'HH:mmZZ");

const timeOfDay = fc
  .integer({ min: 0, max: 95 })
  .map(
    (quarter) => `${String(Math.floor(quarter / 4)).padStart(2, '0')}:${String((quarter % 4) * 15).padStart(2, '0')}`,
  );
const weekly: fc.Arbitrary<WeeklyWindow> = fc.record({
  days: fc.uniqueArray(fc.integer({ min: 1, max: 7 }), { minLength: 1 }),
  from: timeOfDay,
  until: timeOfDay,
});

/** What a clock on the wall says of a window: blind to hours that come twice. */
function isOpenByTheClock(windows: readonly WeeklyWindow[], at: number, zone: string): boolean {
  const now = DateTime.fromMillis(at, { zone });
  const time = now.toFormat('HH:mm');
  const former = now.minus({ days: 1 }).weekday;
  return windows.some(({ days, from, until }) =>
    until > from
      ? days.includes(now.weekday) && from <= time && time < until
      : (days.includes(now.weekday) && from <= time) || (days.includes(former) && time < until),
  );
}

/** Whether clocks go back within some hours of a moment. */
const isNearTwice = (at: number, zone: string): boolean =>
  DateTime.fromMillis(at - 4 * HOUR, { zone }).offset > DateTime.fromMillis(at + 4 * HOUR, { zone }).offset;

describe('windows', () => {
  test.each(ZONES)('are open when a clock on the wall says so, in %s over two years', (zone) => {
    fc.assert(
      fc.property(
        fc.array(weekly, { minLength: 1, maxLength: 3 }),
        fc.integer({ min: 0, max: 730 * 24 * 4 }),
        (windows, quarters) => {
          const at = local('2027-01-01T00:00', zone) + quarters * 15 * MINUTE;
          if (isNearTwice(at, zone)) return;
          const span = { from: at, until: at + MINUTE };
          expect(openingsOf(windows, zone, span).some((one) => one.from <= at && at < one.until)).toBe(
            isOpenByTheClock(windows, at, zone),
          );
        },
      ),
      { numRuns: 400 },
    );
  });

  test.each([
    // Clocks go from 02:00 to 03:00.
    ['Europe/Oslo', '02:30', '05:00', '2027-03-28', '2027-03-28T03:00+02:00', '2027-03-28T05:00+02:00'],
    ['Europe/Oslo', '01:00', '02:30', '2027-03-28', '2027-03-28T01:00+01:00', '2027-03-28T03:00+02:00'],
    ['Europe/Oslo', '23:00', '02:15', '2027-03-27', '2027-03-27T23:00+01:00', '2027-03-28T03:00+02:00'],
    // From 03:00 back to 02:00: from the first 02:30, to the last.
    ['Europe/Oslo', '02:30', '04:00', '2027-10-31', '2027-10-31T02:30+02:00', '2027-10-31T04:00+01:00'],
    ['Europe/Oslo', '01:00', '02:30', '2027-10-31', '2027-10-31T01:00+02:00', '2027-10-31T02:30+01:00'],
    ['America/New_York', '02:15', '02:45', '2027-11-07', '2027-11-07T02:15-05:00', '2027-11-07T02:45-05:00'],
    ['America/New_York', '01:15', '01:45', '2027-11-07', '2027-11-07T01:15-04:00', '2027-11-07T01:45-05:00'],
    // By half an hour, at 02:00.
    ['Australia/Lord_Howe', '02:10', '03:00', '2027-10-03', '2027-10-03T02:30+11:00', '2027-10-03T03:00+11:00'],
    // Midnight does not exist: the day begins at 01:00.
    ['America/Santiago', '00:00', '02:00', '2027-09-05', '2027-09-05T01:00-03:00', '2027-09-05T02:00-03:00'],
    ['Asia/Kathmandu', '22:00', '22:00', '2028-02-29', '2028-02-29T22:00+05:45', '2028-03-01T22:00+05:45'],
  ])('in %s from %s until %s on %s', (zone, from, until, date, opens, closes) => {
    const day = DateTime.fromISO(date, { zone });
    const span = { from: day.minus({ hours: 6 }).toMillis(), until: day.plus({ hours: 30 }).toMillis() };
    const [found] = openingsOf([{ days: [day.weekday], from, until }], zone, span);
    expect([shown(found?.from ?? 0, zone), shown(found?.until ?? 0, zone)]).toEqual([opens, closes]);
  });

  test('that never last are never open', () => {
    // The whole of it lies in the hour that is left out.
    const span = { from: local('2027-03-28T00:00', 'Europe/Oslo'), until: local('2027-03-28T12:00', 'Europe/Oslo') };
    expect(openingsOf([{ days: [7], from: '02:10', until: '02:40' }], 'Europe/Oslo', span)).toEqual([]);
  });
});

describe('freezes', () => {
  test.each([
    ['12-20', '01-03', '2027-12-31T12:00', true],
    ['12-20', '01-03', '2028-01-03T23:59', true],
    ['12-20', '01-03', '2028-01-04T00:00', false],
    ['12-20', '01-03', '2027-12-19T23:59', false],
    // 29 February is the 28th where there is none.
    ['02-29', '02-29', '2027-02-28T10:00', true],
    ['02-29', '02-29', '2028-02-28T10:00', false],
    ['02-29', '02-29', '2028-02-29T10:00', true],
  ])('each year from %s to %s: %s', (from, until, at, holds) => {
    const moment = local(at, 'Europe/Oslo');
    const found = frozenOf([{ repeats: 'yearly', from, until }], 'Europe/Oslo', { from: moment, until: moment + 1 });
    expect(found.length > 0).toBe(holds);
  });

  test('that overlap are one', () => {
    const zone = 'America/New_York';
    const freezes = [
      { repeats: 'never', from: '2027-05-01T00:00', until: '2027-05-03T00:00' },
      { repeats: 'never', from: '2027-05-02T12:00', until: '2027-05-04T00:00' },
      { repeats: 'yearly', from: '05-04', until: '05-04' },
    ] as const;
    const span = { from: local('2027-04-01', zone), until: local('2027-06-01', zone) };
    expect(frozenOf(freezes, zone, span)).toEqual([
      { from: local('2027-05-01', zone), until: local('2027-05-05', zone) },
    ]);
  });
});

describe('a delivery', () => {
  const freeze = fc.oneof(
    fc.record({
      repeats: fc.constant('yearly' as const),
      from: fc.constantFrom('01-01', '02-29', '12-24', '06-15'),
      until: fc.constantFrom('01-06', '03-01', '12-31', '06-20'),
    }),
    fc.tuple(fc.integer({ min: 0, max: 700 }), fc.integer({ min: 1, max: 400 })).map(([day, hours]) => {
      const from = DateTime.fromISO('2027-01-01', { zone: 'UTC' }).plus({ days: day });
      const format = "yyyy-MM-dd'T'HH:mm";
      return {
        repeats: 'never' as const,
        from: from.toFormat(format),
        until: from.plus({ hours }).toFormat(format),
      };
    }),
  );
  const rules: fc.Arbitrary<DeliveryRules> = fc.record({
    windows: fc.array(weekly, { maxLength: 3 }),
    freezes: fc.array(freeze, { maxLength: 3 }),
    zone: fc.constantFrom(...ZONES),
  });
  const moment = fc.integer({ min: 0, max: 800 * 24 * 60 }).map((minutes) => Date.UTC(2026, 11, 1) + minutes * MINUTE);

  test('is never allowed in a freeze or outside the windows, and the next time named is the first', () => {
    fc.assert(
      fc.property(rules, moment, (given, at) => {
        const said = mayDeliverAt(given, at);
        const now = { from: at, until: at + 1 };
        const isFrozen = frozenOf(given.freezes, given.zone, now).length > 0;
        const isOpen = given.windows.length === 0 || openingsOf(given.windows, given.zone, now).length > 0;
        expect(said.allowed).toBe(isOpen && !isFrozen);
        if (said.allowed) {
          if (said.until === undefined) return;
          expect(mayDeliverAt(given, said.until).allowed).toBe(false);
          expect(mayDeliverAt(given, said.until - 1).allowed).toBe(true);
          return;
        }
        expect(said.because).toBe(isFrozen ? 'freeze' : 'window');
        if (said.next === undefined) return;
        expect(said.next).toBeGreaterThan(at);
        expect(mayDeliverAt(given, said.next).allowed).toBe(true);
        expect(deliverable(given, { from: at, until: said.next })).toEqual([]);
      }),
      { numRuns: 150 },
    );
  });

  const nightly = { days: [1, 2, 3, 4, 5, 6, 7], from: '22:00', until: '02:00' };
  test.each([
    // Within its window, however late.
    ['2027-05-03T22:00', '2027-05-03T22:00', true],
    ['2027-05-03T22:00', '2027-05-04T01:59', true],
    // The service was down over the window.
    ['2027-05-03T22:00', '2027-05-04T02:00', false],
    // Another window of the same kind is not the one that it was meant for.
    ['2027-05-03T22:00', '2027-05-04T22:30', false],
    ['2027-05-03T22:00', '2027-05-03T21:59', false],
    // A clock that jumps over the window, and one that jumps back before it.
    ['2027-05-03T22:00', '2031-05-03T23:00', false],
    ['2027-05-03T22:00', '2020-05-03T23:00', false],
    // The night in which clocks go forward: from 02:00 to 03:00.
    ['2027-03-27T23:30', '2027-03-28T01:59', true],
    ['2027-03-27T23:30', '2027-03-28T03:00', false],
  ])('meant for %s is still due at %s: %s', (at, now, is) => {
    const given = { windows: [nightly], freezes: [], zone: 'Europe/Oslo' };
    expect(isStillDue(given, local(at, given.zone), local(now, given.zone))).toBe(is);
  });

  test('without windows is due for a quarter of an hour, and never in a freeze', () => {
    const given: DeliveryRules = { windows: [], freezes: [], zone: 'UTC' };
    const at = Date.UTC(2027, 4, 3, 12);
    expect(isStillDue(given, at, at + 15 * MINUTE)).toBe(true);
    expect(isStillDue(given, at, at + 16 * MINUTE)).toBe(false);
    const freezes = [{ repeats: 'never', from: '2027-05-03T12:05', until: '2027-05-03T13:00' }] as const;
    expect(isStillDue({ ...given, freezes }, at, at + 4 * MINUTE)).toBe(true);
    expect(isStillDue({ ...given, freezes }, at, at + 6 * MINUTE)).toBe(false);
  });

  test('never begins late outside the stretch that it was meant for', () => {
    fc.assert(
      fc.property(rules, moment, fc.integer({ min: 0, max: 3 * 24 * 60 }), (given, at, late) => {
        const now = at + late * MINUTE;
        if (!isStillDue(given, at, now)) return;
        expect(mayDeliverAt(given, now).allowed).toBe(true);
        if (late <= 15) return;
        const said = mayDeliverAt(given, at);
        expect(said.allowed && (said.until === undefined || said.until > now)).toBe(true);
      }),
      { numRuns: 150 },
    );
  });
});
