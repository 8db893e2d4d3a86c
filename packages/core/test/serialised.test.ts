import { crc32 } from 'node:zlib';
import {
  BlockCutter,
  LineRewriter,
  mapRows,
  materialiseLines,
  type Place,
  parseLocation,
  plain,
  Rewriter,
  RowCursor,
  RowOrderError,
  readLine,
  writeLine,
} from '../src/index.js';
import { describe, expect, fc, it } from './support.js';

const place = (url: string): Place => ({
  addresses: [{ name: 'main', ...parseLocation(url), aliases: [] }],
  roots: [{ name: 'main', path: '/srv/a' }],
});
const LIVE = 'https://loom.example';
const COPY = 'http://loom--a-much-longer-name.localhost:7400';
const [live, copy] = [new Rewriter(place(LIVE)), new Rewriter(place(COPY))];
const bytes = (text: string): string => Buffer.from(text).toString('latin1');
const there = (value: string): string => copy.materialise(live.canonicalise(value).value);

/** A value of PHP's, as plainly as it can be written down: the model that the rewriting is held against. */
type Php = null | boolean | number | string | readonly (readonly [string | number, Php])[];

function serialise(value: Php): string {
  if (value === null) return 'N;';
  if (typeof value === 'boolean') return `b:${value ? 1 : 0};`;
  if (typeof value === 'number') return Number.isInteger(value) ? `i:${value};` : `d:${value};`;
  if (typeof value === 'string') return `s:${value.length}:"${value}";`;
  return `a:${value.length}:{${value.map(([key, inner]) => serialise(key) + serialise(inner)).join('')}}`;
}

/** Every text in a value with one address instead of the other. */
function moved(value: Php): Php {
  if (typeof value === 'string') return value.replaceAll(LIVE, COPY);
  if (value === null || typeof value !== 'object') return value;
  return value.map(([key, inner]) => [typeof key === 'string' ? (moved(key) as string) : key, moved(inner)] as const);
}

const words = fc
  .array(
    fc.oneof(
      fc.constantFrom(LIVE, `${LIVE}/a`, 'ü', '"', ';', '}', 's:3:"', ' ', '\n', '\\', 'x', '{', ':'),
      fc.string({ maxLength: 5 }),
    ),
    { maxLength: 6 },
  )
  .map((parts) => bytes(parts.join(' ')))
  // What looks serialised and is not stays as it was: a case of its own below.
  .filter((text) => !text.startsWith('s:3:"'))
  // Names that run into an address make another one of it; those are cases of the address tests.
  .filter((text) => !/[A-Za-z0-9.-]loom|example[A-Za-z0-9.:-]/.test(text.replaceAll(LIVE, 'U')));
const php: fc.Arbitrary<Php> = fc.letrec<{ value: Php }>((tie) => ({
  value: fc.oneof(
    { depthSize: 'small', withCrossShrink: true },
    words,
    fc.constantFrom<Php>(null, true, false),
    fc.integer(),
    fc.constantFrom(0.5, -1.25e-7),
    fc.array(fc.tuple(fc.oneof(words, fc.nat()), tie('value')), { maxLength: 4 }),
  ),
})).value;

describe('serialised values', () => {
  const isComposite = (value: Php): boolean => typeof value === 'object' && value !== null;

  it('have the lengths that PHP would write, whatever is in them', () => {
    fc.assert(
      fc.property(php.filter(isComposite), (value) => {
        expect(there(serialise(value))).toBe(serialise(moved(value)));
      }),
      { numRuns: 3000 },
    );
  });

  it('are followed into one another, and into JSON and out again', () => {
    fc.assert(
      fc.property(php.filter(isComposite), (value) => {
        const inner = serialise(value);
        const innerThere = serialise(moved(value));
        expect(there(serialise([['inner', inner]]))).toBe(serialise([['inner', innerThere]]));
        expect(there(serialise([[0, serialise([[1, inner]])]]))).toBe(serialise([[0, serialise([[1, innerThere]])]]));
        // JSON is text of Unicode; the bytes of its escapes count nowhere.
        const json = (text: string): string => bytes(JSON.stringify({ v: Buffer.from(text, 'latin1').toString() }));
        if (Buffer.from(Buffer.from(inner, 'latin1').toString()).toString('latin1') === inner)
          expect(JSON.parse(Buffer.from(there(json(inner)), 'latin1').toString())).toEqual({
            v: Buffer.from(innerThere, 'latin1').toString(),
          });
      }),
      { numRuns: 1500 },
    );
  });

  it('that are cut off or counted wrongly stay as they were, and are counted as left', () => {
    fc.assert(
      fc.property(php.filter(isComposite), fc.nat(), (value, at) => {
        const whole = serialise(value);
        const broken = whole.slice(0, 5 + (at % Math.max(1, whole.length - 6)));
        const result = live.canonicalise(broken);
        if (result.left > 0) {
          expect(result.rewritten).toBe(0);
          expect(there(broken)).toBe(broken);
        }
        expect(live.materialise(result.value)).toBe(broken);
      }),
      { numRuns: 2000 },
    );
  });

  it.each([
    ['objects', `O:4:"Link":1:{s:3:"url";s:${LIVE.length}:"${LIVE}";}`, `s:${COPY.length}:"${COPY}"`],
    ['references', `a:2:{i:0;s:${LIVE.length}:"${LIVE}";i:1;R:2;}`, 'R:2;'],
    ['private names', `O:1:"A":1:{s:4:"\0A\0u";s:${LIVE.length}:"${LIVE}";}`, `s:4:"\0A\0u";s:${COPY.length}:`],
    ['enumerations', `a:2:{i:0;E:7:"Suit:Up";i:1;s:${LIVE.length}:"${LIVE}";}`, 'E:7:"Suit:Up";'],
  ])('of %s are read', (_what, value, part) => {
    expect(there(value)).toContain(part);
    expect(there(value)).toContain(COPY);
    expect(there(value)).not.toContain(LIVE);
  });

  it('are not followed for ever', () => {
    let value = `s:${LIVE.length}:"${LIVE}";`;
    for (let depth = 0; depth < 40; depth++) value = serialise([['deep', value]]);
    const result = live.canonicalise(value);
    expect(live.materialise(result.value)).toBe(value);
  });
});

describe('rows of values', () => {
  const value = fc.option(
    fc.oneof(words, php.map(serialise), fc.constantFrom('~tsr.', '~tsr.l~', '\\N', '', `${LIVE}\t${LIVE}`)),
  );
  const rows = fc.array(fc.tuple(value, value, value), { minLength: 1, maxLength: 12 });
  const columns = [
    { name: 'a', rewrite: true, reach: { bareHosts: false, rootPaths: true } },
    { name: 'b', rewrite: false, reach: { bareHosts: false, rootPaths: false } },
    { name: 'c', rewrite: true, reach: { bareHosts: false, rootPaths: false } },
  ];

  it('become the same row by row, as lines in two steps, and as lines in one', () => {
    fc.assert(
      fc.property(rows, (given) => {
        const lines = given.map((row) => `${writeLine(row)}\n`).join('');
        const rewriter = (): LineRewriter => new LineRewriter(live, columns);
        const inOne = rewriter().rewriteTo(lines, copy);
        expect(materialiseLines(rewriter().canonicalise(lines), copy)).toBe(inOne);
        const one = rewriter();
        expect(given.map((row) => `${writeLine(one.rewriteRow(row, copy))}\n`).join('')).toBe(inOne);
        // What is never rewritten is the same on both sides.
        for (const [i, line] of inOne.slice(0, -1).split('\n').entries())
          expect(readLine(line)[1]).toBe(given[i]?.[1] ?? null);
      }),
      { numRuns: 1500 },
    );
  });

  it('say what was rewritten and what was left, by column', () => {
    const rewriter = new LineRewriter(live, columns);
    rewriter.canonicalise(
      [
        [LIVE, LIVE, `${LIVE} ${LIVE}`],
        ['a:1:{s:3:"cut', null, `a:1:{i:0;s:9:"${LIVE}";}`],
      ]
        .map((row) => `${writeLine(row)}\n`)
        .join(''),
    );
    expect(rewriter.tallies).toEqual([
      { rewritten: 1, left: 0 },
      { rewritten: 0, left: 0 },
      { rewritten: 2, left: 1 },
    ]);
  });

  it('are changed or dropped one by one, and kept byte for byte where nothing is changed', () => {
    fc.assert(
      fc.property(rows, (given) => {
        const lines = given.map((row) => `${writeLine(row)}\n`).join('');
        expect(mapRows(lines, (row) => row)).toBe(lines);
        expect(mapRows(lines, () => null)).toBe('');
        const marked = mapRows(lines, (row) => (row[0] === null ? null : [...row.slice(0, 2), 'marked']));
        const kept = given.filter((row) => row[0] !== null);
        expect(marked).toBe(kept.map((row) => `${writeLine([row[0], row[1], 'marked'])}\n`).join(''));
      }),
    );
  });

  it('agree in plain form exactly where they say the same', () => {
    const canonical = (text: string): string => live.canonicalise(text).value;
    expect(plain(canonical(`${LIVE}/a`))).toBe(plain(canonical('HTTPS://loom.example/a'.replace('HTTPS', 'https'))));
    expect(plain(canonical('https://loom.example:443/a'))).toBe(plain(canonical(`${LIVE}/a`)));
    expect(plain(canonical(`${LIVE}/a`))).not.toBe(plain(canonical(`${LIVE}/b`)));
    expect(plain(canonical(`${LIVE}/a`))).not.toBe(plain(canonical('https://loom.example:8443/a')));
  });
});

describe('a cursor over rows', () => {
  async function* inBatches(lines: readonly string[], size: number): AsyncGenerator<string> {
    for (let at = 0; at < lines.length; at += size)
      yield lines
        .slice(at, at + size)
        .map((line) => `${line}\n`)
        .join('');
  }

  it('gives every row once, in whatever batches they come', async () => {
    await fc.assert(
      fc.asyncProperty(fc.uniqueArray(fc.nat(10_000)), fc.integer({ min: 1, max: 7 }), async (numbers, size) => {
        const sorted = numbers.toSorted((a, b) => a - b);
        const cursor = new RowCursor(
          inBatches(
            sorted.map((n) => `${n}\tx`),
            size,
          ),
          [0],
          ['integer'],
        );
        const seen: number[] = [];
        for (await cursor.fill(); cursor.current; await cursor.advance()) seen.push(Number(cursor.current.key[0]));
        expect(seen).toEqual(sorted);
      }),
    );
  });

  it('stops at the first row that is out of order, also across batches', async () => {
    for (const size of [1, 2, 3, 10]) {
      const cursor = new RowCursor(inBatches(['1', '5', '4', '6'], size), [0], ['integer']);
      const walk = async (): Promise<void> => {
        for (await cursor.fill(); cursor.current; await cursor.advance());
      };
      await expect(walk()).rejects.toThrow(RowOrderError);
    }
  });
});

describe('blocks of rows', () => {
  const cut = (lines: readonly string[], batch: number): { block: string; rows: number }[] => {
    const blocks: { block: string; rows: number }[] = [];
    const cutter = new BlockCutter(
      (line) => crc32(line),
      (block, rows) => blocks.push({ block, rows }),
    );
    for (let at = 0; at < lines.length; at += batch) cutter.add(`${lines.slice(at, at + batch).join('\n')}\n`);
    cutter.end();
    return blocks;
  };

  it('are the same however the rows arrive, hold each row once, and are never larger than they may be', () => {
    const line = fc.tuple(fc.nat(), fc.nat(300)).map(([n, length]) => `${n}\t${'y'.repeat(length)}`);
    fc.assert(
      fc.property(fc.array(line, { maxLength: 400 }), fc.integer({ min: 1, max: 50 }), (lines, batch) => {
        const blocks = cut(lines, batch);
        expect(blocks).toEqual(cut(lines, 1));
        expect(blocks.map((one) => one.block).join('')).toBe(lines.map((one) => `${one}\n`).join(''));
        expect(blocks.reduce((sum, one) => sum + one.rows, 0)).toBe(lines.length);
        for (const { block, rows } of blocks) {
          expect(block.split('\n').length - 1).toBe(rows);
          expect(block.length).toBeLessThan(65_536 + 310);
        }
      }),
      { numRuns: 60 },
    );
  });

  it('of one long row are that row', () => {
    const [only, ...more] = cut(['z'.repeat(300_000)], 1);
    expect([only?.rows, only?.block.length, more.length]).toEqual([1, 300_001, 0]);
  });
});
