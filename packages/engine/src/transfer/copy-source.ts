import {
  type AreaRule,
  areaOf,
  type ByteString,
  type DatabaseManifest,
  type DataClass,
  type Profile,
  Rewriter,
  rulesForTable,
  type SnapshotManifest,
  type TableManifest,
  type TableRules,
} from '@tessarion/core';
import { PostgresView } from '../database/postgres-view.js';
import { profileName } from '../database/site-database.js';
import { canonicalTable } from '../environment/canonical-rows.js';
import { areasOf, type Environment } from '../environment/environment.js';
import { canonicalLink, FileForm, walkRoot } from '../environment/root-reader.js';
import { EngineError } from '../errors.js';
import { showPath } from '../server/local-server.js';
import type { SnapshotLibrary } from '../snapshot/library.js';
import { readPieces, walkTree } from '../snapshot/read-tree.js';
import { readRowImage } from '../snapshot/row-image.js';

/** A table to be copied: its description as a manifest has it, and its rows in canonical form. */
export interface SourceTable {
  readonly shape: Omit<TableManifest, 'rows' | 'bytes' | 'blocks' | 'contents'>;
  readonly rules: TableRules;
  /** Columns that have values, in the order of the lines. */
  readonly columns: readonly string[];
  rows(): AsyncIterable<ByteString>;
}

export interface SourceDatabase {
  readonly name: string;
  readonly server: string;
  /** Canonical SQL. */
  readonly schemaBefore: Buffer;
  readonly schemaAfter: Buffer;
  readonly extensions: readonly string[];
  readonly sequences: DatabaseManifest['sequences'];
  readonly tables: readonly SourceTable[];
}

export interface SourceFile {
  readonly path: ByteString;
  readonly area: AreaRule;
  readonly type: 'file' | 'folder' | 'link';
  readonly mode: number;
  /** Canonical target of a link. */
  readonly target: ByteString | undefined;
  /** Canonical content of a file. */
  content(): Promise<Buffer>;
}

/** Where a copy comes from: a running environment, or a snapshot of one. */
export interface CopySource {
  readonly profile: Profile | undefined;
  /** Databases must be read one after the other and closed before the files are read. */
  databases(): AsyncGenerator<SourceDatabase>;
  files(root: string): AsyncGenerator<SourceFile>;
  readonly roots: readonly string[];
}

const TRAVELS: ReadonlySet<DataClass> = new Set(['authored', 'collected', 'local', 'derived', 'unclassified']);

/** Reads a running environment. */
export class LiveSource implements CopySource {
  readonly profile: Profile | undefined;
  readonly roots: readonly string[];
  readonly #environment: Environment;
  readonly #rewriter: Rewriter;

  constructor(environment: Environment) {
    this.#environment = environment;
    this.profile = environment.profile;
    this.roots = environment.place.roots.map((root) => root.name);
    this.#rewriter = new Rewriter(environment.place);
  }

  async *databases(): AsyncGenerator<SourceDatabase> {
    for (const { name, login } of this.#environment.databases) {
      const view = await PostgresView.open(login);
      try {
        const canonical = async (section: 'before' | 'after'): Promise<Buffer> =>
          Buffer.from(this.#rewriter.canonicalise((await view.dumpSchema(section)).toString('latin1')).value, 'latin1');
        yield {
          name,
          server: view.schema.server,
          schemaBefore: await canonical('before'),
          schemaAfter: await canonical('after'),
          extensions: view.schema.extensions,
          sequences: view.schema.sequences.map(({ schema, name: sequence, last, called }) => ({
            schema,
            name: sequence,
            last,
            called,
          })),
          tables: view.schema.tables.map((shape) => {
            const table = canonicalTable(this.#environment, name, view, shape, this.#rewriter);
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
            };
          }),
        };
      } finally {
        await view.close();
      }
    }
  }

  async *files(root: string): AsyncGenerator<SourceFile> {
    const form = new FileForm(this.#environment, this.#rewriter);
    for await (const { path, area, node, realPath } of walkRoot(this.#environment, root, TRAVELS)) {
      if (node.type === 'special')
        throw new EngineError(
          'file-refused',
          `${showPath(path)} is neither file, folder nor link.`,
          'Remove it, or leave the path out.',
        );
      const linkOf = (): ByteString =>
        canonicalLink(this.#environment, this.#rewriter, path, node.target as ByteString);
      const file = { path, area, type: node.type, mode: node.mode };
      yield {
        ...file,
        get target() {
          return node.type === 'link' ? linkOf() : undefined;
        },
        content: async () => form.canonicalise(path, area, await this.#environment.server.readFile(realPath)),
      };
    }
  }
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

  async *databases(): AsyncGenerator<SourceDatabase> {
    for (const database of this.manifest.databases) {
      yield {
        ...database,
        schemaBefore: await this.library.store.get(database.schemaBefore),
        schemaAfter: await this.library.store.get(database.schemaAfter),
        tables: database.tables.map((table): SourceTable => {
          const columns = table.columns.filter((column) => !column.generated).map((column) => column.name);
          const { schema, name, key, keyOrders } = table;
          return {
            shape: { schema, name, columns: table.columns, key, keyOrders },
            rules: rulesForTable(this.profile, database.name, profileName(table), columns),
            columns,
            rows: () => readRowImage(this.library.store, table),
          };
        }),
      };
    }
  }

  async *files(root: string): AsyncGenerator<SourceFile> {
    const stored = this.manifest.roots.find((one) => one.name === root);
    if (!stored) return;
    for await (const { path, entry } of walkTree(this.library.store, stored)) {
      yield {
        path,
        area: areaOf(this.#areas, path),
        type: entry.type,
        mode: entry.type === 'link' ? 0o777 : entry.mode,
        target: entry.type === 'link' ? entry.target : undefined,
        content: () => readPieces(this.library.store, entry.type === 'file' ? entry.pieces : []),
      };
    }
  }
}
