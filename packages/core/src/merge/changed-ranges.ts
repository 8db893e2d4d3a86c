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

/** What a database holds between two boundaries: how many rows, and whether any was written after a moment. */
export interface RangeCount {
  readonly rows: number;
  readonly isWritten: boolean;
}

/** A stored table now, and as it was when a change record was made with it. */
export interface ImageHistory {
  readonly current: readonly KeyedBlock[];
  readonly former: readonly KeyedBlock[];
}

/**
 * Tells which ranges of a table's keys must be read, when at a moment two databases were found to hold what their
 * images hold, but for some keys. A row that was written since is seen by its version, one that was deleted by the
 * count of those that were not written.
 *
 * @param bounds blocks whose first keys are the boundaries
 * @param counts for each database what it holds below the first boundary, then from each boundary on
 * @param images both images; where one has moved on since, its ranges are read
 * @param keys keys at which there was something to say, and those that go by another one on the other side
 * @returns ranges in order, none touching the next
 */
export function changedRanges(
  bounds: readonly KeyedBlock[],
  counts: readonly (readonly RangeCount[])[],
  images: readonly ImageHistory[],
  keys: Iterable<ByteString>,
): KeyRange[] {
  const isChanged: boolean[] = new Array(bounds.length + 1).fill(false);
  for (let i = 0; i <= bounds.length; i++) {
    const expected = i === 0 ? 0 : (bounds[i - 1] as KeyedBlock).rows;
    isChanged[i] = counts.some((side) => side[i]?.isWritten === true || (side[i]?.rows ?? 0) !== expected);
  }
  for (const key of keys) isChanged[rangeOf(bounds, key)] = true;
  for (const image of images)
    for (const { from, to } of movedRanges(image)) {
      const end = to === undefined ? bounds.length : rangeOf(bounds, to);
      const last = to !== undefined && bounds[end - 1]?.key === to ? end - 1 : end;
      for (let i = from === undefined ? 0 : rangeOf(bounds, from); i <= last; i++) isChanged[i] = true;
    }
  const ranges: { from: ByteString | undefined; to: ByteString | undefined }[] = [];
  for (let i = 0; i <= bounds.length; i++) {
    if (!isChanged[i]) continue;
    const to = bounds[i]?.key;
    const last = ranges.at(-1);
    if (last && isChanged[i - 1]) last.to = to;
    else ranges.push({ from: bounds[i - 1]?.key, to });
  }
  return ranges;
}

const compare = (a: ByteString, b: ByteString): number => compareKeys([a], [b], ['integer']);

/** How many boundaries are not above a key. */
function rangeOf(bounds: readonly KeyedBlock[], key: ByteString): number {
  let [low, high] = [0, bounds.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (compare((bounds[middle] as KeyedBlock).key, key) <= 0) low = middle + 1;
    else high = middle;
  }
  return low;
}

/** Where an image is not as it was: from the first key that may differ to the first that does not. */
function* movedRanges({ current, former }: ImageHistory): Generator<KeyRange> {
  if (current === former) return;
  let [i, j] = [0, 0];
  while (i < current.length || j < former.length) {
    const [a, b] = [current[i], former[j]];
    if (a && b && a.hash === b.hash && a.key === b.key) {
      i++;
      j++;
      continue;
    }
    const from = !a ? b?.key : !b ? a.key : compare(a.key, b.key) < 0 ? a.key : b.key;
    // Goes on to the next block that both have.
    for (;;) {
      const [x, y] = [current[i], former[j]];
      if (!x && !y) break;
      const order = !x ? 1 : !y ? -1 : compare(x.key, y.key);
      if (order === 0 && x?.hash === y?.hash) break;
      if (order <= 0) i++;
      if (order >= 0) j++;
    }
    yield { from, to: current[i]?.key };
  }
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
