import {
  type ByteString,
  type DatabaseManifest,
  LineRewriter,
  Rewriter,
  type RootManifest,
  type TableManifest,
} from '@tessarion/core';
import { EngineError } from '../ports/errors.js';
import { checkpoint, type Work } from '../ports/progress.js';
import type { ServerConnection, TreeNode } from '../ports/server.js';
import { PIECE_BYTES, pieces } from '../site/root-reader.js';
import type { PackWriter } from '../store/pack-writer.js';
import { RowImageWriter } from '../store/row-image.js';
import { readSpool, type SpoolEvent, type SpoolRecord } from '../store/spool.js';
import { TreeBuilder } from './take.js';

/** The two images of a baseline: what the source had, and what the copy holds. */
export interface CopyImages {
  readonly source: { databases: DatabaseManifest[]; roots: RootManifest[] };
  readonly copy: { databases: DatabaseManifest[]; roots: RootManifest[] };
}

/** A file of a copy whose bytes were packed as they lie. */
export interface PackedFile {
  readonly root: string;
  readonly path: ByteString;
  readonly content: { readonly pieces: string[]; readonly size: number };
  /** As it lies in the copy; undefined where it is another one by now. */
  readonly copy: TreeNode | undefined;
  /** Likewise in its source. */
  readonly source: TreeNode | undefined;
}

/**
 * Hashes, compresses and packs what was taken down while a copy was made. Can be run again at any time: what was
 * packed already costs only its hash.
 *
 * @param spools in the order of their events; databases and roots may lie in any of them
 * @param server where the copied files lie
 * @param known hears of each file that was packed as it lies
 * @returns the images, and the files that changed on both sides before they were packed: nobody knows any more what
 *   the two had in common there
 */
export async function packSpools(
  spools: readonly string[],
  key: Buffer,
  server: ServerConnection,
  writer: PackWriter,
  work: Work,
  known: (file: PackedFile) => void = () => undefined,
): Promise<CopyImages & { readonly lost: readonly ByteString[] }> {
  const images: CopyImages = { source: { databases: [], roots: [] }, copy: { databases: [], roots: [] } };
  const lost: ByteString[] = [];
  for (const path of spools) {
    let open: Part | undefined;
    for await (const record of readSpool(path, key)) {
      checkpoint(work);
      if (record.type === 'event' && (record.event.is === 'database' || record.event.is === 'root')) {
        await open?.end(images);
        open =
          record.event.is === 'database'
            ? new DatabasePart(record.event, writer)
            : new RootPart(record.event, server, writer, lost, known);
      } else await open?.take(record);
    }
    await open?.end(images);
  }
  return { ...images, lost };
}

/** A database or a root while it is being packed. */
interface Part {
  take(record: SpoolRecord): Promise<void>;
  end(images: CopyImages): Promise<void>;
}

type EventOf<K extends SpoolEvent['is']> = Extract<SpoolEvent, { is: K }>;

class DatabasePart implements Part {
  readonly #schema: string[] = [];
  readonly #tables: { source: TableManifest[]; copy: TableManifest[] } = { source: [], copy: [] };
  #table: TablePart | undefined;

  constructor(
    private readonly facts: EventOf<'database'>,
    private readonly writer: PackWriter,
  ) {}

  async take(record: SpoolRecord): Promise<void> {
    if (record.type === 'event') {
      await this.#endTable();
      if (record.event.is === 'table') this.#table = new TablePart(record.event, this.writer);
    } else if (this.#table) await this.#table.add(record.bytes, record.side);
    else this.#schema.push(await this.writer.put(record.bytes));
  }

  async #endTable(): Promise<void> {
    if (!this.#table) return;
    const { source, copy } = await this.#table.end();
    this.#tables.source.push(source);
    this.#tables.copy.push(copy);
    this.#table = undefined;
  }

  async end(images: CopyImages): Promise<void> {
    await this.#endTable();
    const { name, server, extensions, sequences } = this.facts;
    const facts = { name, server, extensions: [...extensions], sequences: [...sequences] };
    const [schemaBefore, schemaAfter] = this.#schema as [string, string];
    for (const side of ['source', 'copy'] as const)
      images[side].databases.push({ ...facts, schemaBefore, schemaAfter, tables: this.#tables[side] });
  }
}

class TablePart {
  readonly #source: RowImageWriter;
  readonly #copy: RowImageWriter | undefined;
  readonly #canonicalise: (lines: ByteString) => ByteString;

  constructor(
    private readonly facts: EventOf<'table'>,
    writer: PackWriter,
  ) {
    const columns = facts.shape.columns.filter((column) => !column.generated).map((column) => column.name);
    const keyColumns = facts.shape.key.map((name) => columns.indexOf(name));
    this.#source = new RowImageWriter(writer, keyColumns);
    this.#copy = facts.isMasked ? new RowImageWriter(writer, keyColumns) : undefined;
    const { written } = facts;
    const rewriter = written && new LineRewriter(new Rewriter(written.place), written.columns);
    this.#canonicalise = (lines) => (rewriter ? rewriter.canonicalise(lines) : lines);
  }

  async add(bytes: Buffer, side: 'source' | 'copy'): Promise<void> {
    const lines = bytes.toString('latin1');
    if (side === 'copy') await this.#copy?.add(lines);
    else await this.#source.add(this.#canonicalise(lines));
  }

  async end(): Promise<{ source: TableManifest; copy: TableManifest }> {
    const describe = async (image: RowImageWriter): Promise<TableManifest> => {
      const blocks = await image.end();
      const { shape, contents } = this.facts;
      return { ...shape, contents, rows: image.rows, bytes: image.bytes, ...(blocks === undefined ? {} : { blocks }) };
    };
    const source = await describe(this.#source);
    return { source, copy: this.#copy ? await describe(this.#copy) : source };
  }
}

type FilePlace = NonNullable<EventOf<'file'>['at']>[number];

/** Files of a far server that are asked for at once: each takes as long as it travels. */
const FILES_AHEAD = 32;

/** An identity begins with the size. */
const sizeOf = ({ identity }: FilePlace): number => Number(identity.slice(0, identity.indexOf(' ')));

/** A file's bytes, and how it stands at both ends. */
interface Ahead {
  readonly content: Buffer;
  readonly copy: TreeNode;
  readonly source: TreeNode | undefined;
}

interface Coming {
  readonly facts: EventOf<'file'>;
  readonly content: readonly Buffer[];
  readonly read: Promise<Ahead | undefined> | undefined;
}

class RootPart implements Part {
  readonly #tree = new TreeBuilder();
  #file: { facts: EventOf<'file'>; content: Buffer[] } | undefined;
  /** Files that are taken next, in their order; those of a far server are on their way already. */
  readonly #coming: Coming[] = [];

  constructor(
    private readonly facts: EventOf<'root'>,
    private readonly server: ServerConnection,
    private readonly writer: PackWriter,
    private readonly lost: ByteString[],
    private readonly known: (file: PackedFile) => void,
  ) {}

  async take(record: SpoolRecord): Promise<void> {
    if (record.type === 'bytes') {
      this.#file?.content.push(record.bytes);
      return;
    }
    await this.#endFile();
    const { event } = record;
    if (event.is === 'folder') this.#tree.add(event.path, { type: 'folder', name: '', mode: event.mode, tree: '' });
    else if (event.is === 'link') this.#tree.add(event.path, { type: 'link', name: '', target: event.target });
    else if (event.is === 'file') this.#file = { facts: event, content: [] };
  }

  async #endFile(): Promise<void> {
    if (!this.#file) return;
    const { facts, content } = this.#file;
    this.#file = undefined;
    const isAhead = this.server.isFar && facts.at?.[0] && sizeOf(facts.at[0]) <= PIECE_BYTES;
    const read = isAhead ? this.#readAhead(facts.at as readonly FilePlace[]) : undefined;
    // Whoever takes it hears of it.
    read?.catch(() => undefined);
    this.#coming.push({ facts, content, read });
    if (this.#coming.length >= (this.server.isFar ? FILES_AHEAD : 1)) await this.#takeNext();
  }

  async #takeNext(): Promise<void> {
    const { facts, content, read } = this.#coming.shift() as Coming;
    const { path, mode, plain, at } = facts;
    const ahead = await read;
    const stored = ahead
      ? await this.#store(pieces(ahead.content))
      : at
        ? await this.#storeUnchanged(at)
        : await this.#store(pieces(Buffer.concat(content)));
    if (!stored) {
      this.lost.push(path);
      return;
    }
    if (at) {
      const { copy, source } = ahead ?? { copy: await this.#stillAt(at[0]), source: await this.#stillAt(at[1]) };
      this.known({ root: this.facts.name, path, content: stored, copy, source });
    }
    this.#tree.add(path, { type: 'file', name: '', mode, ...stored, ...(plain === undefined ? {} : { plain }) });
  }

  /** Reads a file's bytes where the copy has it, as long as it is the one that was made. */
  async #readAhead([place, original]: readonly FilePlace[]): Promise<Ahead | undefined> {
    const { realPath } = place as FilePlace;
    const [content, source] = await Promise.all([
      this.server.readFile(realPath).catch((error: unknown) => {
        if (error instanceof EngineError && /^file-(gone|changed)$/.test(error.code)) return undefined;
        throw error;
      }),
      this.#stillAt(original),
    ]);
    // What is as it was made now has not been written to meanwhile.
    const copy = await this.#stillAt(place);
    return content && copy && { content, copy, source };
  }

  async #store(content: Iterable<Buffer> | AsyncIterable<Buffer>): Promise<{ pieces: string[]; size: number }> {
    const hashes: string[] = [];
    let size = 0;
    for await (const piece of content) {
      hashes.push(await this.writer.put(piece));
      size += piece.length;
    }
    return { pieces: hashes, size };
  }

  async #stillAt(place: FilePlace | undefined): Promise<TreeNode | undefined> {
    const node = place && (await this.server.nodeAt(place.realPath));
    return node?.identity === place?.identity ? node : undefined;
  }

  /** Stores the bytes from the first place where they are still as they were. */
  async #storeUnchanged(places: readonly FilePlace[]): Promise<{ pieces: string[]; size: number } | undefined> {
    for (const { realPath, identity } of places) {
      if ((await this.server.identityOf(realPath)) !== identity) continue;
      const stored = await this.#store(this.server.readPieces(realPath, PIECE_BYTES));
      if ((await this.server.identityOf(realPath)) === identity) return stored;
    }
    return undefined;
  }

  async end(images: CopyImages): Promise<void> {
    await this.#endFile();
    while (this.#coming.length > 0) await this.#takeNext();
    const root = { name: this.facts.name, ...(await this.#tree.store(this.writer)) };
    images.source.roots.push(root);
    images.copy.roots.push(root);
  }
}
