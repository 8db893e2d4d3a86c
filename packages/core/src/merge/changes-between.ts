import type { ByteString } from '../address/place.js';
import { setOwn } from '../own-property.js';
import { writeLine } from '../rows/copy-text.js';
import type { RowKey } from '../rows/keys.js';
import { placeOfRows, type RowChange, type RowUpdate } from '../transfer/change.js';
import type { RowOutcome } from './compare-table.js';
import { isSame } from './decide-row.js';
import { keyOf, keyText, type MergeTable, type Values } from './merge-table.js';

/** A change to a row, and the outcome that it comes of. */
export interface PlannedChange {
  readonly change: RowChange;
  readonly outcome: RowOutcome;
}

/** The changes that make one row of another; one with another key is written anew and goes at its former place. */
export function changesBetween(table: MergeTable, before: Values | undefined, after: Values | undefined): RowChange[] {
  const on = (row: Values) => ({ part: 'row', ...placeOfRows(table.name), key: keyFor(table, row) }) as const;
  const named = (row: Values) => namedValues(table, row);
  if (!before) return after ? [{ ...on(after), op: 'insert', row: named(after) }] : [];
  if (!after) return [{ ...on(before), op: 'delete', row: named(before) }];
  if (!isSameKey(keyFor(table, before), keyFor(table, after)))
    return [
      { ...on(before), op: 'delete', row: named(before) },
      { ...on(after), op: 'insert', row: named(after) },
    ];
  const cells = cellsBetween(table, before, after);
  return cells ? [{ ...on(before), op: 'update', cells }] : [];
}

/** A row's values by column. */
export function namedValues({ columns }: MergeTable, row: Values): Record<string, ByteString | null> {
  const named: Record<string, ByteString | null> = {};
  for (let i = 0; i < columns.length; i++) setOwn(named, columns[i] as string, row[i] ?? null);
  return named;
}

/** The cells in which two rows say something else; undefined where there is none. @param shown the values that are named */
export function cellsBetween(
  { columns }: MergeTable,
  before: Values,
  after: Values,
  shown: { readonly before: Values; readonly after: Values } = { before, after },
): RowUpdate['cells'] | undefined {
  let cells: Record<string, { before: ByteString | null; after: ByteString | null }> | undefined;
  for (let i = 0; i < columns.length; i++) {
    if (isSame(before[i], after[i])) continue;
    cells ??= {};
    setOwn(cells, columns[i] as string, { before: shown.before[i] ?? null, after: shown.after[i] ?? null });
  }
  return cells;
}

const isSameKey = (a: RowKey, b: RowKey): boolean => a.length === b.length && a.every((one, i) => one === b[i]);

/** By what a change names a row: its key, or the whole line where the table has none. */
export const keyFor = (table: MergeTable, row: Values): RowKey =>
  table.key.length > 0 ? keyOf(table, row) : [writeLine(row)];

/** Adds a change; a row that goes where another comes becomes that one in place. */
export function addChange(changes: Map<string, PlannedChange>, planned: PlannedChange): void {
  const { change, outcome } = planned;
  const { table } = outcome;
  if (table.key.length === 0) {
    changes.set(`${table.id} ${changes.size}`, planned);
    return;
  }
  const at = `${table.id} ${keyText(change.key)}`;
  const known = changes.get(at);
  if (!known) {
    changes.set(at, planned);
    return;
  }
  const [goes, comes] = change.op === 'insert' ? [known, planned] : [planned, known];
  if (goes.change.op !== 'delete' || comes.change.op !== 'insert')
    throw new Error(`Row ${keyText(change.key)} of ${table.id} is changed twice.`);
  const { row } = goes.change;
  const cells = Object.entries(comes.change.row).flatMap(([name, after]) => {
    const before = row[name] ?? null;
    return isSame(before, after) ? [] : [[name, { before, after }] as const];
  });
  changes.delete(at);
  const { part, database, table: name, key } = comes.change;
  if (cells.length > 0)
    changes.set(at, {
      change: { part, database, table: name, key, op: 'update', cells: Object.fromEntries(cells) },
      outcome: comes.outcome,
    });
}
