import type { FileChange, RowChange } from '@tessarion/core';
import { asReadBack, type Mode } from '@tessarion/engine';
import { nameOfRow, readBackOf } from '../stored/read-back.js';
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

/** File changes of change sets that a transfer has read, by the name of the set: they are asked for at most steps. */
const readFiles = new WeakMap<TransferContext, Map<string, readonly FileChange[]>>();

/** The files of a change set, each turned as its reader wants it; read once for a transfer. */
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
