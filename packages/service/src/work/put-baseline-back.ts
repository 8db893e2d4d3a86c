import {
  addTo,
  type Change,
  type FileChange,
  imageRowAfterUndo,
  keyText,
  type RowChange,
  type RowKey,
  readLine,
  sameFile,
  type TableManifest,
  valueIn,
} from '@tessarion/core';
import {
  AdvancedParts,
  advanceImage,
  asReadBack,
  imageRowsOf,
  readListing,
  type SnapshotLibrary,
} from '@tessarion/engine';
import { newId } from '../ground/data-folder.js';
import { nameOfRow, readBackOf } from '../stored/read-back.js';
import { findBaseline, type PackedBaseline, saveBaseline } from '../stored/snapshots.js';
import { pushInput } from '../transfers/inputs.js';
import type { Installation } from '../transfers/installation.js';
import type { TransferRecord } from '../transfers/transfers.js';
import { imageChanges } from './advance-baseline.js';
import type { TransferContext } from './context.js';
/**
 * Both images of a baseline become what they were before a transfer, for what an undo took back of it; what later
 * transfers made of them stays.
 */
export async function putBaselineBack(context: TransferContext, undone: TransferRecord): Promise<void> {
  const { installation } = context;
  const former = undone.outcome.formerBaseline;
  const pair = former && (await findBaseline(installation.records, former.lower, former.upper));
  if (!former || !isPacked(pair) || (await wasMadeAnew(installation, former.lower, undone))) return;
  const library = context.library();
  const taken = await changesBy(library, context.record.id);
  const written = new Set<string>();
  for await (const change of library.readChanges(undone.id)) written.add(placeOf(change));
  const isWhole = context.data.leavesSome !== true;
  /** What the transfer wrote and the undo leaves stays; what it only settled is open again after a whole undo. */
  const isOpenAgain = (place: string): boolean => taken.has(place) || (isWhole && !written.has(place));
  const isLowerSource = pushInput(undone).from === former.lower;
  const takenAt = installation.now().toISOString();
  const done = new AdvancedParts();
  const [below, above] = isLowerSource ? (['source', 'destination'] as const) : (['destination', 'source'] as const);
  const [lower, upper] = await library.store.write(async (writer) => {
    const back = async (now: string, before: string, end: 'source' | 'destination') => {
      const changes: ImageChanges = { of: imageChanges(undone, end), taken, isOpenAgain, isWhole };
      const edits = await editsOf(context, undone, end, changes, { now, before });
      const listings = await formerFiles(library, changes, { now, before });
      return advanceImage(library, writer, await library.load(now), newId('b'), takenAt, edits, listings, done);
    };
    return [
      await back(pair.lower_manifest, former.lowerManifest, below),
      await back(pair.upper_manifest, former.upperManifest, above),
    ] as const;
  });
  const known = (await library.load(former.lowerManifest)).pairs ?? [];
  const isNew = ({ table, lower: down, upper: up }: NonNullable<typeof lower.pairs>[number]): boolean =>
    !known.some((one) => one.table === table && one.lower === down && one.upper === up);
  // A pair that the transfer made goes with the row that it made.
  const goes = (table: string, key: string): boolean => {
    const [database, name] = [table.slice(0, table.indexOf('/')), table.slice(table.indexOf('/') + 1)];
    const change = taken.get(JSON.stringify([database, name, [key]]));
    return change?.part === 'row' && change.op === 'delete';
  };
  const pairs = (lower.pairs ?? []).filter(
    (one) => !(isNew(one) && goes(one.table, isLowerSource ? one.upper : one.lower)),
  );
  await library.save({ ...lower, pairs });
  await library.save(upper);
  await saveBaseline(installation.records, { ...pair, lower_manifest: lower.id, upper_manifest: upper.id });
}

/** Whether a copy was made anew since a transfer: then what it has in common with others is not of that transfer. */
async function wasMadeAnew({ records }: Installation, path: string, since: TransferRecord): Promise<boolean> {
  const found = await records('transfer')
    .where({ onto_path: path, state: 'done' })
    .whereIn('kind', ['clone', 'reset', 'restore'])
    .where('created_at', '>', since.created_at)
    .first('id');
  return found !== undefined;
}

const isPacked = (pair: Awaited<ReturnType<typeof findBaseline>>): pair is PackedBaseline =>
  pair !== undefined && pair.lower_manifest !== null && pair.upper_manifest !== null;

/** How a transfer moved an image on, and what of that goes back. */
interface ImageChanges {
  /** Name of the change set. */
  readonly of: string;
  /** What the undo wrote, by {@link placeOf}. */
  readonly taken: ReadonlyMap<string, Change>;
  readonly isOpenAgain: (place: string) => boolean;
  /** Nothing of the transfer was left out of its undo. */
  readonly isWhole: boolean;
}

const placeOf = (change: Change): string =>
  change.part === 'row'
    ? nameOfRow({ ...change, key: change.counterpart ?? change.key })
    : `${change.root}/${change.path}`;

async function changesBy(library: SnapshotLibrary, id: string): Promise<Map<string, Change>> {
  const changes = new Map<string, Change>();
  for await (const change of library.readChanges(id)) changes.set(placeOf(change), change);
  return changes;
}

/** What becomes of the rows of one image. */
async function editsOf(
  context: TransferContext,
  undone: TransferRecord,
  end: 'source' | 'destination',
  { of, taken, isOpenAgain, isWhole }: ImageChanges,
  manifests: { readonly now: string; readonly before: string },
): Promise<RowChange[]> {
  const library = context.library();
  const [now, before] = [await library.load(manifests.now), await library.load(manifests.before)];
  const found = end === 'destination' ? await readBackOf(library, undone) : new Map<string, RowChange>();
  const byTable = new Map<string, RowChange[]>();
  for await (const change of library.readChanges(of)) {
    if (change.part !== 'row' || !isOpenAgain(placeOf(change))) continue;
    const at = `${change.database}/${change.table}`;
    addTo(byTable, at, asReadBack(change, found.get(nameOfRow(change))));
  }
  const edits: RowChange[] = [];
  for (const changes of byTable.values()) {
    const [{ database, table: name }] = changes as [RowChange];
    const tableIn = (manifest: typeof now) =>
      manifest.databases
        .find((one) => one.name === database)
        ?.tables.find((one) => `${one.schema}.${one.name}` === name);
    const table = tableIn(now);
    if (!table) continue;
    if (table.key.length === 0) {
      // Rows without a key count: one that was added to the image goes, one that went comes back.
      const named = (key: RowKey) => {
        const values = readLine(key[0] as string);
        return Object.fromEntries(columnsOf(table).map((column, i) => [column, values[i] ?? null]));
      };
      for (const change of changes) {
        if (!taken.has(placeOf(change))) continue;
        const { database, table: name, key, op } = change;
        const on = { part: 'row', database, table: name, key } as const;
        edits.push(op === 'insert' ? { ...on, op: 'delete', row: {} } : { ...on, op: 'insert', row: named(key) });
      }
      continue;
    }
    const keys: RowKey[] = changes.map((change) => change.key);
    const [rowsNow, rowsBefore] = [
      await imageRowsOf(library.store, table, keys),
      await imageRowsOf(library.store, tableIn(before), keys),
    ];
    const columns = columnsOf(table);
    for (const change of changes) {
      const undo = taken.get(placeOf(change)) as RowChange | undefined;
      const made = change.op === 'insert' ? columns.map((column) => valueIn(change.row, column) ?? null) : undefined;
      const at = keyText(change.key);
      const row = imageRowAfterUndo(columns, undo, rowsBefore.get(at), made, rowsNow.get(at), isWhole);
      const on = { part: 'row', database, table: name, key: change.key } as const;
      edits.push(
        row
          ? { ...on, op: 'insert', row: Object.fromEntries(columns.map((column, i) => [column, row[i] ?? null])) }
          : { ...on, op: 'delete', row: {} },
      );
    }
  }
  return edits;
}

const columnsOf = ({ columns }: TableManifest): string[] =>
  columns.filter((column) => !column.generated).map((column) => column.name);

/** The files whose state in an image goes back, as it had them before. */
async function formerFiles(
  library: SnapshotLibrary,
  { of, taken, isOpenAgain }: ImageChanges,
  manifests: { readonly now: string; readonly before: string },
): Promise<FileChange[]> {
  const changes: FileChange[] = [];
  for await (const change of library.readChanges(of))
    if (change.part === 'file' && isOpenAgain(placeOf(change))) changes.push(change);
  const [now, before] = [await library.load(manifests.now), await library.load(manifests.before)];
  const absent = { type: 'absent' } as const;
  const found: FileChange[] = [];
  for (const root of before.roots) {
    const own = changes.filter((one) => one.root === root.name);
    const standing = now.roots.find((one) => one.name === root.name);
    if (own.length === 0 || !standing) continue;
    const [former, made] = [await readListing(library.store, root), await readListing(library.store, standing)];
    // What a later transfer made of what was only settled stays.
    for (const change of own)
      if (taken.has(placeOf(change)) || sameFile(made.get(change.path) ?? absent, change.after))
        found.push({ ...change, before: absent, after: former.get(change.path) ?? absent });
  }
  return found;
}
