import {
  type AreaRule,
  amount,
  type Change,
  compareFiles,
  compareKeys,
  compareLane,
  compileCondition,
  counted,
  type DataClass,
  type EnvironmentKind,
  type FileState,
  invert,
  type KeyOrder,
  listAmounts,
  mergeLane,
  plainSentence,
  pullLane,
  pushLane,
  pushSentence,
  readEnvironmentPath,
  resetLane,
  sameFile,
  sentenceText,
  shortSentence,
  toBytes,
  toText,
  usualEnds,
} from '../src/index.js';
import { describe, expect, fc, it } from './support.js';

const KINDS: EnvironmentKind[] = ['dev', 'staging', 'live'];
const end = (kind: EnvironmentKind, site = 'threadmill') => ({ path: `${site}/${kind}-x`, site, kind });

describe('lanes', () => {
  const UP = new Set(['dev>staging', 'staging>live']);
  const DOWN = new Set(['live>staging', 'live>dev', 'staging>dev', 'staging>staging', 'live>live']);

  it.each(KINDS.flatMap((from) => KINDS.map((onto) => [from, onto] as const)))('from %s onto %s', (from, onto) => {
    const [a, b] = [end(from), { ...end(onto), path: `threadmill/${onto}-y` }];
    const push = pushLane(a, b);
    expect(push.allowed).toBe(UP.has(`${from}>${onto}`));
    const reset = resetLane(a, b);
    expect(reset.allowed).toBe(DOWN.has(`${from}>${onto}`) && onto !== 'live');
    for (const verdict of [push, reset]) {
      if (verdict.allowed) continue;
      expect(verdict.reason).toMatch(/^[A-Za-z].*\.$/);
      expect(verdict.reason).toContain(verdict === push || onto === 'live' ? '' : a.path);
      expect(verdict.next.length).toBeGreaterThan(10);
    }
  });

  it('never lead onto itself or into another site', () => {
    for (const kind of KINDS) {
      expect(pushLane(end(kind), end(kind))).toEqual({
        allowed: false,
        reason: expect.stringContaining('itself'),
        next: expect.any(String),
      });
      expect(resetLane(end(kind), end(kind)).allowed).toBe(false);
      expect(resetLane(end(kind), end('staging', 'quayside'))).toMatchObject({
        allowed: false,
        reason: expect.stringContaining('different sites'),
        next: expect.stringContaining('env create quayside/NAME'),
      });
      expect(pushLane(end('staging'), end('live', 'quayside')).allowed).toBe(false);
    }
  });
});

describe('the other end of an act', () => {
  const all = [end('dev'), end('staging'), { ...end('staging'), path: 'threadmill/other' }, end('live')];
  const others = (...given: Parameters<typeof usualEnds>): EnvironmentKind[] =>
    usualEnds(...given).map((one) => one.kind);

  it('is what its lane leads to, of another kind', () => {
    expect(others('push', 'from', end('dev'), all)).toEqual(['staging', 'staging']);
    expect(others('push', 'onto', end('live'), all)).toEqual(['staging', 'staging']);
    expect(others('push', 'from', end('live'), all)).toEqual([]);
    expect(others('pull', 'from', end('live'), all)).toEqual(['dev', 'staging', 'staging']);
    expect(others('reset', 'from', end('staging'), all)).toEqual(['dev']);
  });

  it('is for a pull the next kind above, and for a reset the highest', () => {
    expect(others('pull', 'onto', end('dev'), all)).toEqual(['staging', 'staging']);
    expect(others('pull', 'onto', end('dev'), [end('dev'), end('live')])).toEqual(['live']);
    expect(others('reset', 'onto', end('dev'), all)).toEqual(['live']);
    expect(others('reset', 'onto', end('staging'), all)).toEqual(['live']);
    expect(others('reset', 'onto', end('live'), all)).toEqual([]);
  });
});

describe('the preview of a change request', () => {
  const LANES = { pushLane, pullLane, mergeLane, compareLane, resetLane };
  const preview = { ...end('staging'), path: 'threadmill/preview-x', preview: { request: 'q-0000000000' } };

  it.each(Object.entries(LANES))('is no end of what %s decides, whatever stands at the other', (_name, lane) => {
    for (const kind of KINDS)
      for (const [from, onto] of [
        [preview, end(kind)],
        [end(kind), preview],
      ] as const) {
        const verdict = lane(from, onto);
        expect(verdict).toMatchObject({ allowed: false });
        expect(!verdict.allowed && verdict.reason).toContain('threadmill/preview-x is the preview');
      }
  });

  it('is told by its sentence', () => {
    const sentence = plainSentence({
      kind: 'preview',
      onto: 'threadmill/preview-x',
      of: 'threadmill/live',
      title: 'Autumn <b>',
    });
    expect(sentenceText(sentence)).toBe(
      'Make threadmill/preview-x what threadmill/live would be with Autumn <b>, personal data masked.',
    );
  });
});

describe('keys', () => {
  const orders = fc.constantFrom<KeyOrder[]>(
    ['integer'],
    ['bytes'],
    ['bytes', 'integer'],
    ['integer', 'bytes', 'bytes'],
  );
  const keyOf = (given: KeyOrder[]): fc.Arbitrary<(string | null)[]> =>
    fc.tuple(
      ...given.map((order) =>
        fc.option(
          order === 'integer'
            ? fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n - 1n }).map(String)
            : fc.string().map(toBytes),
        ),
      ),
    );

  it('are ordered totally: one way, and the same through a third', () => {
    fc.assert(
      fc.property(
        orders.chain((given) => fc.tuple(fc.constant(given), keyOf(given), keyOf(given), keyOf(given))),
        ([given, a, b, c]) => {
          const sign = (x: typeof a, y: typeof a): number => Math.sign(compareKeys(x, y, given));
          expect(sign(a, a)).toBe(0);
          expect(sign(a, b)).toBe(-sign(b, a) + 0);
          if (sign(a, b) <= 0 && sign(b, c) <= 0) expect(sign(a, c)).toBeLessThanOrEqual(0);
          if (sign(a, b) === 0) expect(a).toEqual(b);
        },
      ),
      { numRuns: 2000 },
    );
  });

  it('are ordered as the database orders them', () => {
    expect(compareKeys(['9'], ['10'], ['integer'])).toBeLessThan(0);
    expect(compareKeys(['9'], ['10'], ['bytes'])).toBeGreaterThan(0);
    expect(compareKeys(['9007199254740993'], ['9007199254740992'], ['integer'])).toBeGreaterThan(0);
    expect(compareKeys([null], ['zzz'], ['bytes'])).toBeGreaterThan(0);
    expect(compareKeys([toBytes('é')], [toBytes('z')], ['bytes'])).toBeGreaterThan(0);
  });
});

describe('row groups', () => {
  it('hold the rows whose named columns have one of the values, `*` for any text', () => {
    const columns = ['name', 'kind'];
    const holds = compileCondition({ name: ['menu_*', 'exact'], kind: ['a'] }, columns);
    expect(holds(['menu_main', 'a'])).toBe(true);
    expect(holds(['menu_', 'a'])).toBe(true);
    expect(holds(['exact', 'a'])).toBe(true);
    expect(holds(['exactly', 'a'])).toBe(false);
    expect(holds(['xmenu_main', 'a'])).toBe(false);
    expect(holds(['exact', 'b'])).toBe(false);
    expect(holds([null, 'a'])).toBe(false);
    expect(compileCondition({ gone: ['*'] }, columns)(['exact', 'a'])).toBe(false);
  });

  it('take every other sign for itself', () => {
    fc.assert(
      fc.property(
        fc.string().filter((text) => !text.includes('*')),
        fc.string(),
        (value, other) => {
          const holds = compileCondition({ c: [value] }, ['c']);
          expect(holds([toBytes(value)])).toBe(true);
          expect(holds([toBytes(other)])).toBe(value === other);
          expect(compileCondition({ c: [`${value}*`] }, ['c'])([toBytes(`${value}\n${other}`)])).toBe(true);
        },
      ),
    );
  });

  it('bytes and text turn into one another', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), (text) => {
        expect(toText(toBytes(text))).toBe(text);
      }),
    );
  });
});

const state: fc.Arbitrary<FileState> = fc.oneof(
  fc.constant<FileState>({ type: 'absent' }),
  fc.record({ type: fc.constant('link' as const), target: fc.constantFrom('a', 'b') }),
  fc.record({
    type: fc.constant('file' as const),
    mode: fc.constantFrom(0o644, 0o755),
    size: fc.constant(1),
    pieces: fc.constantFrom(['1'], ['2'], ['1', '2']),
    plain: fc.constantFrom(undefined, 'p', 'q'),
  }),
);
const listing = fc
  .dictionary(fc.constantFrom('a', 'code/b', 'media/c', 'media/d', 'cache/e'), state)
  .map((files) => new Map(Object.entries(files).filter(([, one]) => one.type !== 'absent')));

const REPLACE = { method: 'replace', classes: new Set<DataClass>(['authored']) } as const;

/** A push by replace of a root's files. */
function replaceFiles(
  sides: {
    source: Map<string, FileState>;
    destination: Map<string, FileState>;
    baseline: Map<string, FileState> | undefined;
  },
  leftOut: (path: string) => boolean = () => false,
) {
  const { source, destination, baseline } = sides;
  const images = baseline && { source: baseline, destination: baseline };
  return compareFiles('main', areas, { source, destination, baseline: images }, REPLACE, leftOut).flatMap((one) =>
    one.decision.is === 'taken'
      ? [
          {
            change: { path: one.path, before: one.sides.destination, after: one.sides.source },
            overwritesOwnWork: one.decision.overwrites,
          },
        ]
      : [],
  );
}

const areas: AreaRule[] = [
  { name: 'code', path: '.', class: 'authored' },
  { name: 'media', path: 'media', class: 'collected' },
  { name: 'cache', path: 'cache', class: 'local' },
];

describe('files of a push', () => {
  it('make the destination as the source where both may write, and touch nothing else', () => {
    fc.assert(
      fc.property(listing, listing, fc.option(listing), (source, destination, baseline) => {
        const found = replaceFiles({ source, destination, baseline: baseline ?? undefined });
        const after = new Map(destination);
        for (const { change } of found) {
          expect(sameFile(change.before, destination.get(change.path) ?? { type: 'absent' })).toBe(true);
          if (change.after.type === 'absent') after.delete(change.path);
          else after.set(change.path, change.after);
        }
        for (const path of new Set([...source.keys(), ...destination.keys()])) {
          const isAuthored = !path.startsWith('media/') && !path.startsWith('cache/');
          const expected = (isAuthored ? source : destination).get(path) ?? { type: 'absent' as const };
          expect(sameFile(after.get(path) ?? { type: 'absent' }, expected)).toBe(true);
        }
        expect(
          replaceFiles({ source, destination: after, baseline: undefined }).filter(
            ({ change }) => !change.path.startsWith('media/'),
          ),
        ).toEqual([]);
      }),
      { numRuns: 2000 },
    );
  });

  it('call exactly that the destination’s own work which is not as both had it', () => {
    fc.assert(
      fc.property(listing, listing, listing, (source, destination, baseline) => {
        for (const { change, overwritesOwnWork } of replaceFiles({ source, destination, baseline }))
          expect(overwritesOwnWork).toBe(!sameFile(change.before, baseline.get(change.path) ?? { type: 'absent' }));
      }),
    );
  });

  it('leave alone what the copy never received', () => {
    const destination = new Map<string, FileState>([['a', { type: 'link', target: 'x' }]]);
    const sides = { source: new Map(), destination, baseline: undefined };
    expect(replaceFiles(sides, (path) => path === 'a')).toEqual([]);
    expect(replaceFiles(sides).length).toBe(1);
  });
});

describe('a change', () => {
  const cell = fc.option(fc.string());
  const row = fc.dictionary(fc.constantFrom('id', 'title', 'body'), cell);
  const on = { part: 'row' as const, database: 'main', table: 'public.page', key: ['1'] };
  const change: fc.Arbitrary<Change> = fc.oneof(
    row.map((one): Change => ({ ...on, op: 'insert', row: one })),
    row.map((one): Change => ({ ...on, op: 'delete', row: one })),
    fc
      .dictionary(fc.constantFrom('title', 'body'), fc.record({ before: cell, after: cell }))
      .map((cells): Change => ({ ...on, op: 'update', cells })),
    fc.tuple(state, state).map(([before, after]): Change => ({ part: 'file', root: 'main', path: 'a', before, after })),
  );

  it('taken back twice is the change again, and once is not what it was', () => {
    fc.assert(
      fc.property(change, (one) => {
        expect(invert(invert(one))).toEqual(one);
        const back = invert(one);
        if (one.part === 'row' && one.op === 'insert') expect(back).toMatchObject({ op: 'delete', row: one.row });
        if (one.part === 'file') expect(back).toMatchObject({ before: one.after, after: one.before });
      }),
    );
  });
});

describe('sentences', () => {
  it('count things as people do', () => {
    expect(counted(0, 'row')).toBe('0 rows');
    expect(counted(1, 'row')).toBe('1 row');
    expect(counted(12_345, 'file')).toBe('12,345 files');
    expect(amount({ count: 2, kind: 'crew', plural: 'crew' })).toBe('2 crew');
    const of = (count: number, kind: string) => ({ count, kind, plural: `${kind}s` });
    expect(listAmounts([])).toBe('nothing');
    expect(listAmounts([of(0, 'page'), of(1, 'file')])).toBe('1 file');
    expect(listAmounts([of(12, 'page'), of(3, 'file'), of(1, 'menu')])).toBe('12 pages, 3 files and 1 menu');
  });

  it('say what is written, what is overwritten, what stays and what waits', () => {
    const of = (count: number, kind: string) => ({ count, kind, plural: `${kind}s` });
    const facts = {
      direction: 'up' as const,
      from: 'threadmill/staging',
      onto: 'threadmill/live',
      written: [of(12, 'page'), of(3, 'file')],
      stay: [of(41, 'order')],
      lost: [of(1, 'page')],
      collisions: 2,
    };
    expect(sentenceText(pushSentence(facts))).toBe(
      'Write 12 pages and 3 files from threadmill/staging onto threadmill/live; overwrite 1 page that live changed meanwhile; 41 orders that live took meanwhile stay; 2 collisions to settle.',
    );
    expect(shortSentence(facts)).toBe('Write 15 items onto live');
    expect(shortSentence({ ...facts, written: [] })).toBe('Nothing to write onto live');
    const quiet = { ...facts, stay: [of(1, 'order')], lost: [], collisions: 0 };
    expect(sentenceText(pushSentence(quiet))).toBe(
      'Write 12 pages and 3 files from threadmill/staging onto threadmill/live; 1 order that live took meanwhile stays.',
    );
  });

  it('end with a full stop whatever they speak of, and name the environment', () => {
    const live = 'threadmill/live';
    for (const pieces of [
      plainSentence({ kind: 'clone', from: live, onto: 'threadmill/staging', leftOut: 0 }),
      plainSentence({ kind: 'clone', from: live, onto: 'threadmill/staging', leftOut: 2 }),
      plainSentence({ kind: 'reset', from: live, onto: 'threadmill/staging' }),
      plainSentence({ kind: 'restore', snapshot: 's-1', onto: live }),
      plainSentence({ kind: 'snapshot', of: live }),
      plainSentence({ kind: 'remove', environment: live }),
      plainSentence({ kind: 'adopt', environment: live }),
    ]) {
      expect(sentenceText(pieces)).toMatch(/^[A-Z].*\.$/);
      expect(pieces.some((piece) => piece.tone === 'path' && piece.text.startsWith('threadmill/'))).toBe(true);
    }
  });

  it('an undo says what it takes back, of what, and what stays', () => {
    const pages = (count: number) => [{ count, kind: 'page', plural: 'pages' }];
    const facts = {
      direction: 'back',
      from: 't-1',
      onto: 'threadmill/live',
      written: pages(2),
      stay: pages(1),
      lost: [],
      collisions: 0,
    } as const;
    expect(sentenceText(pushSentence(facts))).toBe(
      'Take back 2 pages of t-1 from threadmill/live; 1 page that live changed meanwhile stays.',
    );
    expect(shortSentence(facts)).toBe('Take back 2 items from live');
  });

  it('a path of an environment is a site and a name, both safe', () => {
    expect(readEnvironmentPath('threadmill/live')).toEqual({ site: 'threadmill', environment: 'live' });
    for (const wrong of ['', '/', 'a', 'a/', '/b', 'a/b/c', '../x', 'A/b', 'a b/c', 'a/-b', `${'a'.repeat(33)}/b`])
      expect(readEnvironmentPath(wrong), wrong).toBeUndefined();
  });
});
