import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  blocksWithin,
  joinRanges,
  type KeyedBlock,
  type KeyRange,
  movedBlocks,
  RangeFilter,
  rangesAround,
  rangesMissing,
  rowsMissing,
} from '../src/index.js';

const block = (key: number, rows: number, hash = `h${key}`): KeyedBlock => ({ hash, rows, key: String(key) });
const BLOCKS = [block(10, 3), block(20, 2), block(30, 4)];
const set = (...keys: number[]): Set<string> => new Set(keys.map(String));

describe('rows that are gone', () => {
  it('are none where all stand still, or were written', () => {
    expect(rowsMissing(BLOCKS, { still: 9, written: [] }, set(), set())).toBe(0);
    expect(rowsMissing(BLOCKS, { still: 8, written: ['21'] }, set(), set(21))).toBe(0);
    expect(rowsMissing(BLOCKS, { still: 9, written: ['25'] }, set(), set())).toBe(0);
    expect(rowsMissing(BLOCKS, { still: 7, written: ['21'] }, set(10, 99), set(10, 21))).toBe(0);
  });

  it('are told by the count of the others, though as many came', () => {
    expect(rowsMissing(BLOCKS, { still: 8, written: ['25'] }, set(), set())).toBe(1);
    expect(rangesMissing(BLOCKS, [0, 3, 1, 4], { still: 8, written: ['25'] }, set(), set())).toEqual([
      { from: '20', to: '30' },
    ]);
    expect(rangesMissing(BLOCKS, [0, 2, 2, 3], { still: 7, written: ['31'] }, set(32), set(32, 31))).toEqual([
      { from: '10', to: '20' },
      { from: '30', to: undefined },
    ]);
  });

  it('are fewer than none where the image is another one', () => {
    expect(rowsMissing(BLOCKS, { still: 10, written: [] }, set(), set())).toBe(-1);
  });
});

describe('what must be read', () => {
  it('is a range around keys that lie close, and one for each that does not', () => {
    expect(rangesAround(['1000', '3', '1', '3', '-99999999999999999999'])).toEqual([
      { from: '-99999999999999999999', to: '-99999999999999999998' },
      { from: '1', to: '4' },
      { from: '1000', to: '1001' },
    ]);
    expect(rangesAround([])).toEqual([]);
  });

  it('joins ranges that meet, with keys compared as numbers', () => {
    const range = (from: string | undefined, to: string | undefined): KeyRange => ({ from, to });
    expect(
      joinRanges([
        range('100', undefined),
        range('9', '20'),
        range('20', '21'),
        range(undefined, '-5'),
        range('8', '12'),
      ]),
    ).toEqual([range(undefined, '-5'), range('8', '21'), range('100', undefined)]);
    expect(joinRanges([range('1', undefined), range('5', '6')])).toEqual([range('1', undefined)]);
  });

  it('is in the blocks that only one of two images has', () => {
    const former = [block(10, 3), block(20, 2, 'other'), block(30, 4)];
    expect(movedBlocks({ current: BLOCKS, former })).toEqual({
      current: [block(20, 2)],
      former: [block(20, 2, 'other')],
    });
    expect(movedBlocks({ current: BLOCKS, former: [] })).toEqual({ current: BLOCKS, former: [] });
    expect(movedBlocks({ current: BLOCKS, former: BLOCKS })).toEqual({ current: [], former: [] });
  });

  it('lets through exactly the rows of the ranges, from the blocks that may hold them', () => {
    const keys = fc.uniqueArray(fc.integer({ min: 0, max: 60 }), { maxLength: 30 });
    const bounds = fc.uniqueArray(fc.integer({ min: 0, max: 60 }), { maxLength: 6 });
    fc.assert(
      fc.property(keys, bounds, fc.integer({ min: 1, max: 4 }), (given, given2, size) => {
        const sorted = given.toSorted((a, b) => a - b);
        const edges = given2.toSorted((a, b) => a - b).map(String);
        const wanted: KeyRange[] = [];
        for (let i = 0; i + 1 < edges.length; i += 2) wanted.push({ from: edges[i], to: edges[i + 1] });
        const blocks: KeyedBlock[] = [];
        const rows = new Map<string, number[]>();
        for (let i = 0; i < sorted.length; i += size) {
          const part = sorted.slice(i, i + size);
          blocks.push(block(part[0] as number, part.length));
          rows.set(`h${part[0]}`, part);
        }
        const filter = new RangeFilter(wanted);
        const found = blocksWithin(blocks, wanted).flatMap(({ hash }) =>
          (rows.get(hash) as number[]).filter((key) => filter.holds(String(key))),
        );
        const isIn = (key: number) => wanted.some(({ from, to }) => key >= Number(from) && key < Number(to));
        expect(found).toEqual(sorted.filter(isIn));
      }),
    );
  });
});
