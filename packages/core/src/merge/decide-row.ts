import type { ByteString } from '../address/place.js';
import { plain } from '../address/rewriter.js';
import { type ColumnRules, mostProtective, type TableRules } from '../profile/rules.js';
import type { DataClass, MaskRule } from '../profile/schema.js';
import type { MergeTable, Values } from './merge-table.js';
import { mergeValues } from './merge-values.js';

/** One row as up to four sides have it; source sides with their keys translated to the destination's. */
export interface RowSides {
  readonly source: Values | undefined;
  readonly destination: Values | undefined;
  /** What the source had, and what the destination held, when the two last had the row in common. */
  readonly baseSource: Values | undefined;
  readonly baseDestination: Values | undefined;
}

/** How a transfer treats what the destination made itself: a `merge` keeps it, `replace` makes it the source's. */
export type Method = 'merge' | 'replace';

/** How a merge decides, whatever the row. */
export interface MergeRules {
  readonly method: Method;
  /** Downward, collected data follows the source and personal values are masked on the way. */
  readonly direction: 'up' | 'down';
  /** Upward, masked values never travel at all: nobody knows what they were. */
  readonly keepsMasked: boolean;
  readonly mask: (rule: MaskRule, value: ByteString | null) => ByteString | null;
}

/** What becomes of one cell that the source changed. */
export type CellOutcome =
  | {
      readonly column: number;
      readonly is: 'taken';
      readonly value: ByteString | null;
      readonly overwrites: boolean;
      /** Collected: it comes down whatever becomes of the rest of the row. */
      readonly follows: boolean;
      /** Made of what both sides changed: the destination is remembered to hold the source's value. */
      readonly isMerged?: boolean;
    }
  /** Both sides hold it alike already. */
  | { readonly column: number; readonly is: 'agreed' }
  | { readonly column: number; readonly is: 'colliding'; readonly value: ByteString | null };

/** Why nobody but a person can decide what becomes of a row. */
export type RowCollision =
  /** The source changed what the destination deleted. */
  | 'changed-and-gone'
  /** The source deleted what the destination changed. */
  | 'gone-and-changed'
  /** The source deleted what visitors changed on the destination. */
  | 'gone-and-collected';

/** What becomes of one row. */
export type RowDecision =
  | { readonly is: 'untouched' }
  /** Both sides have it alike, or some cells of it, and the baseline does not know it yet. */
  | { readonly is: 'agreed'; readonly cells: readonly CellOutcome[] | undefined }
  | { readonly is: 'inserted'; readonly values: Values; readonly overwrites: boolean }
  | { readonly is: 'updated'; readonly cells: readonly CellOutcome[] }
  | { readonly is: 'deleted'; readonly overwrites: boolean; readonly gaveWay: boolean }
  | { readonly is: 'colliding'; readonly collision: RowCollision }
  /** The source's row and the destination's are two things under one key. */
  | { readonly is: 'two-things' };

const UNTOUCHED: RowDecision = { is: 'untouched' };

/** Two values that say the same, whatever their spelling. */
export function isSame(a: ByteString | null | undefined, b: ByteString | null | undefined): boolean {
  if (a === b) return true;
  if (a === null || b === null || a === undefined || b === undefined) return false;
  return plain(a) === plain(b);
}

/** The most protective class that any side gives the row. */
export function classOfRow(rules: TableRules, sides: RowSides): DataClass {
  if (!rules.hasRowGroups) return rules.class;
  const rows = [sides.source, sides.destination, sides.baseSource, sides.baseDestination];
  return rows.flatMap((row) => (row ? [rules.classOf(row)] : [])).reduce(mostProtective);
}

/** The class of one cell: that of its column where it is not that of its table, else that of its row. */
export const classOfCell = (column: ColumnRules, rules: TableRules, rowClass: DataClass): DataClass =>
  column.class === rules.class ? rowClass : column.class;

/** Whether the value of a column is masked in a row; those of colleagues are not. */
export const isMasked = (rules: TableRules, column: number, row: Values): boolean => {
  const mask = rules.columns[column]?.mask;
  return mask !== undefined && mask !== 'keep' && !rules.isStaff(row);
};

/** Positions of the columns of a class. */
interface ClassedColumns {
  readonly authored: readonly number[];
  readonly collected: readonly number[];
}

const classedColumns = new WeakMap<TableRules, Map<DataClass, ClassedColumns>>();

/** The columns of a table in rows of a class; worked out once. */
function columnsOf(rules: TableRules, rowClass: DataClass): ClassedColumns {
  const known = classedColumns.get(rules) ?? new Map<DataClass, ClassedColumns>();
  classedColumns.set(rules, known);
  const of = (wanted: DataClass): number[] =>
    rules.columns.flatMap((column, i) => (classOfCell(column, rules, rowClass) === wanted ? [i] : []));
  const found = known.get(rowClass) ?? { authored: of('authored'), collected: of('collected') };
  known.set(rowClass, found);
  return found;
}

/** Decides what becomes of one row. */
export function decideRow(table: MergeTable, sides: RowSides, merge: MergeRules): RowDecision {
  const { rules } = table;
  const rowClass = classOfRow(rules, sides);
  const { authored, collected } = columnsOf(rules, rowClass);
  const following = merge.direction === 'down' ? collected : [];
  if (rowClass === 'collected' && merge.direction === 'down') return follow(table, sides, merge, authored, following);
  if (rowClass !== 'authored') {
    return sides.source && sides.destination && authored.length > 0
      ? cellByCell(table, sides, merge, authored, following)
      : UNTOUCHED;
  }
  return merge.method === 'replace'
    ? replaceRow(table, sides, merge, authored)
    : mergeRow(table, sides, merge, authored, following);
}

function replaceRow(table: MergeTable, sides: RowSides, merge: MergeRules, authored: readonly number[]): RowDecision {
  const { source, destination, baseDestination } = sides;
  if (source && !destination)
    return { is: 'inserted', values: source, overwrites: table.hasBaseline && baseDestination !== undefined };
  if (!source && destination) {
    const isOwn =
      table.hasBaseline && (!baseDestination || authored.some((i) => !isSame(destination[i], baseDestination[i])));
    return { is: 'deleted', overwrites: isOwn, gaveWay: false };
  }
  return source && destination ? cellByCell(table, sides, merge, authored, []) : UNTOUCHED;
}

function mergeRow(
  table: MergeTable,
  sides: RowSides,
  merge: MergeRules,
  authored: readonly number[],
  following: readonly number[],
): RowDecision {
  const { source, destination, baseSource, baseDestination } = sides;
  const sourceChanged = (): boolean =>
    !source || !baseSource || authored.some((i) => !isSame(source[i], baseSource[i]));
  if (!source && !destination) return baseSource || baseDestination ? { is: 'agreed', cells: undefined } : UNTOUCHED;

  if (source && !destination) {
    if (!baseSource) return { is: 'inserted', values: arriving(table, source, merge), overwrites: false };
    return sourceChanged() ? { is: 'colliding', collision: 'changed-and-gone' } : UNTOUCHED;
  }

  if (!source && destination) {
    if (!baseSource || !baseDestination) return UNTOUCHED;
    if (authored.some((i) => !isSame(destination[i], baseDestination[i])))
      return { is: 'colliding', collision: 'gone-and-changed' };
    const collected = table.rules.columns.some(
      (column, i) => column.class === 'collected' && !isSame(destination[i], baseDestination[i]),
    );
    if (collected && merge.direction === 'up') return { is: 'colliding', collision: 'gone-and-collected' };
    return { is: 'deleted', overwrites: false, gaveWay: false };
  }

  if (!source || !destination) return UNTOUCHED;
  if (baseSource && baseDestination) return cellByCell(table, sides, merge, authored, following);
  if (!table.hasBaseline) return cellByCell(table, sides, merge, authored, following);
  if (baseSource && !sourceChanged()) return UNTOUCHED;
  if (isOneThing(table, sides)) return cellByCell(table, sides, merge, authored, following);
  return { is: 'two-things' };
}

/** Rows that both sides made under one key are one thing when they agree in their natural key. */
function isOneThing(table: MergeTable, { source, destination, baseSource, baseDestination }: RowSides): boolean {
  if (!table.drawsKeys) return true;
  const isMadeByBoth = baseSource === undefined && baseDestination === undefined && table.naturalKey.length > 0;
  return isMadeByBoth && table.naturalKey.every((i) => isSame(source?.[i], destination?.[i]));
}

/** Collected rows on their way down: the destination becomes as the source, masked; its own test rows give way. */
function follow(
  table: MergeTable,
  sides: RowSides,
  merge: MergeRules,
  authored: readonly number[],
  following: readonly number[],
): RowDecision {
  const { source, destination, baseSource, baseDestination } = sides;
  if (!source)
    return destination ? { is: 'deleted', overwrites: false, gaveWay: baseDestination === undefined } : UNTOUCHED;
  if (!destination) {
    const stands =
      baseSource && baseDestination && source.every((value, i) => isSame(value, baseSource[i]))
        ? baseDestination
        : arriving(table, source, merge);
    return { is: 'inserted', values: stands, overwrites: false };
  }
  // A row of the destination's own gives way wholly to the one that the source has under its key.
  if (!baseSource || !baseDestination) return cellByCell(table, sides, merge, [], [...authored, ...following]);
  return cellByCell(table, sides, merge, authored, following);
}

/** A row as it arrives at the destination: personal values masked on the way down. */
export function arriving(table: MergeTable, source: Values, merge: MergeRules): Values {
  if (merge.direction === 'up' || !table.rules.columns.some((column) => column.mask)) return source;
  return source.map((value, i) => arrivingCell(table, source, i, value, merge));
}

function arrivingCell(
  table: MergeTable,
  source: Values,
  column: number,
  value: ByteString | null,
  merge: MergeRules,
): ByteString | null {
  const rule = table.rules.columns[column]?.mask;
  return merge.direction === 'down' && rule !== undefined && isMasked(table.rules, column, source)
    ? merge.mask(rule, value)
    : value;
}

/** What both sides made of a structured value, where its members can be told apart. */
function mergedCell(
  table: MergeTable,
  column: number,
  source: ByteString | null,
  { destination, baseSource, baseDestination }: RowSides,
): ByteString | undefined {
  if (!table.rules.columns[column]?.mergesMembers) return undefined;
  const [base, own] = [baseSource?.[column], destination?.[column]];
  if (!base || !own || !source || !isSame(base, baseDestination?.[column])) return undefined;
  return mergeValues(base, source, own);
}

/** Compares a row that both sides have; authored cells three ways, following ones as the source has them. */
function cellByCell(
  table: MergeTable,
  sides: RowSides,
  merge: MergeRules,
  authored: readonly number[],
  following: readonly number[],
): RowDecision {
  const { destination, baseSource, baseDestination } = sides;
  const source = sides.source as Values;
  const own = destination as Values;
  const cells: CellOutcome[] = [];
  for (const i of authored) {
    const masked = isMasked(table.rules, i, source);
    // Without a baseline nobody can tell a masked value from a real one: it stays where it is.
    if (masked && (!baseSource || (merge.keepsMasked && merge.direction === 'up'))) continue;
    const ownChanged = baseDestination ? !isSame(own[i], baseDestination[i]) : table.hasBaseline;
    const value = arrivingCell(table, source, i, source[i] ?? null, merge);
    if (merge.method === 'replace') {
      const travels = !masked || !isSame(source[i], baseSource?.[i]);
      if (!travels) continue;
      if (!isSame(value, own[i])) cells.push({ column: i, is: 'taken', value, overwrites: ownChanged, follows: false });
      else if (ownChanged || !isSame(source[i], baseSource?.[i])) cells.push({ column: i, is: 'agreed' });
      continue;
    }
    if (baseSource && isSame(source[i], baseSource[i])) continue;
    if (isSame(value, own[i])) {
      if (baseSource) cells.push({ column: i, is: 'agreed' });
    } else if (baseSource && baseDestination && !ownChanged) {
      cells.push({ column: i, is: 'taken', value, overwrites: false, follows: false });
    } else if (table.stamps.includes(i)) {
      const [at] = table.stamps as [number];
      const isLater = (source[at] ?? '') > (own[at] ?? '');
      cells.push(
        isLater ? { column: i, is: 'taken', value, overwrites: false, follows: false } : { column: i, is: 'agreed' },
      );
    } else {
      const both = mergedCell(table, i, value, sides);
      cells.push(
        both === undefined
          ? { column: i, is: 'colliding', value }
          : { column: i, is: 'taken', value: both, overwrites: false, follows: false, isMerged: true },
      );
    }
  }
  for (const i of following) {
    // A masked value stays as it was masked, whatever the mask is now.
    const stands =
      baseSource && baseDestination && isMasked(table.rules, i, source) && isSame(source[i], baseSource[i]);
    const value = stands ? (baseDestination[i] ?? null) : arrivingCell(table, source, i, source[i] ?? null, merge);
    if (!isSame(value, own[i])) cells.push({ column: i, is: 'taken', value, overwrites: false, follows: true });
    else if (baseSource && baseDestination && !(isSame(source[i], baseSource[i]) && isSame(own[i], baseDestination[i])))
      cells.push({ column: i, is: 'agreed' });
  }
  if (cells.some((cell) => cell.is !== 'agreed')) return { is: 'updated', cells };
  if (!baseSource || !baseDestination) return { is: 'agreed', cells: undefined };
  return cells.length > 0 ? { is: 'agreed', cells } : UNTOUCHED;
}
