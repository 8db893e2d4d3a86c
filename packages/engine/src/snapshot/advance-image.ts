import {
  type ByteString,
  compareKeys,
  type FileChange,
  type RowChange,
  type RowKey,
  readLine,
  type SnapshotManifest,
  type TableManifest,
  type TreeEntry,
  writeLine,
} from '@tessarion/core';
import type { PackWriter } from '../blobs/pack-store.js';
import { fullName } from '../database/site-database.js';
import type { SnapshotLibrary } from './library.js';
import { walkTree } from './read-tree.js';
import { blockList, RowImageWriter } from './row-image.js';
import { TreeBuilder } from './take.js';

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
): Promise<SnapshotManifest> {
  const databases = [];
  for (const database of image.databases) {
    const tables = [];
    for (const table of database.tables) {
      const changes = rows.filter((change) => change.database === database.name && change.table === fullName(table));
      tables.push(changes.length === 0 ? table : await advanceTable(library, writer, table, changes));
    }
    databases.push({ ...database, tables });
  }
  const roots = [];
  for (const root of image.roots) {
    const changes = new Map(files.filter((change) => change.root === root.name).map((change) => [change.path, change]));
    if (changes.size === 0) {
      roots.push(root);
      continue;
    }
    const builder = new TreeBuilder();
    for await (const { path, entry } of walkTree(library.store, root)) if (!changes.has(path)) builder.add(path, entry);
    for (const [path, { after }] of changes) if (after.type !== 'absent') builder.add(path, treeEntry(after));
    roots.push({ name: root.name, ...(await builder.store(writer)) });
  }
  return { ...image, id, takenAt, databases, roots };
}

function treeEntry(state: Exclude<FileChange['after'], { type: 'absent' }>): TreeEntry {
  return state.type === 'link' ? { ...state, name: '' } : { ...state, name: '', pieces: [...state.pieces] };
}

async function advanceTable(
  library: SnapshotLibrary,
  writer: PackWriter,
  table: TableManifest,
  changes: readonly RowChange[],
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
  let bytes = table.bytes;
  let next = 0;
  let out: ByteString[] = [];
  const insertBefore = (key: RowKey | undefined): void => {
    for (
      let change = sorted[next];
      change && (!key || compareKeys(change.key, key, orders) < 0);
      change = sorted[++next]
    ) {
      if (change.op === 'insert')
        out.push(
          `${writeLine(columns.map((name) => (change as { row: Record<string, ByteString | null> }).row[name] ?? null))}\n`,
        );
    }
  };
  for (const [i, block] of stored.entries()) {
    if (image.isBetweenBlocks && !isTouched(i)) {
      image.keep(block);
      continue;
    }
    const batch = (await library.store.get(block.hash)).toString('latin1');
    bytes -= batch.length;
    for (const line of batch.slice(0, -1).split('\n')) {
      const values = readLine(line);
      const key = keyColumns.length === 0 ? [line] : keyColumns.map((column) => values[column] ?? null);
      insertBefore(key);
      const change = sorted[next];
      if (!change || compareKeys(change.key, key, orders) !== 0) {
        out.push(`${line}\n`);
        continue;
      }
      next++;
      if (change.op === 'delete') continue;
      const changed =
        change.op === 'insert'
          ? columns.map((name) => change.row[name] ?? null)
          : values.map((value, i) => {
              const cell = change.cells[columns[i] as string];
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
