import type { ByteString } from '../address/place.js';
import { cellsBetween, namedValues } from '../merge/changes-between.js';
import type { Collision } from '../merge/collision.js';
import type { RowOutcome } from '../merge/compare-table.js';
import { isSame, type RowSides } from '../merge/decide-row.js';
import { isFresh } from '../merge/key-translation.js';
import type { MergeTable, Values } from '../merge/merge-table.js';
import { type ImageEdit, withoutPlaceholders } from '../merge/plan-merge.js';
import type { SettledFile } from '../merge/settle-files.js';
import { cellIn, type FileChange, placeOfRows, type RowChange, valueIn } from '../transfer/change.js';
import type { ItemField, ItemOutcome } from '../transfer/items.js';

/** A settled file as a change; none where nothing is written. */
export const fileChange = ({ outcome, after }: SettledFile): FileChange[] => {
  const { root, path, sides } = outcome;
  return after ? [{ part: 'file', root, path, before: sides.destination, after }] : [];
};

/** An image's new row as a change: what a change set of a baseline holds. */
export function imageChange({ table, key, values, counterpart }: ImageEdit): RowChange {
  const on = { part: 'row', ...placeOfRows(table.name), key, counterpart } as const;
  return values ? { ...on, op: 'insert', row: namedValues(table, values) } : { ...on, op: 'delete', row: {} };
}

/** What a row would become if it went as the source has it; for what is not written. */
export function asChange({ table, key, sides }: RowOutcome): RowChange {
  const on = { part: 'row', ...placeOfRows(table.name), key } as const;
  const named = (row: Values) => namedValues(table, row);
  const { source, destination } = shownSides(table, sides);
  if (source && !destination) return { ...on, op: 'insert', row: named(source) };
  if (!source) return { ...on, op: 'delete', row: named(destination ?? []) };
  const cells = cellsBetween(table, sides.destination ?? [], sides.source ?? [], {
    before: destination ?? [],
    after: source,
  });
  return { ...on, op: 'update', cells: cells ?? {} };
}

/** Both ends' rows as people may read them: what stands for a number that is still to be drawn is the number that it was. */
const shownSides = (
  table: MergeTable,
  { source, destination }: RowSides,
): { readonly source: Values | undefined; readonly destination: Values | undefined } => ({
  source: source && withoutPlaceholders(table, source),
  destination: destination && withoutPlaceholders(table, destination),
});

/**
 * What a row stands for in the fingerprint of its item: what the source has, by its own keys, and what of the destination
 * that replaces. Cells that visitors write, the number that a row will get, and what the destination has of that which
 * stays as it is there are no part of it: they may change while somebody reads.
 *
 * @param planned what is written, where something is
 */
export function standsFor(
  outcome: RowOutcome,
  planned: RowChange | undefined,
  collisions: readonly Collision[],
  becomes: ItemOutcome,
): unknown {
  const { table, raw, sides, sourceKey } = outcome;
  const of = { table: table.id, key: sourceKey };
  const authored = authoredOf(table);
  const source = (i: number): unknown => raw.source?.[i] ?? null;
  const both = (i: number): unknown => [table.columns[i], sides.destination?.[i] ?? null, source(i)];
  if (becomes === 'kept') return { ...of, stays: raw.source ? authored.map(source) : null };
  if (collisions.length === 0) {
    const op = planned?.op ?? 'update';
    const isWritten = (i: number): boolean =>
      planned?.op !== 'update' || cellIn(planned, table.columns[i] as string) !== undefined;
    return { ...of, op, cells: planned ? authored.filter(isWritten).map(both) : [], colliding: [] };
  }
  const colliding = new Map(collisions.map((one) => [one.column, one.settled?.take]));
  const change = planned ?? (colliding.has(undefined) ? asChange(outcome) : undefined);
  const isWritten = (i: number): boolean =>
    change !== undefined && (change.op !== 'update' || cellIn(change, table.columns[i] as string) !== undefined);
  return {
    ...of,
    op: change?.op ?? 'update',
    cells: authored.filter((i) => !colliding.has(i) && isWritten(i)).map(both),
    colliding: authored
      .filter((i) => colliding.has(i))
      .map((i) => (colliding.get(i) === 'destination' ? [table.columns[i], source(i)] : both(i))),
  };
}

const authoredColumns = new WeakMap<MergeTable, readonly number[]>();

/** Positions of a table's authored columns. */
function authoredOf(table: MergeTable): readonly number[] {
  const known = authoredColumns.get(table);
  if (known) return known;
  const authored = table.columns.flatMap((name, i) =>
    table.rules.columns.find((column) => column.name === name)?.class === 'authored' ? [i] : [],
  );
  authoredColumns.set(table, authored);
  return authored;
}

const MOST_FIELDS = 24;

/** @param show a value as people read it, with addresses in place */
export function fieldsOf(
  { table, sides, raw, decision }: RowOutcome,
  change: RowChange | undefined,
  nameOf: (column: number) => string,
  collisions: readonly Collision[],
  show: (value: ByteString | null | undefined) => string | null,
): ItemField[] {
  const { source } = sides;
  const { destination } = shownSides(table, sides);
  const shown =
    decision.is === 'updated'
      ? decision.cells.flatMap((cell) => (cell.is === 'agreed' ? [] : [cell.column]))
      : table.columns.flatMap((_name, i) => (isSame(source?.[i], sides.destination?.[i]) ? [] : [i]));
  return shown.slice(0, MOST_FIELDS).map((i) => {
    const name = table.columns[i] as string;
    const after = !change
      ? destination?.[i]
      : change.op === 'insert'
        ? valueIn(change.row, name)
        : change.op === 'delete'
          ? null
          : (cellIn(change, name) ?? { after: destination?.[i] }).after;
    return {
      name,
      base: show(raw.baseDestination?.[i] ?? raw.baseSource?.[i]),
      // As it stands there: a reference may have another number on the other side.
      source: show(raw.source?.[i]),
      before: show(destination?.[i]),
      after: change && isFresh(source?.[i]) ? 'a new number' : show(after),
      collision: collisions.some((one) => one.column === i) ? nameOf(i) : null,
    };
  });
}
