import type { ByteString } from '../address/place.js';
import { plain } from '../address/rewriter.js';
import type { ColumnRules, TableRules } from '../profile/rules.js';
import { mostProtective } from '../profile/rules.js';
import type { DataClass } from '../profile/schema.js';
import { compareKeys, type KeyOrder, type RowKey } from '../rows/keys.js';
import { type RowAtHand, RowCursor } from '../rows/row-cursor.js';
import type { RowChange } from './change.js';

/** Rows of one table from up to four sides, each in key order and in canonical form. */
export interface TableSides {
  readonly source: AsyncIterable<ByteString>;
  readonly destination: AsyncIterable<ByteString>;
  /** What the source and the destination held when the two last had the table in common; absent without a baseline. */
  readonly baseline:
    | { readonly source: AsyncIterable<ByteString>; readonly destination: AsyncIterable<ByteString> }
    | undefined;
}

export interface TableShape {
  readonly database: string;
  readonly table: string;
  /** Columns in the order of the lines, the same on every side. */
  readonly columns: readonly string[];
  /** Key columns; empty for a table without a key. */
  readonly key: readonly string[];
  readonly keyOrders: readonly KeyOrder[];
}

/** A row that differs, what is to be done about it, and what it costs the destination. */
export interface RowDifference {
  readonly change: RowChange;
  /** The destination made or changed this itself since the baseline, and the change overwrites that. */
  readonly overwritesOwnWork: boolean;
  /** The row as the source and the destination have it, for titles. */
  readonly row: Readonly<Record<string, ByteString | null>>;
}

/**
 * Compares a table for a push by `replace`: the destination's authored cells become the source's, row by row.
 * Collected and local columns and row groups stay; a new row takes them from the source once. Masked cells that
 * still stand as they were masked never travel.
 *
 * @throws {RowOrderError}
 */
export async function* compareForReplace(
  shape: TableShape,
  rules: TableRules,
  sides: TableSides,
): AsyncGenerator<RowDifference> {
  const keyColumns = shape.key.map((name) => shape.columns.indexOf(name));
  const orders: readonly KeyOrder[] = shape.key.length === 0 ? ['bytes'] : shape.keyOrders;
  const open = (rows: AsyncIterable<ByteString> | undefined): RowCursor | undefined =>
    rows ? new RowCursor(rows, keyColumns, orders) : undefined;
  const source = open(sides.source) as RowCursor;
  const destination = open(sides.destination) as RowCursor;
  const baseSource = open(sides.baseline?.source);
  const baseDestination = open(sides.baseline?.destination);
  const cursors = [source, destination, baseSource, baseDestination].filter((cursor) => cursor !== undefined);
  await Promise.all(cursors.map((cursor) => cursor.fill()));

  for (;;) {
    const key = lowestKey(cursors, orders);
    if (!key) return;
    const at = (cursor: RowCursor | undefined): RowAtHand | undefined =>
      cursor?.current && compareKeys(cursor.current.key, key, orders) === 0 ? cursor.current : undefined;
    const rows = {
      source: at(source),
      destination: at(destination),
      baseSource: at(baseSource),
      baseDestination: at(baseDestination),
    };
    const difference = decide(shape, rules, key, rows, sides.baseline !== undefined);
    if (difference) yield difference;
    for (const cursor of cursors) if (at(cursor) && !cursor.next()) await cursor.fill();
  }
}

interface RowsAtKey {
  readonly source: RowAtHand | undefined;
  readonly destination: RowAtHand | undefined;
  readonly baseSource: RowAtHand | undefined;
  readonly baseDestination: RowAtHand | undefined;
}

function lowestKey(cursors: readonly RowCursor[], orders: readonly KeyOrder[]): RowKey | undefined {
  let lowest: RowKey | undefined;
  for (const cursor of cursors) {
    if (cursor.current && (!lowest || compareKeys(cursor.current.key, lowest, orders) < 0)) lowest = cursor.current.key;
  }
  return lowest;
}

function decide(
  shape: TableShape,
  rules: TableRules,
  key: RowKey,
  rows: RowsAtKey,
  hasBaseline: boolean,
): RowDifference | undefined {
  const { source, destination, baseSource, baseDestination } = rows;
  if (!source && !destination) return undefined;
  if (source && destination && source.line === destination.line) return undefined;
  const rowClass = [source, destination, baseSource, baseDestination]
    .filter((row) => row !== undefined)
    .map((row) => rules.classOf(row.values))
    .reduce(mostProtective);
  if (
    rowClass !== 'authored' &&
    !rules.columns.some((column) => column.class === 'authored' && rules.class !== 'authored')
  )
    return undefined;

  const named = (row: RowAtHand): Record<string, ByteString | null> =>
    Object.fromEntries(shape.columns.map((name, i) => [name, row.values[i] ?? null]));
  const on = { part: 'row', database: shape.database, table: shape.table, key } as const;
  const changedByDestination = (columns: readonly number[]): boolean =>
    hasBaseline &&
    destination !== undefined &&
    (baseDestination ? columns.some((i) => differs(destination.values[i], baseDestination.values[i])) : true);
  const all = rules.columns
    .map((_column, i) => i)
    .filter((i) => classOfCell(rules.columns[i] as ColumnRules, rules, rowClass) === 'authored');

  if (source && !destination) {
    if (rowClass !== 'authored') return undefined;
    return {
      change: { ...on, op: 'insert', row: named(source) },
      overwritesOwnWork: hasBaseline && baseDestination !== undefined,
      row: named(source),
    };
  }
  if (!source && destination) {
    if (rowClass !== 'authored') return undefined;
    return {
      change: { ...on, op: 'delete', row: named(destination) },
      overwritesOwnWork: changedByDestination(all),
      row: named(destination),
    };
  }
  if (!source || !destination) return undefined;
  const written = all.filter((i) => {
    if (!differs(source.values[i], destination.values[i])) return false;
    const mask = rules.columns[i]?.mask;
    const isMasked = mask !== undefined && mask !== 'keep' && !rules.isStaff(destination.values);
    return !isMasked || (baseSource !== undefined && differs(source.values[i], baseSource.values[i]));
  });
  if (written.length === 0) return undefined;
  const cells = Object.fromEntries(
    written.map((i) => [
      shape.columns[i] as string,
      { before: destination.values[i] ?? null, after: source.values[i] ?? null },
    ]),
  );
  return {
    change: { ...on, op: 'update', cells },
    overwritesOwnWork: changedByDestination(written),
    row: named(source),
  };
}

function classOfCell(column: ColumnRules, rules: TableRules, rowClass: DataClass): DataClass {
  return column.class === rules.class ? rowClass : column.class;
}

function differs(a: ByteString | null | undefined, b: ByteString | null | undefined): boolean {
  if (a === b) return false;
  if (a === null || b === null || a === undefined || b === undefined) return true;
  return plain(a) !== plain(b);
}
