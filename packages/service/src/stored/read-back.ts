import { cellIn, isSame, type RowChange, valueIn } from '@tessarion/core';
import type { SnapshotLibrary } from '@tessarion/engine';
/** What triggers and types made of the rows that a transfer wrote, by {@link nameOfRow}. */
export async function readBackOf(
  library: SnapshotLibrary,
  { id, outcome }: { readonly id: string; readonly outcome: { readonly isReadBack?: boolean | undefined } },
): Promise<Map<string, RowChange>> {
  const found = new Map<string, RowChange>();
  if (outcome.isReadBack !== true) return found;
  for await (const change of library.readChanges(`${id}-read-back`))
    if (change.part === 'row') found.set(nameOfRow(change), change);
  for await (const change of library.readChanges(id)) {
    const read = change.part === 'row' && found.get(nameOfRow(change));
    if (read) found.set(nameOfRow(change), unlike(read, change));
  }
  return found;
}

/** What was read back of a row, without what is as it was to be written. */
function unlike(read: RowChange, meant: RowChange): RowChange {
  if (read.op !== 'update' || meant.op === 'delete') return read;
  const cells = Object.entries(read.cells).filter(([name, cell]) => {
    const value = meant.op === 'insert' ? valueIn(meant.row, name) : cellIn(meant, name)?.after;
    return value === undefined || !isSame(value, cell.after);
  });
  return { ...read, cells: Object.fromEntries(cells) };
}

/** What tells a changed row from all others. */
export const nameOfRow = ({ database, table, key }: RowChange): string => JSON.stringify([database, table, key]);
