import type { ByteString } from '../address/place.js';
import { compareKeys } from '../rows/keys.js';

/** A block of a stored table: its hash, how many rows it holds, and the integer key of the first. */
export interface KeyedBlock {
  readonly hash: string;
  readonly rows: number;
  readonly key: ByteString;
}

/** Integer keys from one, inclusive, to one, exclusive; undefined where the range is open. */
export interface KeyRange {
  readonly from: ByteString | undefined;
  readonly to: ByteString | undefined;
}

/** What a database holds of a table, seen from a moment in the past. */
export interface TableSince {
  /** How many rows were neither written since nor are noted. */
  readonly still: number;
  /** Keys of rows that were written since and are not noted. */
  readonly written: readonly ByteString[];
}

/** A stored table now, and as it was when a change record was made with it. */
export interface ImageHistory {
  readonly current: readonly KeyedBlock[];
  readonly former: readonly KeyedBlock[];
}

/**
 * How many rows a database lost, when at a moment it was found to hold what an image holds but for some noted keys. A
 * row that was written since is seen by its version; one that was deleted only by the count of those that were not.
 *
 * @param noted keys at which there was something to say, or that are to be read in any case
 * @param held which of the noted and the written keys the image holds
 * @returns below zero where the image is not the one that the database was compared with
 */
export function rowsMissing(
  blocks: readonly KeyedBlock[],
  { still, written }: TableSince,
  noted: ReadonlySet<ByteString>,
  held: ReadonlySet<ByteString>,
): number {
  let expected = blocks.reduce((sum, block) => sum + block.rows, 0);
  for (const key of noted) if (held.has(key)) expected--;
  for (const key of written) if (held.has(key)) expected--;
  return expected - still;
}

/**
 * Where a database lost rows that nothing else tells of.
 *
 * @param still how many rows below the first block's key, then from each block's key on, were neither written nor noted
 * @returns the ranges of such blocks, in order
 */
export function rangesMissing(
  blocks: readonly KeyedBlock[],
  still: readonly number[],
  { written }: TableSince,
  noted: ReadonlySet<ByteString>,
  held: ReadonlySet<ByteString>,
): KeyRange[] {
  const expected = [0, ...blocks.map((block) => block.rows)];
  for (const key of [...noted, ...written]) if (held.has(key)) (expected[rangeOf(blocks, key)] as number)--;
  return expected.flatMap((rows, i) =>
    rows === (still[i] ?? 0) ? [] : [{ from: blocks[i - 1]?.key, to: blocks[i]?.key }],
  );
}

/** Reading a few rows too many costs less than looking one more key up. */
const NEAR = 16n;

/** Ranges that hold some keys, and few others; in order, none touching the next. */
export function rangesAround(keys: Iterable<ByteString>): KeyRange[] {
  const sorted = [...new Set(keys)].map(BigInt).sort((a, b) => (a < b ? -1 : a > b ? 1 : 0));
  const ranges: KeyRange[] = [];
  let [first, last] = [sorted[0], sorted[0]];
  const close = (): void => {
    if (first !== undefined && last !== undefined) ranges.push({ from: `${first}`, to: `${last + 1n}` });
  };
  for (const key of sorted) {
    if (key - (last as bigint) > NEAR) {
      close();
      first = key;
    }
    last = key;
  }
  close();
  return ranges;
}

/** All that lies in any of some ranges; in order, none touching the next. */
export function joinRanges(ranges: readonly KeyRange[]): KeyRange[] {
  const sorted = ranges.toSorted((a, b) =>
    a.from === b.from ? 0 : a.from === undefined ? -1 : b.from === undefined ? 1 : compare(a.from, b.from),
  );
  const joined: { from: ByteString | undefined; to: ByteString | undefined }[] = [];
  for (const { from, to } of sorted) {
    const last = joined.at(-1);
    const meets = last && (last.to === undefined || from === undefined || compare(from, last.to) <= 0);
    if (!meets) joined.push({ from, to });
    else if (last.to !== undefined && (to === undefined || compare(to, last.to) > 0)) last.to = to;
  }
  return joined;
}

/** Blocks that only one of two lists has: whatever differs between the two stands in them. */
export function movedBlocks({ current, former }: ImageHistory): ImageHistory {
  if (current === former) return { current: [], former: [] };
  const name = (block: KeyedBlock): string => `${block.hash} ${block.key}`;
  const [now, then] = [new Set(current.map(name)), new Set(former.map(name))];
  return {
    current: current.filter((block) => !then.has(name(block))),
    former: former.filter((block) => !now.has(name(block))),
  };
}

const compare = (a: ByteString, b: ByteString): number => compareKeys([a], [b], ['integer']);

/** Which range a key lies in: 0 is below the first block's key, then one from each block's key on. */
export function rangeOf(bounds: readonly KeyedBlock[], key: ByteString): number {
  let [low, high] = [0, bounds.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (compare((bounds[middle] as KeyedBlock).key, key) <= 0) low = middle + 1;
    else high = middle;
  }
  return low;
}

/** Tells whether keys, asked for in rising order, lie in one of some ranges. */
export class RangeFilter {
  #at = 0;

  constructor(readonly ranges: readonly KeyRange[]) {}

  holds(key: ByteString): boolean {
    for (;;) {
      const range = this.ranges[this.#at];
      if (!range) return false;
      if (range.to !== undefined && compare(key, range.to) >= 0) {
        this.#at++;
        continue;
      }
      return range.from === undefined || compare(key, range.from) >= 0;
    }
  }
}

/** Blocks that may hold rows of some ranges. */
export function blocksWithin(blocks: readonly KeyedBlock[], ranges: readonly KeyRange[]): KeyedBlock[] {
  let at = 0;
  return blocks.filter((block, i) => {
    for (;;) {
      const range = ranges[at];
      if (!range) return false;
      if (range.to !== undefined && compare(block.key, range.to) >= 0) {
        at++;
        continue;
      }
      const next = blocks[i + 1];
      return range.from === undefined || next === undefined || compare(next.key, range.from) > 0;
    }
  });
}
