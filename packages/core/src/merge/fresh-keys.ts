import type { ByteString } from '../address/place.js';
import type { Comparison } from './compare-tables.js';
import { formerKey, isFresh } from './key-translation.js';
import type { MergeTable } from './merge-table.js';
import type { Settled } from './settle.js';

/** A key that must be drawn before anything is written. */
export interface FreshKey {
  readonly placeholder: ByteString;
  readonly table: MergeTable;
  /** The key that the row had. */
  readonly former: ByteString;
  /** The destination's row makes way, rather than one of the source arriving. */
  readonly isMoving: boolean;
  /** Keys that other rows bring along. */
  readonly avoid: ReadonlySet<ByteString>;
}

/** Fresh keys that must be drawn for what will be written, in the order of writing. */
export function freshKeysOf(comparison: Comparison, settled: Settled): FreshKey[] {
  const wanted = new Map<ByteString, MergeTable>();
  const arriving = new Map<string, Set<ByteString>>();
  for (const { table, key, decision } of settled.written) {
    if (!table.drawsKeys || typeof key[0] !== 'string' || decision.is === 'untouched') continue;
    if (isFresh(key[0])) wanted.set(key[0], table);
    else arriving.set(table.id, (arriving.get(table.id) ?? new Set()).add(key[0]));
  }
  // A row of the destination moves only for a row that really comes in its place.
  for (const { table: id, from, to } of comparison.moved) {
    const table = comparison.outcomes.find((one) => one.table.id === id)?.table;
    if (table && arriving.get(id)?.has(from)) wanted.set(to, table);
  }
  const moving = new Set(comparison.moved.map((one) => one.to));
  return [...wanted].map(([placeholder, table]) => ({
    placeholder,
    table,
    former: formerKey(placeholder),
    isMoving: moving.has(placeholder),
    avoid: arriving.get(table.id) ?? new Set(),
  }));
}
