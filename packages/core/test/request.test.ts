import { readFileSync } from 'node:fs';
import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import {
  afterEvent,
  asksForApproval,
  isOpenRequest,
  judge,
  REQUEST_MOVES,
  REQUEST_STATES,
  type RequestEvent,
  type RequestState,
  type ReviewRule,
  type Verdict,
  wantedBy,
} from '../src/index.js';

const EVENTS = [...new Set(REQUEST_STATES.flatMap((state) => Object.keys(REQUEST_MOVES[state])))] as RequestEvent[];

describe('the states of a change request', () => {
  test('are drawn in the architecture as they are', () => {
    const drawn = readFileSync(new URL('../../../docs/architecture.md', import.meta.url), 'utf8');
    const moves = [...drawn.matchAll(/^ {2}([a-z-]+) --> ([a-z-]+): ([a-z]+)$/gm)].map((one) => one.slice(1).join(' '));
    const real = REQUEST_STATES.flatMap((state) =>
      Object.entries(REQUEST_MOVES[state]).map(([event, next]) => `${state} ${next} ${event}`),
    );
    expect(moves.sort()).toEqual(real.sort());
  });

  test('are all reached from a draft, and all but the last ones lead on', () => {
    const reached = new Set<RequestState>(['draft']);
    for (const state of reached)
      for (const event of EVENTS) {
        const next = afterEvent(state, event);
        if (next) reached.add(next);
      }
    expect([...reached].sort()).toEqual([...REQUEST_STATES].sort());
    for (const state of REQUEST_STATES)
      expect(EVENTS.some((event) => afterEvent(state, event) !== undefined)).toBe(
        state !== 'undone' && state !== 'withdrawn',
      );
  });

  test('deliver only what was approved, and give up nothing that is under way', () => {
    for (const state of REQUEST_STATES) {
      expect(afterEvent(state, 'begin') !== undefined).toBe(['approved', 'scheduled', 'blocked'].includes(state));
      expect(afterEvent(state, 'withdraw') !== undefined).toBe(isOpenRequest(state) && state !== 'delivering');
    }
  });
});

const ITEMS = ['a', 'b', 'c', 'd'] as const;
const PEOPLE = ['ana', 'ben', 'cem', 'dov'] as const;
const GUESTS = ['gia', 'hal'] as const;
const TEAM: Record<string, readonly string[]> = { ana: ['shop'], ben: ['shop', 'legal'], cem: ['legal'], dov: [] };
const isGuest = (who: string): boolean => GUESTS.some((one) => one === who);

type Act =
  | { readonly act: 'edit'; readonly item: (typeof ITEMS)[number]; readonly by: string }
  | { readonly act: 'choose'; readonly items: readonly string[] }
  | { readonly act: 'approve' | 'return'; readonly by: string }
  | { readonly act: 'ask' }
  | { readonly act: 'deliver' };

const act: fc.Arbitrary<Act> = fc.oneof(
  {
    weight: 3,
    arbitrary: fc.record({
      act: fc.constant('edit' as const),
      item: fc.constantFrom(...ITEMS),
      by: fc.constantFrom(...PEOPLE),
    }),
  },
  { weight: 1, arbitrary: fc.record({ act: fc.constant('choose' as const), items: fc.subarray([...ITEMS]) }) },
  {
    weight: 4,
    arbitrary: fc.record({
      act: fc.constantFrom('approve' as const, 'approve' as const, 'return' as const),
      by: fc.constantFrom(...PEOPLE),
    }),
  },
  {
    weight: 2,
    arbitrary: fc.record({ act: fc.constant('approve' as const), by: fc.constantFrom(...GUESTS) }),
  },
  { weight: 2, arbitrary: fc.record({ act: fc.constant('ask' as const) }) },
  { weight: 3, arbitrary: fc.record({ act: fc.constant('deliver' as const) }) },
);
const rule: fc.Arbitrary<ReviewRule> = fc.record({
  approvals: fc.integer({ min: 1, max: 2 }),
  teams: fc.subarray(['shop', 'legal']),
  threadsBlock: fc.boolean(),
  guests: fc.integer({ min: 0, max: 1 }),
});

const said = (reviewer: string, says: Verdict['says'], items: ReadonlyMap<string, string>): Verdict => ({
  reviewer,
  isGuest: isGuest(reviewer),
  teams: TEAM[reviewer] ?? [],
  says,
  isAnswered: false,
  seen: new Map(items),
});

describe('an approval', () => {
  test('lets nothing through that its approvers did not see, over whole histories', () => {
    let delivered = 0;
    fc.assert(
      fc.property(rule, fc.array(act, { maxLength: 40 }), (given, history) => {
        // The model remembers every look that anybody had: what stood there, letter by letter.
        const value: Record<string, number> = { a: 0, b: 0, c: 0, d: 0 };
        const looks = new Map<string, Set<string>>();
        let chosen: readonly string[] = [...ITEMS];
        const authors = new Set(['ana']);
        const verdicts = new Map<string, Verdict>();
        // Who sent it back and has said nothing since, asked for again or not.
        const unheard = new Set<string>();
        const now = (): Map<string, string> => new Map(chosen.map((id) => [id, `${id} ${value[id]}`]));
        for (const one of history) {
          if (one.act === 'edit') {
            value[one.item] = (value[one.item] as number) + 1;
            if (chosen.includes(one.item)) authors.add(one.by);
          } else if (one.act === 'choose') chosen = one.items;
          else if (one.act === 'ask')
            for (const [who, verdict] of verdicts)
              verdicts.set(who, { ...verdict, isAnswered: verdict.says === 'return' });
          else if (one.act === 'deliver') {
            const { isApproved } = judge({
              rule: given,
              authors,
              verdicts: [...verdicts.values()],
              items: now(),
              openThreads: 0,
            });
            if (!isApproved) continue;
            delivered++;
            expect(unheard.size).toBe(0);
            for (const content of now().values()) {
              const saw = [...looks].flatMap(([who, seen]) => (seen.has(content) && !authors.has(who) ? [who] : []));
              expect(saw.filter((who) => !isGuest(who)).length).toBeGreaterThanOrEqual(given.approvals);
              expect(saw.filter(isGuest).length).toBeGreaterThanOrEqual(given.guests);
              for (const team of given.teams) expect(saw.some((who) => TEAM[who]?.includes(team))).toBe(true);
            }
          } else {
            verdicts.set(one.by, {
              reviewer: one.by,
              isGuest: isGuest(one.by),
              teams: TEAM[one.by] ?? [],
              says: one.act,
              isAnswered: false,
              seen: now(),
            });
            if (one.act === 'approve') {
              looks.set(one.by, new Set([...(looks.get(one.by) ?? []), ...now().values()]));
              unheard.delete(one.by);
            } else if (!authors.has(one.by)) unheard.add(one.by);
            for (const author of authors) unheard.delete(author);
          }
        }
      }),
      { numRuns: 3000 },
    );
    expect(delivered).toBeGreaterThan(50);
  });

  test('stands for what did not change, and falls for what did', () => {
    const items = new Map([
      ['page:1', 'x'],
      ['page:2', 'y'],
    ]);
    const verdict = said('ben', 'approve', items);
    const given = { approvals: 1, teams: [], threadsBlock: true, guests: 0 };
    const changed = new Map([...items, ['page:2', 'z'], ['page:3', 'w']]);
    const before = judge({ rule: given, authors: new Set(['ana']), verdicts: [verdict], items, openThreads: 0 });
    expect(before.isApproved).toBe(true);
    const after = judge({
      rule: given,
      authors: new Set(['ana']),
      verdicts: [verdict],
      items: changed,
      openThreads: 0,
    });
    expect(after.isApproved).toBe(false);
    expect(after.items.get('page:1')).toMatchObject({ approvedBy: ['ben'], missing: 0 });
    expect(after.items.get('page:2')).toMatchObject({ approvedBy: [], lapsedFor: ['ben'], missing: 1 });
    expect(after.items.get('page:3')).toMatchObject({ approvedBy: [], lapsedFor: [], missing: 1 });
    const talking = judge({ rule: given, authors: new Set(['ana']), verdicts: [verdict], items, openThreads: 1 });
    expect(talking.isApproved).toBe(false);
    const own = judge({ rule: given, authors: new Set(['ben']), verdicts: [verdict], items, openThreads: 0 });
    expect(own.isApproved).toBe(false);
  });

  test("waits for who sent it back, and is not carried by another one's yes", () => {
    const items = new Map([['page:1', 'x']]);
    const back = { ...said('ben', 'return', items), isAnswered: true };
    const given = { rule: { approvals: 1, teams: [], threadsBlock: false, guests: 0 }, authors: new Set(['ana']) };
    const standing = judge({ ...given, verdicts: [back, said('cem', 'approve', items)], items, openThreads: 0 });
    expect(standing).toMatchObject({ isApproved: false, returnedBy: [], awaited: ['ben'] });
    const heard = judge({
      ...given,
      verdicts: [said('ben', 'approve', items), said('cem', 'approve', items)],
      items,
      openThreads: 0,
    });
    expect(heard.isApproved).toBe(true);
  });

  test("needs a guest's yes where the lane says so, which no colleague stands in for, nor the other way round", () => {
    const items = new Map([['page:1', 'x']]);
    const given = { rule: { approvals: 1, teams: [], threadsBlock: false, guests: 1 }, authors: new Set(['ana']) };
    const judged = (...verdicts: Verdict[]) => judge({ ...given, verdicts, items, openThreads: 0 });
    expect(judged(said('ben', 'approve', items), said('cem', 'approve', items)).items.get('page:1')).toMatchObject({
      missing: 0,
      missingGuests: 1,
    });
    expect(judged(said('gia', 'approve', items), said('hal', 'approve', items)).items.get('page:1')).toMatchObject({
      missing: 1,
      missingGuests: 0,
    });
    expect(judged(said('ben', 'approve', items), said('gia', 'approve', items)).isApproved).toBe(true);
  });
});

describe('what a lane asks for', () => {
  test.each([
    [{ approvals: 0, teams: [], guests: 0 }, []],
    [{ approvals: 1, teams: [], guests: 0 }, ['1 approval']],
    [{ approvals: 2, teams: ['legal', 'shop'], guests: 0 }, ['2 approvals', 'somebody of legal', 'somebody of shop']],
    [{ approvals: 0, teams: [], guests: 1 }, ['a yes of 1 guest']],
    [{ approvals: 1, teams: ['legal'], guests: 2 }, ['1 approval', 'somebody of legal', 'a yes of 2 guests']],
  ])('%o is said as %o', (rule, words) => {
    expect(wantedBy(rule)).toEqual(words);
    // Where nothing is asked for, a plain push goes.
    expect(asksForApproval({ ...rule, threadsBlock: true })).toBe(words.length > 0);
  });
});
