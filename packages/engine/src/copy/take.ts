import {
  type ByteString,
  type DatabaseManifest,
  type DataClass,
  Rewriter,
  type RootManifest,
  type TableManifest,
  type TreeEntry,
  toBytes,
} from '@tessarion/core';
import type { DatabaseView } from '../ports/database.js';
import { EngineError } from '../ports/errors.js';
import { showPath } from '../ports/paths.js';
import { checkpoint, type Work } from '../ports/progress.js';
import { whileThere } from '../ports/server.js';
import { canonicalTable } from '../site/canonical-rows.js';
import type { Environment } from '../site/environment.js';
import { canonicalLink, eachOf, FileForm, walkRoot } from '../site/root-reader.js';
import type { PackWriter } from '../store/pack-writer.js';
import { RowImageWriter } from '../store/row-image.js';

/** What an environment holds, stored. */
export interface TakenParts {
  readonly databases: DatabaseManifest[];
  readonly roots: RootManifest[];
}

const KEPT: ReadonlySet<DataClass> = new Set(['authored', 'collected', 'local', 'unclassified']);

/**
 * Reads a whole environment into a store: databases first, each in one consistent view, then the files, so that
 * what rows name is there.
 */
export async function takeParts(environment: Environment, writer: PackWriter, work: Work): Promise<TakenParts> {
  const rewriter = new Rewriter(environment.place);
  const databases: DatabaseManifest[] = [];
  for (const database of environment.databases) {
    const view = await database.system.view(database);
    try {
      databases.push(await takeDatabase(environment, database.name, view, rewriter, writer, work));
    } finally {
      await view.close();
    }
  }
  const roots: RootManifest[] = [];
  for (const root of environment.place.roots)
    roots.push(await takeRoot(environment, root.name, rewriter, writer, work));
  return { databases, roots };
}

async function takeDatabase(
  environment: Environment,
  name: string,
  view: DatabaseView,
  rewriter: Rewriter,
  writer: PackWriter,
  work: Work,
): Promise<DatabaseManifest> {
  const tables: TableManifest[] = [];
  for (const shape of view.schema.tables) {
    const table = canonicalTable(environment, view, shape, rewriter);
    const image = new RowImageWriter(writer, table.keyColumns);
    const contents = table.rules.class === 'derived' ? 'structure' : 'rows';
    if (contents === 'rows') {
      for await (const lines of table.rows()) {
        checkpoint(work);
        await image.add(lines);
        work.count({ bytes: lines.length });
      }
    }
    const blocks = await image.end();
    work.count({ rows: image.rows });
    tables.push({
      schema: shape.schema,
      name: shape.name,
      columns: shape.columns.map(({ name: column, type, generated }) => ({ name: column, type, generated })),
      key: [...table.shape.key],
      keyOrders: [...table.shape.keyOrders],
      contents,
      rows: image.rows,
      bytes: image.bytes,
      ...(blocks === undefined ? {} : { blocks }),
    });
  }
  return { name, ...(await takeSchema(view, rewriter, writer)), tables };
}

/** Stores what a database is made of apart from its rows; addresses in views, defaults and functions become tokens. */
export async function takeSchema(
  view: DatabaseView,
  rewriter: Rewriter,
  writer: PackWriter,
): Promise<Omit<DatabaseManifest, 'name' | 'tables'>> {
  const [before, after] = [await view.dumpSchema('before'), await view.dumpSchema('after')];
  const put = (sql: Buffer): Promise<string> =>
    writer.put(Buffer.from(rewriter.canonicalise(sql.toString('latin1')).value, 'latin1'));
  return {
    server: view.schema.server,
    schemaBefore: await put(before),
    schemaAfter: await put(after),
    extensions: view.schema.extensions.map((one) => one.name),
    sequences: view.schema.sequences.map(({ schema, name, last, called }) => ({ schema, name, last, called })),
  };
}

async function takeRoot(
  environment: Environment,
  root: string,
  rewriter: Rewriter,
  writer: PackWriter,
  work: Work,
): Promise<RootManifest> {
  const tree = new TreeBuilder();
  const form = new FileForm(environment, rewriter);
  await eachOf(walkRoot(environment, root, KEPT), 8, async ({ path, node, area, realPath }) => {
    checkpoint(work);
    switch (node.type) {
      case 'folder':
        tree.add(path, { type: 'folder', name: '', mode: node.mode, tree: '' });
        return;
      case 'link':
        tree.add(path, {
          type: 'link',
          name: '',
          target: storedLink(environment, rewriter, path, node.target as ByteString),
        });
        return;
      case 'special':
        throw new EngineError(
          'file-refused',
          `${showPath(path)} is neither file, folder nor link.`,
          'Remove it, or leave the path out.',
        );
      case 'file':
        await whileThere(async () => {
          const state = await form.read(path, area, node.mode, realPath, (piece) => writer.put(piece));
          tree.add(path, { ...state, pieces: [...state.pieces], name: '' });
          work.count({ files: 1, bytes: node.bytes });
        });
    }
  });
  return { name: root, ...(await tree.store(writer)) };
}

/** A snapshot keeps links that a copy would refuse, as they are. */
function storedLink(environment: Environment, rewriter: Rewriter, path: ByteString, target: ByteString): ByteString {
  try {
    return canonicalLink(environment, rewriter, path, target);
  } catch (error) {
    if (error instanceof EngineError && error.code === 'file-refused') return rewriter.canonicalise(target).value;
    throw error;
  }
}

/** Gathers entries by path and stores them as a tree of hashes, folder by folder. */
export class TreeBuilder {
  readonly #folders = new Map<ByteString, Map<ByteString, TreeEntry>>([['', new Map()]]);
  #files = 0;
  #bytes = 0;

  add(path: ByteString, entry: TreeEntry): void {
    const slash = path.lastIndexOf('/');
    const [parent, name] = slash === -1 ? ['', path] : [path.slice(0, slash), path.slice(slash + 1)];
    const folder = this.#folders.get(parent) ?? new Map<ByteString, TreeEntry>();
    this.#folders.set(parent, folder);
    folder.set(name, { ...entry, name });
    if (entry.type === 'folder' && !this.#folders.has(path)) this.#folders.set(path, new Map());
    if (entry.type === 'file') {
      this.#files++;
      this.#bytes += entry.size;
    }
  }

  async store(writer: PackWriter): Promise<Omit<RootManifest, 'name'>> {
    return { tree: await this.#storeFolder('', writer), files: this.#files, bytes: this.#bytes };
  }

  async #storeFolder(path: ByteString, writer: PackWriter): Promise<string> {
    const entries: TreeEntry[] = [];
    for (const entry of (this.#folders.get(path) ?? new Map<ByteString, TreeEntry>()).values())
      entries.push(
        entry.type === 'folder'
          ? { ...entry, tree: await this.#storeFolder(path === '' ? entry.name : `${path}/${entry.name}`, writer) }
          : entry,
      );
    return storeFolder(writer, entries);
  }
}

/** Stores the listing of one folder. @returns its hash */
export function storeFolder(writer: PackWriter, entries: readonly TreeEntry[]): Promise<string> {
  const lines = entries.toSorted((a, b) => (a.name < b.name ? -1 : 1)).map((entry) => `${JSON.stringify(entry)}\n`);
  return writer.put(Buffer.from(toBytes(lines.join('')), 'latin1'));
}
