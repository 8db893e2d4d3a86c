import type { ByteString } from '../address/place.js';
import type { TableRules } from '../profile/rules.js';
import type { KeyOrder, RowKey } from '../rows/keys.js';
import type { TableName } from '../table-name.js';
import type { KeysInside } from '../values/keys-inside.js';

/** The values of a row in the order of its table's columns, in canonical form. */
export type Values = readonly (ByteString | null)[];

/** A column that holds keys of a table: the table's own key, or a reference, declared or of the profile. */
export interface KeyUse {
  readonly column: number;
  /** {@link MergeTable.id} of the table whose keys stand here. */
  readonly table: string;
  /** Tables by way of which it refers, whose rows go by the same keys: such a row must be there too. */
  readonly through?: readonly string[] | undefined;
  /** Only in rows for which this holds. */
  readonly when?: ((row: Values) => boolean) | undefined;
  /** Set where the keys stand inside the value. */
  readonly inside?: KeysInside | undefined;
}

/** A table as merging sees it; columns are the same on both sides. */
export interface MergeTable {
  readonly name: TableName;
  /** {@link tableId} of it. */
  readonly id: string;
  readonly columns: readonly string[];
  /** Key columns; empty for a table without a key, whose rows are a multiset. */
  readonly key: readonly string[];
  readonly keyOrders: readonly KeyOrder[];
  readonly rules: TableRules;
  readonly uses: readonly KeyUse[];
  /** Positions of the columns that tell for people which thing a row is; empty where nobody said. */
  readonly naturalKey: readonly number[];
  /** The key is one column that is drawn from a counter: the same number on two sides may be two things. */
  readonly drawsKeys: boolean;
  /** False where the two never had the table in common: then they are compared with each other alone. */
  readonly hasBaseline: boolean;
  /** Positions of columns that say when (first) and by whom a row was changed: where both did, the later stands. */
  readonly stamps: readonly number[];
  /** Positions of columns that are unique together, but for the key. */
  readonly uniques: readonly (readonly number[])[];
}

/** A key as a string that can be looked up: JSON. Most keys are one number or word, which needs no spelling. */
export function keyText(key: RowKey): string {
  const [first] = key;
  return key.length === 1 && typeof first === 'string' && PLAIN.test(first) ? `["${first}"]` : JSON.stringify(key);
}

const PLAIN = /^[\w-]*$/;

/** The key of a row. */
export const keyOf = (table: MergeTable, values: Values): RowKey =>
  table.key.map((name) => values[table.columns.indexOf(name)] ?? null);
