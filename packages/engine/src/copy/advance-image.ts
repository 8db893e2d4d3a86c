import { isDeepStrictEqual } from 'node:util';
import {
  addTo,
  type ByteString,
  type Change,
  cellIn,
  compareKeys,
  type DatabaseManifest,
  type FileChange,
  projection,
  type RootManifest,
  type RowChange,
  type RowKey,
  readLine,
  type SnapshotManifest,
  type TableManifest,
  type TreeEntry,
  tablePath,
  valueIn,
  writeLine,
} from '@tessarion/core';
import type { Reshaped } from '../compare/plan.js';
import type { SnapshotLibrary } from '../store/library.js';
import type { PackWriter } from '../store/pack-writer.js';
import { readFolder } from '../store/read-tree.js';
import { blockList, RowImageWriter } from '../store/row-image.js';
import { storeFolder } from './take.js';

/**
 * Makes the image of a baseline after a transfer out of the one before it: the source's state for everything that
 * was written, unchanged for everything else. Unchanged tables and blocks are shared.
 */
export async function advanceImage(
  library: SnapshotLibrary,
  writer: PackWriter,
  image: SnapshotManifest,
  id: string,
  takenAt: string,
  rows: readonly RowChange[],
  files: readonly FileChange[],
  done: AdvancedParts = new AdvancedParts(),
  reshaped: readonly Reshaped[] = [],
): Promise<SnapshotManifest> {
  const databases = [];
  const byTable = done.byTable(rows);
  for (const database of image.databases) {
    const tables = [];
    for (const { table, into } of reshape(database, reshaped)) {
      const changes = byTable.get(`${database.name}/${tablePath(table)}`) ?? [];
      tables.push(
        changes.length === 0 && !into
          ? table
          : await done.once(`${table.blocks} ${JSON.stringify(table.columns)}`, changes, () =>
              advanceTable(library, writer, table, changes, into),
            ),
      );
    }
    databases.push({ ...database, tables });
  }
  const roots = [];
  for (const root of image.roots) {
    const changes = files.filter((change) => change.root === root.name);
    roots.push(
      changes.length === 0
        ? root
        : await done.once(root.tree, changes, () => advanceRoot(library, writer, root, changes)),
    );
  }
  return { ...image, id, takenAt, databases, roots };
}

/** Parts that both images of a baseline have alike, and that change alike: they are made once. */
export class AdvancedParts {
  readonly #made = new Map<string, { readonly changes: readonly Change[]; readonly result: unknown }[]>();
  readonly #byTable = new WeakMap<readonly RowChange[], ReadonlyMap<string, readonly RowChange[]>>();

  /** What `make` makes of a part by some changes; where another one was made of the same by the same, that one. */
  async once<T>(of: string, changes: readonly Change[], make: () => Promise<T>): Promise<T> {
    const known = this.#made.get(of)?.find((one) => one.changes === changes || isDeepStrictEqual(one.changes, changes));
    if (known) return known.result as T;
    const result = await make();
    addTo(this.#made, of, { changes, result });
    return result;
  }

  /** Changes by `database/schema.table`; those of one array are told apart once. */
  byTable(rows: readonly RowChange[]): ReadonlyMap<string, readonly RowChange[]> {
    const known = this.#byTable.get(rows);
    if (known) return known;
    const found = new Map<string, RowChange[]>();
    for (const change of rows) addTo(found, `${change.database}/${change.table}`, change);
    this.#byTable.set(rows, found);
    return found;
  }
}

/** A table of an image as it is from now on, and how its stored rows turn into such rows. */
interface ShapedTable {
  readonly table: TableManifest;
  readonly into: ((lines: ByteString) => ByteString) | undefined;
}

/** Lets the tables of an image have the columns in which rows are compared from now on; a new one begins without rows. */
function reshape(database: DatabaseManifest, reshaped: readonly Reshaped[]): ShapedTable[] {
  const names = (columns: TableManifest['columns']): string[] =>
    columns.filter((column) => !column.generated).map((column) => column.name);
  const own = reshaped.filter((shape) => shape.database === database.name);
  const tables = database.tables.map((table): ShapedTable => {
    const shape = own.find((one) => tablePath(one) === tablePath(table));
    if (!shape || table.contents !== 'rows') return { table, into: undefined };
    const columns = [...shape.columns];
    const fill = (column: string): ByteString | null => valueIn(shape.fills ?? {}, column) ?? null;
    return { table: { ...table, columns }, into: projection(names(table.columns), names(columns), fill) };
  });
  const added = own.filter((shape) => !database.tables.some((table) => tablePath(table) === tablePath(shape)));
  return [
    ...tables,
    ...added.map(({ schema, name, columns, key, keyOrders }) => ({
      table: {
        schema,
        name,
        columns: [...columns],
        key: [...key],
        keyOrders: [...keyOrders],
        contents: 'rows' as const,
        rows: 0,
        bytes: 0,
      },
      into: undefined,
    })),
  ];
}

/** Writes anew only the folders in which something changed. */
async function advanceRoot(
  library: SnapshotLibrary,
  writer: PackWriter,
  root: RootManifest,
  changes: readonly FileChange[],
): Promise<RootManifest> {
  let { files, bytes } = root;
  const count = (entry: TreeEntry | undefined, sign: 1 | -1): void => {
    if (entry?.type !== 'file') return;
    files += sign;
    bytes += sign * entry.size;
  };
  const advance = async (
    tree: string | undefined,
    depth: number,
    own: readonly FileChange[],
  ): Promise<string | undefined> => {
    const entries = new Map(
      (tree === undefined ? [] : await readFolder(library.store, tree)).map((one) => [one.name, one]),
    );
    const below = new Map<ByteString, FileChange[]>();
    for (const change of own) {
      const [name, ...rest] = change.path.split('/').slice(depth) as [ByteString, ...ByteString[]];
      if (rest.length > 0) addTo(below, name, change);
      else {
        count(entries.get(name), -1);
        entries.delete(name);
        if (change.after.type === 'absent') continue;
        const entry = { ...treeEntry(change.after), name };
        entries.set(name, entry);
        count(entry, 1);
      }
    }
    for (const [name, inner] of below) {
      const known = entries.get(name);
      const folder = known?.type === 'folder' ? known : undefined;
      const next = await advance(folder?.tree, depth + 1, inner);
      if (next === undefined) entries.delete(name);
      else entries.set(name, { type: 'folder', name, mode: folder?.mode ?? 0o755, tree: next });
    }
    // Folders that nobody made by themselves go with the last file in them.
    if (entries.size === 0 && depth > 0 && tree === undefined) return undefined;
    return storeFolder(writer, [...entries.values()]);
  };
  return { ...root, tree: (await advance(root.tree, 0, changes)) as string, files, bytes };
}

function treeEntry(state: Exclude<FileChange['after'], { type: 'absent' }>): TreeEntry {
  return state.type === 'link' ? { ...state, name: '' } : { ...state, name: '', pieces: [...state.pieces] };
}

async function advanceTable(
  library: SnapshotLibrary,
  writer: PackWriter,
  table: TableManifest,
  changes: readonly RowChange[],
  into: ShapedTable['into'],
): Promise<TableManifest> {
  const columns = table.columns.filter((column) => !column.generated).map((column) => column.name);
  const keyColumns = table.key.map((name) => columns.indexOf(name));
  const orders = table.key.length === 0 ? (['bytes'] as const) : table.keyOrders;
  const sorted = changes.toSorted((a, b) => compareKeys(a.key, b.key, orders));
  const image = new RowImageWriter(writer, keyColumns);
  const stored = await blockList(library.store, table);
  // The first key of each block tells which ones hold nothing of what changed.
  const starts = stored.map(({ key }) => (key === '' ? undefined : readLine(key)));
  const isTouched = (block: number): boolean => {
    const change = sorted[next];
    if (!change) return false;
    const end = starts[block + 1];
    if (starts[block] === undefined) return true;
    return end === undefined ? block === stored.length - 1 : compareKeys(change.key, end, orders) < 0;
  };
  // Most keys are one column and stand first.
  const keyOf = (line: ByteString): RowKey => {
    if (keyColumns.length === 0) return [line];
    if (keyColumns.length === 1 && keyColumns[0] === 0) return readLine(line.split('\t', 1)[0] as ByteString);
    const values = readLine(line);
    return keyColumns.map((column) => values[column] ?? null);
  };
  const valuesOf = (row: Readonly<Record<string, ByteString | null>>) =>
    columns.map((name) => valueIn(row, name) ?? null);
  let bytes = table.bytes;
  let next = 0;
  let out: ByteString[] = [];
  const insertBefore = (key: RowKey | undefined): void => {
    for (
      let change = sorted[next];
      change && (!key || compareKeys(change.key, key, orders) < 0);
      change = sorted[++next]
    ) {
      if (change.op === 'insert') out.push(`${writeLine(valuesOf(change.row))}\n`);
    }
  };
  for (const [i, block] of stored.entries()) {
    if (!into && image.isBetweenBlocks && !isTouched(i)) {
      image.keep(block);
      continue;
    }
    const stored = (await library.store.get(block.hash)).toString('latin1');
    bytes -= stored.length;
    const batch = into ? into(stored) : stored;
    for (let [at, end] = [0, 0]; at < batch.length; at = end) {
      // The rest of a block in which nothing more changes stays as it is.
      if (!isTouched(i)) {
        out.push(batch.slice(at));
        break;
      }
      end = batch.indexOf('\n', at) + 1;
      const line = batch.slice(at, end - 1);
      const key = keyOf(line);
      insertBefore(key);
      const change = sorted[next];
      if (!change || compareKeys(change.key, key, orders) !== 0) {
        out.push(`${line}\n`);
        continue;
      }
      // Without a key, one more of rows that are alike stands beside them.
      if (table.key.length === 0 && change.op === 'insert') {
        out.push(`${line}\n`);
        continue;
      }
      next++;
      if (change.op === 'delete') continue;
      const changed =
        change.op === 'insert'
          ? valuesOf(change.row)
          : readLine(line).map((value, i) => {
              const cell = cellIn(change, columns[i] as string);
              return cell ? cell.after : value;
            });
      out.push(`${writeLine(changed)}\n`);
    }
    await image.add(out.join(''));
    out = [];
  }
  insertBefore(undefined);
  await image.add(out.join(''));
  const blocks = await image.end();
  const { blocks: _former, ...rest } = table;
  return {
    ...rest,
    contents: 'rows',
    rows: image.rows,
    bytes: bytes + image.bytes,
    ...(blocks === undefined ? {} : { blocks }),
  };
}
