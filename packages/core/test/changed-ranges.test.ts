import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { blocksWithin, changedRanges, type KeyedBlock, type KeyRange, RangeFilter } from '../src/index.js';

const block = (key: number, rows: number, hash = `h${key}`): KeyedBlock => ({ hash, rows, key: String(key) });
const still = (...rows: number[]) => rows.map((count) => ({ rows: count, isWritten: false }));
const BLOCKS = [block(10, 3), block(20, 2), block(30, 4)];
const SAME = { current: BLOCKS, former: BLOCKS };
const ranges = (
  counts: { rows: number; isWritten: boolean }[],
  keys: string[] = [],
  former: readonly KeyedBlock[] = BLOCKS,
): KeyRange[] => changedRanges(BLOCKS, [still(0, 3, 2, 4), counts], [SAME, { current: BLOCKS, former }], keys);

describe('what must be read', () => {
  it('is nothing where nothing was written', () => {
    expect(ranges(still(0, 3, 2, 4))).toEqual([]);
  });

  it.each([
    ['a row was written', [...still(0, 3), { rows: 2, isWritten: true }, ...still(4)], { from: '20', to: '30' }],
    ['a row is gone', still(0, 3, 1, 4), { from: '20', to: '30' }],
    ['a row came before all', still(1, 3, 2, 4), { from: undefined, to: '10' }],
    ['a row came after all', still(0, 3, 2, 5), { from: '30', to: undefined }],
    ['two neighbours changed', still(0, 2, 1, 4), { from: '10', to: '30' }],
  ])('is the range where %s', (_name, counts, expected) => {
    expect(ranges(counts)).toEqual([expected]);
  });

  it('is where something was unlike before, between blocks too', () => {
    expect(ranges(still(0, 3, 2, 4), ['25', '-7'])).toEqual([
      { from: undefined, to: '10' },
      { from: '20', to: '30' },
    ]);
  });

  it('is where an image has moved on', () => {
    const former = [block(10, 3), block(20, 2, 'other'), block(30, 4)];
    expect(ranges(still(0, 3, 2, 4), [], former)).toEqual([{ from: '20', to: '30' }]);
    expect(ranges(still(0, 3, 2, 4), [], [block(10, 3)])).toEqual([{ from: '20', to: undefined }]);
    expect(ranges(still(0, 3, 2, 4), [], [])).toEqual([{ from: '10', to: undefined }]);
  });

  it('compares keys as numbers', () => {
    const blocks = [block(9, 1), block(100, 1)];
    const found = changedRanges(blocks, [still(0, 1, 1)], [{ current: blocks, former: blocks }], ['20']);
    expect(found).toEqual([{ from: '9', to: '100' }]);
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
