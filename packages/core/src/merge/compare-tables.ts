import type { ByteString } from '../address/place.js';
import type { TableRows } from './align-sides.js';
import {
  compareTable,
  type Lacking,
  MOST_UNLIKE,
  type OwnChange,
  type RowOutcome,
  type TableComparison,
} from './compare-table.js';
import type { MergeRules } from './decide-row.js';
import { type KeyPair, KeyTranslation } from './key-translation.js';
import type { MergeTable } from './merge-table.js';
import { tellApart } from './tell-apart.js';

/** A table to compare, and how to read it; `open` may be called more than once. */
export interface TableToCompare {
  readonly table: MergeTable;
  readonly open: () => TableRows;
}

/** What a comparison of all tables found. */
export interface Comparison {
  /** By table, the keys at which there was anything to say: the rest is on both sides what it was, and alike. */
  readonly unlike: ReadonlyMap<string, readonly ByteString[] | 'too many'>;
  readonly outcomes: readonly RowOutcome[];
  readonly ownChanges: readonly OwnChange[];
  /** Rows that only the source has, and that the destination does not get, because it deleted them. */
  readonly lacking: readonly Lacking[];
  /** Pairs of keys that were found in this comparison; fresh keys are still to be drawn. */
  readonly found: readonly KeyPair[];
  /** Destination's rows that move to another key (downward only). */
  readonly moved: readonly KeyPair[];
}

/**
 * Compares tables three ways. Rows that both sides made anew are paired by their natural keys; two things under one
 * key are told apart by a fresh one. Tables that hold such keys are then compared once more.
 *
 * @param known pairs of keys from former transfers, from the source to the destination
 * @throws {RowOrderError}
 */
export async function compareTables(
  tables: readonly TableToCompare[],
  merge: MergeRules,
  known: Iterable<KeyPair>,
): Promise<Comparison> {
  const keys = new KeyTranslation('arriving', known);
  const moves = new KeyTranslation('moving');
  const found = new Map<string, KeyPair>();
  const results = new Map<string, TableComparison>();
  let stale = new Set(tables.map(({ table }) => table.id));
  for (let round = 1; stale.size > 0; round++) {
    if (round > MOST_ROUNDS)
      throw new Error(`Keys of ${[...stale].join(', ')} are not told apart after ${round} rounds.`);
    const concerned = new Set<string>();
    for (const { table, open } of tables)
      if (stale.has(table.id)) results.set(table.id, await compareTable(table, open(), merge, keys, moves));
    for (const { table } of tables) {
      if (!stale.has(table.id) || !table.drawsKeys || merge.method === 'replace') continue;
      const pairs = tellApart(table, results.get(table.id) as TableComparison, merge, keys, moves);
      for (const pair of pairs) {
        found.set(`${pair.table} ${pair.from}`, pair);
        concerned.add(pair.table);
      }
      if ((results.get(table.id) as TableComparison).displaced.length > 0) concerned.add(table.id);
    }
    stale = new Set(
      tables.filter(({ table }) => table.uses.some((use) => concerned.has(use.table))).map(({ table }) => table.id),
    );
  }
  const all = [...results.values()];
  return {
    unlike: new Map([...results].map(([id, { unlike }]) => [id, unlike.length > MOST_UNLIKE ? 'too many' : unlike])),
    outcomes: all.flatMap((one) => one.outcomes),
    ownChanges: all.flatMap((one) => one.ownChanges),
    lacking: all.flatMap((one) => one.lacking),
    found: [...found.values()],
    moved: [...moves.pairs()],
  };
}

/** Each round finds new pairs of keys, and rarely needs a third one. */
const MOST_ROUNDS = 1000;
