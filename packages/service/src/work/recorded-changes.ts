import type { Change, FileChange, RowChange } from '@tessarion/core';
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

/** Change sets that this worker has written for a transfer, by name: most of its steps go by them. */
const written = new WeakMap<TransferContext, Map<string, readonly Change[]>>();
/** A transfer of more reads them again, so that memory does not grow with it. */
const MOST_IN_MEMORY = 150_000;

/** Records a change set, and hands it on to the steps to come. */
export async function recordChanges(context: TransferContext, name: string, changes: readonly Change[]): Promise<void> {
  await context.library().saveChanges(name, changes);
  if (changes.length > MOST_IN_MEMORY) return;
  const known = written.get(context) ?? new Map<string, readonly Change[]>();
  written.set(context, known.set(name, changes));
}

/** The changes of a recorded set. @throws {EngineError} as {@link SnapshotLibrary.readChanges} */
export async function* changesOf(context: TransferContext, name: string): AsyncGenerator<Change> {
  const known = written.get(context)?.get(name);
  if (known) yield* known;
  else yield* context.library().readChanges(name);
}

/** The rows of a change set that belong into a database, in the order in which they were planned. */
export async function* rowsOf(context: TransferContext, set: ChangeSet, database: string): AsyncGenerator<RowChange> {
  const found = set.undoes ? await readBackOf(context.library(), ownOf(context)) : new Map<string, RowChange>();
  for await (const change of changesOf(context, set.id))
    if (change.part === 'row' && change.database === database) yield set.row(asItTurnedOut(change, found));
}

/** A change as it turned out. @param found what was read back of rows, by {@link nameOfRow}; mostly nothing */
export const asItTurnedOut = (change: RowChange, found: ReadonlyMap<string, RowChange>): RowChange =>
  found.size === 0 ? change : asReadBack(change, found.get(nameOfRow(change)));

/** A transfer and what its steps remember of it now. */
export const ownOf = ({ record, data }: TransferContext): Pick<TransferRecord, 'id' | 'outcome'> => ({
  id: record.id,
  outcome: data,
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
    for await (const change of changesOf(context, changes)) if (change.part === 'file') found.push(change);
    files = found;
    sets.set(changes, files);
  }
  return files.map(turn);
}
