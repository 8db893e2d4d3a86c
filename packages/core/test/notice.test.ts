import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import {
  AUDIENCE,
  audienceOf,
  type Concern,
  MAILED_UNASKED,
  mentionsIn,
  NOTICE_KINDS,
  type NoticeKind,
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
