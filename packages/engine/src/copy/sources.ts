import {
  type AreaRule,
  areaOf,
  type ByteString,
  type ColumnTally,
  type DatabaseManifest,
  type DataClass,
  type Profile,
  Rewriter,
  rulesForTable,
  type SnapshotManifest,
  type TableManifest,
  type TableRules,
} from '@tessarion/core';
import type { DatabaseView } from '../ports/database.js';
import { EngineError } from '../ports/errors.js';
import type { ObjectPlace, ObjectStore } from '../ports/objects.js';
import { showPath } from '../ports/paths.js';
import type { Acl, Owner, ServerConnection } from '../ports/server.js';
import { canonicalTable, type DirectRows } from '../site/canonical-rows.js';
import { areasOf, type Environment, keptAreas, layout } from '../site/environment.js';
import { type PortableEnvironment, toPortable } from '../site/portable.js';
import { canonicalLink, FileForm, rootFolder, walkRoot } from '../site/root-reader.js';
import { SnapshotLibrary } from '../store/library.js';
import { readPieces, storedPieces, walkTree } from '../store/read-tree.js';
import { readRowImage } from '../store/row-image.js';

/** A table to be copied: its description as a manifest has it, and its rows in canonical form. */
export interface SourceTable {
  readonly shape: Omit<TableManifest, 'rows' | 'bytes' | 'blocks' | 'contents'>;
  readonly rules: TableRules;
  /** Columns that have values, in the order of the lines. */
  readonly columns: readonly string[];
  rows(): AsyncIterable<ByteString>;
  /** Rows as the source writes them; absent where they are canonical only. */
  readonly direct?: DirectRows | undefined;
  /** What happened to addresses, column by column, once the rows were read; absent where they are canonical already. */
  readonly tallies?: readonly ColumnTally[] | undefined;
}

/** A database as a copy reads it, from an environment or a snapshot. */
export interface SourceDatabase {
  readonly name: string;
  readonly server: string;
  /** Canonical SQL. */
  readonly schemaBefore: Promise<Buffer>;
  readonly schemaAfter: Promise<Buffer>;
  readonly extensions: readonly string[];
  readonly sequences: DatabaseManifest['sequences'];
  readonly tables: readonly SourceTable[];
}

/** A file, folder or link as a copy reads it, from an environment or a snapshot. */
export interface SourceFile {
  readonly path: ByteString;
  readonly area: AreaRule;
  readonly type: 'file' | 'folder' | 'link';
  readonly mode: number;
  /** Whom it belongs to; undefined where nobody has taken that down. */
  readonly owner: Owner | undefined;
  /** Its access control list, where it has more than its mode says and somebody knows. */
  readonly acl?: Acl | undefined;
  /** When it was written last, in seconds since 1970, where somebody knows. */
  readonly modified?: number | undefined;
  /** Canonical target of a link. */
  readonly target: ByteString | undefined;
  readonly bytes: number;
  /** Where its bytes lie on the server, if they do, and which ones are meant. */
  readonly at: { readonly realPath: ByteString; readonly identity: string } | undefined;
  /** Canonical content of a file, in `into` where it fits. */
  content(into?: Buffer): Promise<Buffer>;
  /** The same in pieces, for large ones. */
  pieces(): AsyncIterable<Buffer>;
}

/** Where a copy comes from: a running environment, or a snapshot of one. */
export interface CopySource {
  readonly profile: Profile | undefined;
  /** Opens one consistent view of each database. Files are read after that. */
  open(): Promise<readonly SourceDatabase[]>;
  close(): Promise<void>;
  files(root: string): AsyncGenerator<SourceFile>;
  readonly roots: readonly string[];
  /** The connection to its files, where they lie on a server. */
  readonly lieAt: ServerConnection | undefined;
  readonly portable: PortableSource;
}

/** A source as plain data, for another thread. */
export type PortableSource =
  | { readonly is: 'environment'; readonly environment: PortableEnvironment }
  | {
      readonly is: 'snapshot';
      readonly library: { readonly place: ObjectPlace; readonly key: Uint8Array };
      readonly manifest: SnapshotManifest;
      readonly profile: Profile | undefined;
    };

/** A source as one again. @param connect makes an environment of its data @param open opens a store of objects by its place */
export function sourceFrom(
  portable: PortableSource,
  connect: (environment: PortableEnvironment) => Environment,
  open: (place: ObjectPlace) => ObjectStore,
): CopySource {
  if (portable.is === 'environment') return new LiveSource(connect(portable.environment));
  const { library, manifest, profile } = portable;
  return new SnapshotSource(new SnapshotLibrary(open(library.place), Buffer.from(library.key)), manifest, profile);
}

const TRAVELS: ReadonlySet<DataClass> = new Set(['authored', 'collected', 'local', 'derived', 'unclassified']);

/** Keeps a failure for whoever waits for the promise later; until then nobody does. */
function heldBack<T>(promise: Promise<T>): Promise<T> {
  promise.catch(() => undefined);
  return promise;
}

/** Reads a running environment. */
export class LiveSource implements CopySource {
  readonly profile: Profile | undefined;
  readonly roots: readonly string[];
  readonly #environment: Environment;
  readonly #rewriter: Rewriter;
  readonly #views: DatabaseView[] = [];

  constructor(environment: Environment) {
    this.#environment = environment;
    this.profile = environment.profile;
    this.roots = environment.place.roots.map((root) => root.name);
    this.#rewriter = new Rewriter(environment.place);
  }

  get portable(): PortableSource {
    return { is: 'environment', environment: toPortable(this.#environment) };
  }

  get lieAt(): ServerConnection {
    return this.#environment.server;
  }

  async open(): Promise<readonly SourceDatabase[]> {
    for (const one of this.#environment.databases) this.#views.push(await one.system.view(one));
    return this.#environment.databases.map(({ name }, i) => this.#describe(name, this.#views[i] as DatabaseView));
  }

  async close(): Promise<void> {
    for (const view of this.#views.splice(0)) await view.close();
  }

  #describe(name: string, view: DatabaseView): SourceDatabase {
    const canonical = async (section: 'before' | 'after'): Promise<Buffer> => {
      const sql = await view.dumpSchema(section);
      return Buffer.from(this.#rewriter.canonicalise(sql.toString('latin1')).value, 'latin1');
    };
    const [schemaBefore, schemaAfter] = [heldBack(canonical('before')), heldBack(canonical('after'))];
    const { server, extensions, sequences, tables } = view.schema;
    return {
      name,
      server,
      schemaBefore,
      schemaAfter,
      extensions: extensions.map((one) => one.name),
      sequences: sequences.map(({ schema, name: sequence, last, called }) => ({
        schema,
        name: sequence,
        last,
        called,
      })),
      tables: tables.map((shape) => {
        const table = canonicalTable(this.#environment, view, shape, this.#rewriter);
        return {
          shape: {
            schema: shape.schema,
            name: shape.name,
            columns: shape.columns.map(({ name: column, type, generated }) => ({ name: column, type, generated })),
            key: [...table.shape.key],
            keyOrders: [...table.shape.keyOrders],
          },
          rules: table.rules,
          columns: table.columns,
          rows: () => table.rows(),
          direct: table.direct,
          tallies: table.rewriter.tallies,
        };
      }),
    };
  }

  async *files(root: string): AsyncGenerator<SourceFile> {
    const form = new FileForm(this.#environment, this.#rewriter);
    const acls = await aclsOf(this.#environment, root);
    for await (const { path, area, node, realPath } of walkRoot(this.#environment, root, TRAVELS)) {
      if (node.type === 'special')
        throw new EngineError(
          'file-refused',
          `${showPath(path)} is neither file, folder nor link.`,
          'Remove it, or leave the path out.',
        );
      const linkOf = (): ByteString =>
        canonicalLink(this.#environment, this.#rewriter, path, node.target as ByteString);
      const owner = { uid: node.uid, gid: node.gid };
      const file = { path, area, type: node.type, mode: node.mode, owner, bytes: node.bytes, acl: acls.get(realPath) };
      yield {
        ...file,
        get modified() {
          return node.modified;
        },
        get target() {
          return node.type === 'link' ? linkOf() : undefined;
        },
        at: { realPath, identity: node.identity },
        content: async (into) => form.canonicalise(path, area, await this.#environment.server.readFile(realPath, into)),
        pieces: () => form.canonicalPieces(path, area, realPath),
      };
    }
  }
}

/** Access control lists of a root, and of the kept areas that are linked into it, by real path. */
async function aclsOf(environment: Environment, root: string): Promise<Map<ByteString, Acl>> {
  const { server, folder, profile } = environment;
  const kept = keptAreas(areasOf(profile)).map((area) => layout.keep(folder, root, area.name));
  const found = new Map<ByteString, Acl>();
  for (const place of [rootFolder(environment, root), ...kept])
    if (await server.isFolder(place))
      for (const [path, acl] of await server.readAcls(place)) found.set(path === '.' ? place : `${place}/${path}`, acl);
  return found;
}

/** Reads a snapshot. */
export class SnapshotSource implements CopySource {
  readonly roots: readonly string[];
  readonly #areas: readonly AreaRule[];

  constructor(
    private readonly library: SnapshotLibrary,
    private readonly manifest: SnapshotManifest,
    readonly profile: Profile | undefined,
  ) {
    this.roots = manifest.roots.map((root) => root.name);
    this.#areas = areasOf(profile);
  }

  get lieAt(): undefined {
    return undefined;
  }

  get portable(): PortableSource {
    const { objects, key } = this.library;
    return { is: 'snapshot', library: { place: objects.place, key }, manifest: this.manifest, profile: this.profile };
  }

  async open(): Promise<readonly SourceDatabase[]> {
    return this.manifest.databases.map((database) => ({
      ...database,
      schemaBefore: heldBack(this.library.store.get(database.schemaBefore)),
      schemaAfter: heldBack(this.library.store.get(database.schemaAfter)),
      tables: database.tables.map((table): SourceTable => {
        const columns = table.columns.filter((column) => !column.generated).map((column) => column.name);
        const { schema, name, key, keyOrders } = table;
        return {
          shape: { schema, name, columns: table.columns, key, keyOrders },
          rules: rulesForTable(this.profile, { ...table, database: database.name }, columns),
          columns,
          rows: () => readRowImage(this.library.store, table),
        };
      }),
    }));
  }

  async close(): Promise<void> {}

  async *files(root: string): AsyncGenerator<SourceFile> {
    const tree = this.manifest.roots.find((one) => one.name === root);
    if (!tree) return;
    for await (const { path, entry } of walkTree(this.library.store, tree)) {
      const stored = entry.type === 'file' ? entry.pieces : [];
      yield {
        path,
        area: areaOf(this.#areas, path),
        type: entry.type,
        mode: entry.type === 'link' ? 0o777 : entry.mode,
        owner: undefined,
        target: entry.type === 'link' ? entry.target : undefined,
        bytes: entry.type === 'file' ? entry.size : 0,
        at: undefined,
        content: () => readPieces(this.library.store, stored),
        pieces: () => storedPieces(this.library.store, stored),
      };
    }
  }
}
