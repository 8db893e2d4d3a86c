import { createHmac } from 'node:crypto';
import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import {
  canonicalJson,
  digestOfSide,
  type Erasures,
  JournalCheck,
  type KeyedDigest,
  NO_SEAL,
  type SealableEntry,
  type SealedEntry,
  type SideRecord,
  type SignedHead,
  sealOf,
  signHead,
  stampOf,
} from '../src/index.js';

const keyed =
  (key: string) =>
  (text: string): string =>
    createHmac('sha256', key).update(text).digest('hex');
const digest = keyed('ours');

type Written = Omit<SealableEntry, 'id' | 'side'> & { readonly sideRecord: SideRecord | undefined };

const entry: fc.Arbitrary<Written> = fc.record({
  at: fc.date({ noInvalidDate: true, min: new Date(0), max: new Date(4e12) }).map((date) => date.toISOString()),
  actor: fc.constantFrom('person p-1', 'token k-2', 'schedule'),
  act: fc.constantFrom('transfer.push', 'request.approve'),
  outcome: fc.constantFrom('done' as const, 'refused' as const),
  thing: fc.string(),
  details: fc.jsonValue().map(canonicalJson),
  sideRecord: fc.option(fc.record({ salt: fc.nat().map(String), text: fc.string() }), { nil: undefined }),
});

const NOTHING: Erasures = { people: new Set(), entries: new Map() };

const whole = (one: Written, id: string, by: KeyedDigest): SealableEntry & Written => ({
  ...one,
  id,
  side: one.sideRecord ? digestOfSide(one.sideRecord, by) : '',
});

function sealed(entries: readonly Written[], by = digest): SealedEntry[] {
  let former = NO_SEAL;
  return entries.map((one, i) => {
    const written = whole(one, `j-${i}`, by);
    const stamp = stampOf(written, by);
    former = sealOf(i + 1, former, stamp, by);
    return { ...written, position: i + 1, stamp, seal: former };
  });
}

function faultsOf(
  entries: readonly SealedEntry[],
  heads: readonly SignedHead[] = [],
  by = digest,
  erasures: Erasures = NOTHING,
) {
  const check = new JournalCheck(by, heads, erasures);
  for (const one of entries) check.next(one);
  return check.end();
}

const headOf = (entries: readonly SealedEntry[], at: number): SignedHead => {
  const { position, seal } = entries[at] as SealedEntry;
  return signHead({ position, seal, at: '2026-11-28T12:00:00.000Z' }, digest);
};

const journal = fc.array(entry, { minLength: 2, maxLength: 12 }).map((entries) => sealed(entries));

describe('a journal', () => {
  test('that nobody touched has no fault', () => {
    fc.assert(fc.property(journal, (entries) => faultsOf(entries, [headOf(entries, 1)]).length === 0));
  });

  test('names the entry in which anything was altered', () => {
    fc.assert(
      fc.property(
        journal,
        fc.nat(),
        fc.constantFrom('at', 'actor', 'act', 'outcome', 'thing', 'details', 'side', 'stamp', 'seal', 'id'),
        (entries, at, field) => {
          const altered = entries.map((one) => ({ ...one }));
          const i = at % entries.length;
          Object.assign(altered[i] as SealedEntry, { [field]: 'something else' });
          const [first] = faultsOf(altered);
          expect(first).toMatchObject({ what: 'altered', position: i + 1 });
        },
      ),
    );
  });

  test('names the entry of which is no longer known who it was, unless they were erased', () => {
    fc.assert(
      fc.property(journal, fc.nat(), fc.string(), (entries, at, other) => {
        const i = at % entries.length;
        const { actor, sideRecord } = entries[i] as SealedEntry;
        fc.pre(sideRecord !== undefined && sideRecord.text !== other);
        const without = entries.map((one, j) => (j === i ? { ...one, sideRecord: undefined } : one));
        expect(faultsOf(without)).toMatchObject([{ what: 'who gone', position: i + 1 }]);
        const erased: Erasures = { ...NOTHING, people: new Set(['p-1']) };
        expect(faultsOf(without, [], digest, erased).length).toBe(actor === 'person p-1' ? 0 : 1);
        const changed = entries.map((one, j) =>
          j === i ? { ...one, sideRecord: { ...(sideRecord as SideRecord), text: other } } : one,
        );
        expect(faultsOf(changed, [], digest, erased)).toMatchObject([{ what: 'who altered', position: i + 1 }]);
      }),
    );
  });

  test('holds after something was taken out of an entry by one that says so, and by nothing else', () => {
    fc.assert(
      fc.property(journal, fc.nat(), (entries, at) => {
        const i = at % entries.length;
        const without = { ...(entries[i] as SealedEntry), details: '"[erased]"' };
        fc.pre(without.details !== entries[i]?.details);
        const left = entries.map((one, j) => (j === i ? without : one));
        expect(faultsOf(left)).toMatchObject([{ what: 'altered', position: i + 1 }]);
        const erased: Erasures = { ...NOTHING, entries: new Map([[without.id, stampOf(without, digest)]]) };
        expect(faultsOf(left, [], digest, erased)).toEqual([]);
        expect(faultsOf(entries, [], digest, erased), 'nor is it put back').toMatchObject([{ what: 'altered' }]);
        const more = left.map((one, j) => (j === i ? { ...one, actor: 'somebody else' } : one));
        expect(faultsOf(more, [], digest, erased)[0]).toMatchObject({ what: 'altered', position: i + 1 });
      }),
    );
  });

  test('names what was removed, wherever it stood', () => {
    fc.assert(
      fc.property(journal, fc.nat(), (entries, at) => {
        const i = at % entries.length;
        const faults = faultsOf(
          entries.filter((_, j) => j !== i),
          [headOf(entries, entries.length - 1)],
        );
        expect(faults[0]).toMatchObject(
          i === entries.length - 1
            ? { what: 'cut off', position: entries.length }
            : { what: 'missing', position: i + 1, last: i + 1 },
        );
      }),
    );
  });

  test('is no longer sound after an entry was put in between, made by somebody without the key', () => {
    fc.assert(
      fc.property(journal, entry, fc.nat(), (entries, foreign, at) => {
        const i = at % entries.length;
        const others = keyed('theirs');
        const forged = whole(foreign, 'j-x', others);
        const stamp = stampOf(forged, others);
        const former = entries[i - 1]?.seal ?? NO_SEAL;
        const put = { ...forged, position: i + 1, stamp, seal: sealOf(i + 1, former, stamp, others) };
        const moved = entries.map((one, j) => (j < i ? one : { ...one, position: one.position + 1 }));
        expect(faultsOf([...moved.slice(0, i), put, ...moved.slice(i)])[0]).toMatchObject({
          what: 'altered',
          position: i + 1,
        });
        const check = new JournalCheck(digest, [], NOTHING);
        expect(check.unsealed({ ...forged, stamp })).toBe(false);
        expect(check.unsealed({ ...forged, stamp: stampOf(forged, digest) })).toBe(true);
      }),
    );
  });

  test('is checked in stretches as it is in one piece', () => {
    fc.assert(
      fc.property(journal, fc.nat(), fc.nat(), (entries, cut, gone) => {
        const at = 1 + (cut % (entries.length - 1));
        const left = entries.filter((_, i) => i !== gone % entries.length);
        const stretch = (from: number, last: number | undefined) => {
          const seal = from === 0 ? NO_SEAL : left.find((one) => one.position === from)?.seal;
          const check = new JournalCheck(digest, [], NOTHING, { position: from, seal });
          for (const one of left) if (one.position > from && one.position <= (last ?? 99)) check.next(one);
          return check.end(last);
        };
        expect([...stretch(0, at), ...stretch(at, undefined)]).toEqual(faultsOf(left));
      }),
    );
  });

  test('written anew as a whole does not agree with what was written down elsewhere', () => {
    fc.assert(
      fc.property(journal, journal, (entries, others) => {
        fc.pre(entries.length <= others.length && entries.at(-1)?.seal !== others[entries.length - 1]?.seal);
        expect(faultsOf(others, [headOf(entries, entries.length - 1)]).length).toBeGreaterThan(0);
        const forged = { ...headOf(entries, 0), position: others.length };
        expect(faultsOf(others, [forged])).toContainEqual({ what: 'head not ours', position: others.length });
      }),
    );
  });
});

test('the same details have the same text, in whatever order', () => {
  fc.assert(
    fc.property(fc.dictionary(fc.string(), fc.jsonValue()), (details) => {
      const turned = Object.fromEntries(Object.entries(details).reverse());
      expect(canonicalJson(turned)).toBe(canonicalJson(details));
      expect(JSON.parse(canonicalJson(details))).toEqual(JSON.parse(JSON.stringify(details)));
    }),
  );
});
