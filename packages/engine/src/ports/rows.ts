import type { ByteString } from '@tessarion/core';
import type { TableShape } from './shapes.js';

/** Something that a lenient application left as it was, because somebody else changed it meanwhile. */
export interface Remain {
  readonly table: string;
  readonly key: string;
  readonly what: string;
}

/**
 * `strict` refuses when anything is not as it was compared; `lenient` (undo) leaves such things and names them; `over`
 * writes over what the rows held, as onto a fresh copy whose personal values are masked.
 */
export type Mode = 'strict' | 'lenient' | 'over';

/** How many rows were written. */
export interface Counts {
  inserted: number;
  updated: number;
  deleted: number;
}

/** What was written to a database, and what stays. */
export interface AppliedRows extends Readonly<Counts> {
  readonly remains: readonly Remain[];
}

/** What a table made of rows that were written to it, before the commit. */
export interface ReadBack {
  readonly shape: TableShape;
  readonly columns: readonly string[];
  /** As the server writes them: the row's values, the operation, and the columns that were written or have moved. */
  readonly lines: readonly ByteString[];
}

/** Rows that refer to a table's key and must not lose what they refer to. */
export interface Protection {
  /** What people call the table that refers. */
  readonly called: string;
  /** The column that refers, of a table of the same database; or whoever tells which of some keys are referred to. */
  readonly by:
    | { readonly table: TableShape; readonly column: string }
    | ((keys: readonly string[]) => Promise<readonly string[]>);
}

/** A row as it would be written: only the cells that change; all of them for a new one. */
export interface WrittenRow {
  readonly key: readonly (string | null)[];
  readonly cells: Readonly<Record<string, string | null>>;
  readonly op: 'insert' | 'update' | 'delete';
}

/** As many of them as are named at most. */
export const MOST_MISFITS = 200;
