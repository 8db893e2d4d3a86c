import { type FileChange, isSame, type RowChange } from '@tessarion/core';
import { asReadBack, type Mode, type SnapshotLibrary } from '@tessarion/engine';
import type { TransferRecord } from '../transfers/transfers.js';
import type { TransferContext } from './context.js';

/** A change set and the direction in which it is applied. */
export interface ChangeSet {
  readonly id: string;
  readonly row: (change: RowChange) => RowChange;
  readonly file: (change: FileChange) => FileChange;
  readonly mode: Mode;
  /** It is taken back: what was written is as it was read back then. */
  readonly undoes: boolean;
  /** Name of the new trees: `trees/ROOT-ID`. */
  readonly treeId: string;
  /** A further set of which the files belong to it: what programs wrote beside it. */
  readonly alsoFiles?: string;
}

/** The rows of a change set that belong into a database, in the order in which they were planned. */
export async function* rowsOf(context: TransferContext, set: ChangeSet, database: string): AsyncGenerator<RowChange> {
  const found = set.undoes ? await readBackOf(context.library(), ownOf(context)) : new Map<string, RowChange>();
  for await (const change of context.library().readChanges(set.id))
    if (change.part === 'row' && change.database === database)
      yield set.row(asReadBack(change, found.get(nameOfRow(change))));
}

/** A transfer and what its steps remember of it now. */
export const ownOf = ({ record, data }: TransferContext): Pick<TransferRecord, 'id' | 'data'> => ({
  id: record.id,
  data,
});

/** What triggers and types made of the rows that a transfer wrote, by {@link nameOfRow}. */
export async function readBackOf(
  library: SnapshotLibrary,
  { id, data }: Pick<TransferRecord, 'id' | 'data'>,
): Promise<Map<string, RowChange>> {
  const found = new Map<string, RowChange>();
  if (data.isReadBack !== true) return found;
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
    const value = meant.op === 'insert' ? meant.row[name] : meant.cells[name]?.after;
    return value === undefined || !isSame(value, cell.after);
  });
  return { ...read, cells: Object.fromEntries(cells) };
}

export const nameOfRow = ({ database, table, key }: RowChange): string => JSON.stringify([database, table, key]);

/** File changes of change sets that a transfer has read, by the name of the set: they are asked for at most steps. */
const readFiles = new WeakMap<TransferContext, Map<string, readonly FileChange[]>>();

export async function filesOf(
  context: TransferContext,
  changes: string,
  turn: (change: FileChange) => FileChange,
): Promise<FileChange[]> {
  const sets = readFiles.get(context) ?? new Map<string, readonly FileChange[]>();
  readFiles.set(context, sets);
  let files = sets.get(changes);
  if (!files) {
    const found: FileChange[] = [];
    for await (const change of context.library().readChanges(changes)) if (change.part === 'file') found.push(change);
    files = found;
    sets.set(changes, files);
  }
  return files.map(turn);
}
