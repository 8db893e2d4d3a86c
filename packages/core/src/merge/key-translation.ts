import type { ByteString } from '../address/place.js';
import type { MergeTable, Values } from './merge-table.js';

/** One thing that two environments know by different keys. Tables by {@link MergeTable.id}. */
export interface KeyPair {
  readonly table: string;
  readonly from: ByteString;
  readonly to: ByteString;
}

/** Whose rows get a fresh key: those of the source that arrive, or those of the destination that make way. */
type Whose = 'arriving' | 'moving';

/** Stands for a key that is drawn when the row is written; no database can hold a value that begins with NUL. */
const freshKey = (whose: Whose, table: string, key: ByteString): ByteString => `\0${whose} ${table}\0${key}`;

/** The key that a row had before it got a fresh one. */
export const formerKey = (fresh: ByteString): ByteString => fresh.split('\0')[2] ?? '';

/** Whether a key stands for one that the destination has yet to give out. */
export const isFresh = (key: ByteString | null | undefined): boolean => key?.startsWith('\0') === true;

/**
 * Says by which key the other environment knows a row. A key that nobody mapped is the same on both sides, unless it
 * stands for another thing over there: then the row gets a fresh one.
 */
export class KeyTranslation {
  readonly #to = new Map<string, Map<ByteString, ByteString>>();
  /** Keys over there that stand for something else than the same key here. */
  readonly #taken = new Map<string, Map<ByteString, ByteString>>();

  constructor(
    readonly whose: Whose,
    pairs: Iterable<KeyPair> = [],
  ) {
    for (const { table, from, to } of pairs) this.pair(table, from, to);
  }

  pair(table: string, from: ByteString, to: ByteString): void {
    within(this.#to, table).set(from, to);
    if (!isFresh(to)) within(this.#taken, table).set(to, from);
  }

  /** Gives a row a fresh key over there. @returns what stands for it until it is drawn */
  renew(table: string, from: ByteString): ByteString {
    const fresh = freshKey(this.whose, table, from);
    within(this.#to, table).set(from, fresh);
    return fresh;
  }

  translate(table: string, key: ByteString): ByteString {
    const to = this.#to.get(table)?.get(key);
    if (to !== undefined) return to;
    const taker = this.#taken.get(table)?.get(key);
    return taker === undefined || taker === key ? key : freshKey(this.whose, table, key);
  }

  mapped(table: string, from: ByteString): ByteString | undefined {
    return this.#to.get(table)?.get(from);
  }

  /** Whether a key over there belongs to a row that has another key here. */
  isTaken(table: string, key: ByteString): boolean {
    return this.#taken.get(table)?.has(key) === true;
  }

  /** Whether any key of a table is translated. */
  concerns(table: string): boolean {
    return (this.#to.get(table)?.size ?? 0) > 0;
  }

  *pairs(): Generator<KeyPair> {
    for (const [table, map] of this.#to) for (const [from, to] of map) yield { table, from, to };
  }

  /** A row as the other environment would write it: its own key and all that refer to others. */
  row(table: MergeTable, values: Values): Values {
    let out: (ByteString | null)[] | undefined;
    for (const use of table.uses) {
      const value = values[use.column];
      if (value === null || value === undefined || !this.concerns(use.table)) continue;
      if (use.when && !use.when(values)) continue;
      const translate = (key: ByteString): ByteString => this.translate(use.table, key);
      const current = out?.[use.column] ?? value;
      const next = use.inside ? use.inside.replace(current, translate) : translate(current);
      if (next === current) continue;
      out ??= [...values];
      out[use.column] = next;
    }
    return out ?? values;
  }
}

function within<V>(maps: Map<string, Map<ByteString, V>>, table: string): Map<ByteString, V> {
  const known = maps.get(table) ?? new Map<ByteString, V>();
  maps.set(table, known);
  return known;
}
