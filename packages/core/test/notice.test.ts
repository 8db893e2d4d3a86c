import fc from 'fast-check';
import { DateTime } from 'luxon';
import { describe, expect, test } from 'vitest';
import {
  AUDIENCE,
  audienceOf,
  type Concern,
  isTimeZone,
  MAILED_UNASKED,
  mentionsIn,
  NOTICE_KINDS,
  type NoticeKind,
  nextDigest,
} from '../src/index.js';

const KINDS = Object.keys(NOTICE_KINDS) as NoticeKind[];
const CONCERNS: readonly Concern[] = [
  'author',
  'reviewers',
  'lapsed',
  'talkers',
  'mentioned',
  'deliverer',
  'next-in-line',
];

describe('who is told', () => {
  test('is who is concerned by the kind of it, once, and never who did it', () => {
    const people = fc.array(fc.constantFrom('ana', 'ben', 'cem', 'dov'), { maxLength: 3 });
    const concerned = fc.record(
      Object.fromEntries(CONCERNS.map((one) => [one, people])) as Record<Concern, typeof people>,
    );
    fc.assert(
      fc.property(fc.constantFrom(...KINDS), concerned, fc.option(fc.constantFrom('ana', 'eva')), (kind, all, by) => {
        const expected = CONCERNS.filter((one) => AUDIENCE[kind].includes(one))
          .flatMap((one) => all[one])
          .filter((person) => person !== by);
        expect([...audienceOf(kind, all, by)].sort()).toEqual([...new Set(expected)].sort());
      }),
    );
  });

  test.each([
    ['review-asked', 'reviewers', true],
    ['blocked', 'author', true],
    ['blocked', 'reviewers', false],
    ['comment', 'mentioned', true],
    ['delivered', 'deliverer', true],
    ['lapsed', 'reviewers', false],
  ] as const)('%s concerns %s: %s', (kind, concern, is) => {
    expect(audienceOf(kind, { [concern]: ['ana'] }, null).has('ana')).toBe(is);
  });

  test('every kind concerns somebody, and what waits for people is mailed unasked', () => {
    for (const kind of KINDS) expect(AUDIENCE[kind].length).toBeGreaterThan(0);
    for (const kind of ['review-asked', 'blocked', 'comment'] as const) expect(MAILED_UNASKED.has(kind)).toBe(true);
  });
});

test.each([
  ['@ida.moe@copperlane.example please look', ['ida.moe@copperlane.example']],
  ['(@Ida.Moe@copperlane.example) and @odd@x.example.', ['ida.moe@copperlane.example', 'odd@x.example']],
  ['write to ida.moe@copperlane.example', []],
  ['@ida', []],
  ['twice @a@x.example @a@x.example', ['a@x.example']],
])('%s calls %s', (text, mails) => {
  expect(mentionsIn(text)).toEqual(mails);
});

describe('what is mailed once a day', () => {
  test.each([
    ['06:00', 'UTC', '2026-11-28T05:59:59.999Z', '2026-11-28T06:00:00.000Z'],
    ['06:00', 'UTC', '2026-11-28T06:00:00.000Z', '2026-11-29T06:00:00.000Z'],
    ['06:00', 'UTC', '2026-12-31T23:00:00.000Z', '2027-01-01T06:00:00.000Z'],
    ['06:00', 'UTC', '2028-02-28T12:00:00.000Z', '2028-02-29T06:00:00.000Z'],
    ['08:30', 'Europe/Oslo', '2026-03-28T12:00:00.000Z', '2026-03-29T06:30:00.000Z'],
    ['08:30', 'Europe/Oslo', '2026-10-24T12:00:00.000Z', '2026-10-25T07:30:00.000Z'],
    // Left out by the clocks: when they go forward. There twice: the first time, and not the second.
    ['02:30', 'Europe/Oslo', '2026-03-28T12:00:00.000Z', '2026-03-29T01:00:00.000Z'],
    ['02:30', 'Europe/Oslo', '2026-10-24T12:00:00.000Z', '2026-10-25T00:30:00.000Z'],
    ['02:30', 'Europe/Oslo', '2026-10-25T00:45:00.000Z', '2026-10-26T01:30:00.000Z'],
    ['00:15', 'America/Santiago', '2026-09-05T12:00:00.000Z', '2026-09-06T04:00:00.000Z'],
    ['23:45', 'Asia/Kathmandu', '2026-11-28T18:00:00.000Z', '2026-11-29T18:00:00.000Z'],
    // The islands left a whole day out.
    ['09:00', 'Pacific/Apia', '2011-12-29T20:00:00.000Z', '2011-12-30T19:00:00.000Z'],
  ])('at %s of %s, of %s, is mailed at %s', (at, zone, happened, due) => {
    expect(nextDigest(new Date(happened), { at, zone }).toISOString()).toBe(due);
  });

  test('comes after it happened, within a day of 25 hours, at that time of day', () => {
    fc.assert(
      fc.property(
        fc.date({ min: new Date('2020-01-01'), max: new Date('2090-01-01'), noInvalidDate: true }),
        fc.constantFrom('UTC', 'Europe/Oslo', 'America/New_York', 'Australia/Lord_Howe', 'Asia/Kathmandu'),
        fc.integer({ min: 0, max: 23 }),
        (happened, zone, hour) => {
          const at = `${String(hour).padStart(2, '0')}:45`;
          const due = nextDigest(happened, { at, zone });
          const wait = due.getTime() - happened.getTime();
          expect(wait).toBeGreaterThan(0);
          expect(wait).toBeLessThanOrEqual(25 * 3_600_000);
          const local = DateTime.fromJSDate(due, { zone });
          const isLeftOut = local.minus({ minutes: 1 }).offset !== local.offset;
          if (!isLeftOut) expect(local.toFormat('HH:mm')).toBe(at);
        },
      ),
    );
  });

  test.each([
    ['Europe/Oslo', true],
    ['UTC', true],
    ['Europe/Nowhere', false],
    ['', false],
  ])('in "%s": a time zone, %s', (zone, is) => expect(isTimeZone(zone)).toBe(is));
});
