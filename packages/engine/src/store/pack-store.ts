import { createCipheriv, createDecipheriv, createHash, randomUUID } from 'node:crypto';
import { closeSync, openSync, readSync } from 'node:fs';
import * as fs from 'node:fs/promises';
import { basename, join } from 'node:path';
import { promisify } from 'node:util';
import { deflateRaw, deflateRawSync, inflateRawSync } from 'node:zlib';
import { addTo } from '@tessarion/core';
import { EngineError, fileError } from '../ports/errors.js';
import { openBytes, sealBytes } from './sealed.js';

/** Where a blob lies: which pack, from which byte, how long, and how it is stored. */
interface Spot {
  readonly pack: string;
  readonly offset: number;
  readonly stored: number;
  readonly size: number;
  readonly deflated: boolean;
}

const deflateOffThread = promisify(deflateRaw) as (content: Uint8Array, options: { level: number }) => Promise<Buffer>;

const PACK_BYTES = 8 * 1024 * 1024;

/** The packs of a folder as this process knows them. All its stores of the folder share it, and only look which packs there are. */
interface OpenIndex {
  readonly key: Buffer;
  /** Names of the packs whose blobs are in it; a pack never changes. */
  readonly packs: Set<string>;
  readonly spots: Map<string, Spot>;
}

/** By folder, the one that was opened last at the end. */
const openIndexes = new Map<string, OpenIndex>();
/** Blobs whose places stay in memory so, of all folders together. */
const MOST_OPEN_SPOTS = 300_000;

/** Packs below this are small, and so many of them are joined. */
const SMALL_PACK_BYTES = 1024 * 1024;
const MOST_SMALL_PACKS = 64;
/** Nobody writes to a pack for so long. */
const LEFT_MS = 24 * 3600_000;

/** Packs that were read lately, open. One that was removed meanwhile can still be read. */
const openPacks = new Map<string, number>();
const OPEN_PACKS = 32;

function openPack(path: string): number {
  const open = openPacks.get(path);
  if (open !== undefined) return open;
  for (const [oldest, file] of openPacks) {
    if (openPacks.size < OPEN_PACKS) break;
    closeSync(file);
    openPacks.delete(oldest);
  }
  const file = openSync(path, 'r');
  openPacks.set(path, file);
  return file;
}

const purposeOf = (pack: string): string => `index ${pack}`;

/**
 * What an index says; undefined where it is damaged, or gone since somebody wrote its pack anew. It is sealed, since it names
 * blobs by their content, which would confirm whoever guesses what is in them.
 */
async function indexText(path: string, key: Buffer): Promise<string | undefined> {
  const pack = basename(path, '.index');
  const stored = await fs.readFile(path).catch((error: NodeJS.ErrnoException) => {
    if (error.code === 'ENOENT') return undefined;
    throw fileError(error, path);
  });
  if (!stored) return undefined;
  const opened = openBytes(key, purposeOf(pack), stored)?.toString();
  if (opened !== undefined) return opened;
  // Those of former versions were not sealed; whatever one says, a blob is checked against its name when it is read.
  return /^[\da-f]{64} \d+ /.test(stored.toString('latin1', 0, 80)) ? stored.toString() : undefined;
}

/** The blobs of a pack; undefined where its index is damaged or gone. */
async function packIndex(path: string, key: Buffer): Promise<readonly [string, Spot][] | undefined> {
  const pack = basename(path, '.index');
  const text = await indexText(path, key);
  if (text === undefined) return undefined;
  const spots: [string, Spot][] = [];
  for (const line of text.split('\n')) {
    const [hash, offset, stored, size, how] = line.split(' ');
    if (hash)
      spots.push([
        hash,
        { pack, offset: Number(offset), stored: Number(stored), size: Number(size), deflated: how === 'deflate' },
      ]);
  }
  return spots;
}

/** The places of all blobs that a folder holds now. */
async function openIndex(folder: string, key: Buffer): Promise<Map<string, Spot>> {
  const names = (await fs.readdir(folder)).flatMap((name) =>
    name.endsWith('.index') ? [basename(name, '.index')] : [],
  );
  const there = new Set(names);
  const open = openIndexes.get(folder);
  // Packs are only removed where their blobs have been written anew, or are named by nobody.
  const isWhole = open?.key.equals(key) === true && [...open.packs].every((pack) => there.has(pack));
  const index = isWhole ? open : { key, packs: new Set<string>(), spots: new Map<string, Spot>() };
  for (const pack of names) {
    if (index.packs.has(pack)) continue;
    const spots = await packIndex(join(folder, `${pack}.index`), key);
    // Its blobs are missed by name when they are wanted, and stored anew by whoever has their content; the others go on.
    if (!spots) continue;
    for (const [hash, spot] of spots) index.spots.set(hash, spot);
    index.packs.add(pack);
  }
  openIndexes.delete(folder);
  openIndexes.set(folder, index);
  let spots = 0;
  for (const [path, one] of [...openIndexes].reverse()) {
    spots += one.spots.size;
    if (spots > MOST_OPEN_SPOTS && one !== index) openIndexes.delete(path);
  }
  return index.spots;
}

/** Small blobs that were read lately, by folder and hash, the last one last: what is compared is often compared again. */
const recentBlobs = new Map<string, Buffer>();
const RECENT_BYTES = 24 * 1024 * 1024;
const SMALL_BYTES = 64 * 1024;
let recentBytes = 0;

function keepRecent(name: string, content: Buffer): void {
  if (content.length > SMALL_BYTES || recentBlobs.has(name)) return;
  recentBlobs.set(name, content);
  recentBytes += content.length;
  for (const [oldest, { length }] of recentBlobs) {
    if (recentBytes <= RECENT_BYTES) break;
    recentBlobs.delete(oldest);
    recentBytes -= length;
  }
}

/** What collecting freed. */
export interface Collected {
  readonly blobs: number;
  readonly bytes: number;
}

/**
 * A folder of content-addressed blobs, packed, compressed and encrypted (format in docs/formats.md). One store a
 * site. Writes go to a temporary name and are moved in place once they are on the disk, so that a store is whole at
 * every moment; blobs that no manifest names are freed by {@link collect}.
 */
export class PackStore {
  readonly #folder: string;
  readonly #key: Buffer;
  #index: Map<string, Spot> | undefined;
  #forgetting: Promise<void> = Promise.resolve();

  /** @param key 32 bytes; every blob is encrypted with it (AES-256-CTR, the counter block from the blob's hash) */
  constructor(folder: string, key: Buffer) {
    this.#folder = folder;
    this.#key = key;
  }

  async #spots(): Promise<Map<string, Spot>> {
    if (this.#index) return this.#index;
    const packs = join(this.#folder, 'packs');
    await fs.mkdir(packs, { recursive: true, mode: 0o700 });
    this.#index = await openIndex(packs, this.#key);
    return this.#index;
  }

  /** Packs are written anew while their indexes are read: what is missed is looked for once more. */
  async #spotOf(hash: string): Promise<Spot | undefined> {
    const known = (await this.#spots()).get(hash);
    if (known) return known;
    this.refresh();
    return (await this.#spots()).get(hash);
  }

  async has(hash: string): Promise<boolean> {
    return (await this.#spots()).has(hash);
  }

  /** Opens a writer; blobs become readable when it is closed. */
  async writer(): Promise<PackWriter> {
    return new PackWriter(this.#folder, this.#key, await this.#spots());
  }

  /**
   * Writes blobs that become readable together.
   *
   * @param fill puts them; when it throws, what is not in a finished pack is given up
   * @returns what `fill` returns
   */
  async write<T>(fill: (writer: PackWriter) => Promise<T>): Promise<T> {
    const writer = await this.writer();
    try {
      const result = await fill(writer);
      await writer.close();
      return result;
    } catch (error) {
      await writer.abandon();
      throw error;
    }
  }

  /**
   * Gives a blob that was checked against its hash when it was read, which may be a while ago. Nobody writes to what it
   * gives.
   *
   * @throws {EngineError} `blob-missing`, `blob-damaged`
   */
  async get(hash: string): Promise<Buffer> {
    const name = `${this.#folder} ${hash}`;
    const recent = recentBlobs.get(name);
    if (recent && (await this.has(hash))) return recent;
    const content = await this.read(hash);
    keepRecent(name, content);
    return content;
  }

  /** Reads a blob from the disk and checks it against its hash. @throws {EngineError} `blob-missing`, `blob-damaged` */
  async read(hash: string): Promise<Buffer> {
    const spot = await this.#spotOf(hash);
    if (!spot)
      throw new EngineError('blob-missing', `The store has no blob ${hash}.`, 'Verify the snapshots of this site.');
    const content = decode(await this.#stored(hash, spot), hash, spot, this.#key);
    if (content) return content;
    // Known as it is, it would never be stored again: what has the same content heals everything that names it.
    await this.#forget(hash);
    throw new EngineError(
      'blob-damaged',
      `Blob ${hash} in pack ${spot.pack} is damaged.`,
      'Do it once more, or take another snapshot: what is still there is stored anew. Otherwise restore the pack from a backup.',
    );
  }

  /** @throws {EngineError} */
  async #stored(hash: string, spot: Spot): Promise<Buffer> {
    const bytes = (at: Spot): Buffer => {
      const stored = Buffer.alloc(at.stored);
      // Without the thread pool, whose hand-overs cost more than reading a block.
      readSync(openPack(join(this.#folder, 'packs', `${at.pack}.pack`)), stored, 0, at.stored, at.offset);
      return stored;
    };
    try {
      return bytes(spot);
    } catch (error) {
      // Packs are written anew without what nobody names any more, also while somebody reads.
      this.refresh();
      const now = (await this.#spots()).get(hash);
      if (!now || now.pack === spot.pack) throw fileError(error, `pack ${spot.pack}`);
      return bytes(now);
    }
  }

  /** All blobs and the bytes they take up on disk. */
  async list(): Promise<Map<string, number>> {
    return new Map([...(await this.#spots())].map(([hash, spot]) => [hash, spot.stored]));
  }

  /**
   * Frees every blob that is not in `keep`, by writing the packs that hold one anew without it. Packs younger than
   * `sparedSince` are left alone: a writer may still be at work on what names them.
   */
  async collect(keep: ReadonlySet<string>, sparedSince: Date): Promise<Collected> {
    const spots = await this.#spots();
    const byPack = new Map<string, [string, Spot][]>();
    for (const entry of spots) addTo(byPack, entry[1].pack, entry);
    let freed: Collected = { blobs: 0, bytes: 0 };
    for (const [pack, entries] of byPack) {
      const dead = entries.filter(([hash]) => !keep.has(hash));
      if (dead.length === 0) continue;
      if ((await fs.stat(join(this.#folder, 'packs', `${pack}.pack`))).mtime >= sparedSince) continue;
      await this.#rewrite(pack, entries, (hash) => keep.has(hash));
      for (const [, spot] of dead) freed = { blobs: freed.blobs + 1, bytes: freed.bytes + spot.stored };
    }
    return freed;
  }

  /**
   * Joins small packs, of which every transfer leaves one, so that a store that has seen many is opened as quickly as a new
   * one; and removes what writers that died have left. No blob goes. Nobody else may write packs anew meanwhile.
   *
   * @returns how many packs there are fewer
   */
  async compact(): Promise<number> {
    this.refresh();
    await this.#removeLeft();
    const folder = join(this.#folder, 'packs');
    const small: { path: string; entries: readonly [string, Spot][] }[] = [];
    for (const name of await fs.readdir(folder).catch(() => [] as string[])) {
      if (!name.endsWith('.index')) continue;
      const entries = (await packIndex(join(folder, name), this.#key)) ?? [];
      const bytes = entries.reduce((sum, [, spot]) => sum + spot.stored, 0);
      // What is not understood stays as it is, for whoever can still read something in it.
      if (entries.length > 0 && bytes < SMALL_PACK_BYTES)
        small.push({ path: join(folder, name.slice(0, -6)), entries });
    }
    if (small.length < MOST_SMALL_PACKS) return 0;
    const writer = new PackWriter(this.#folder, this.#key, new Map());
    const put = new Set<string>();
    const joined: string[] = [];
    for (const { path, entries } of small) {
      const content = await fs.readFile(`${path}.pack`).catch(() => undefined);
      const storedAs = ({ offset, stored }: Spot): Buffer => (content as Buffer).subarray(offset, offset + stored);
      // One that is damaged, or of which the index alone is left, stays as it is: its blobs are missed by name when they are wanted.
      if (!content || entries.some(([hash, spot]) => !decode(storedAs(spot), hash, spot, this.#key))) continue;
      for (const [hash, spot] of entries) {
        if (put.has(hash)) continue;
        put.add(hash);
        await writer.putStored(hash, storedAs(spot), spot);
      }
      joined.push(path);
    }
    const made = new Set([...(await writer.close()).values()].map((spot) => spot.pack));
    for (const path of joined) for (const end of ['index', 'pack']) await fs.rm(`${path}.${end}`);
    this.refresh();
    return joined.length - made.size;
  }

  /** Removes what no index names, and was written too long ago for anybody to be at it still. */
  async #removeLeft(): Promise<void> {
    const folder = join(this.#folder, 'packs');
    const names = new Set(await fs.readdir(folder).catch(() => [] as string[]));
    for (const name of names) {
      const isLeft = name.endsWith('.new') || (name.endsWith('.pack') && !names.has(name.replace(/pack$/, 'index')));
      if (!isLeft) continue;
      const { mtimeMs } = await fs.stat(join(folder, name)).catch(() => ({ mtimeMs: Number.NaN }));
      if (Date.now() - mtimeMs > LEFT_MS) await fs.rm(join(folder, name), { force: true });
    }
  }

  /**
   * Lets a damaged blob be unknown, and whatever else is damaged in its pack, so that it is stored again when somebody has it.
   * The pack is kept as it is in a folder beside the others, for whoever can still read something in it.
   */
  #forget(hash: string): Promise<void> {
    const done = this.#forgetting.then(async () => {
      this.refresh();
      const spots = await this.#spots();
      const pack = spots.get(hash)?.pack;
      if (pack === undefined) return;
      const path = join(this.#folder, 'packs', pack);
      const aside = join(this.#folder, 'damaged');
      await fs.mkdir(aside, { recursive: true, mode: 0o700 });
      for (const end of ['pack', 'index']) await fs.copyFile(`${path}.${end}`, join(aside, `${pack}.${end}`));
      const entries = [...spots].filter(([, spot]) => spot.pack === pack);
      const content = await fs.readFile(`${path}.pack`);
      const isWhole = ([one, spot]: [string, Spot]): boolean =>
        decode(content.subarray(spot.offset, spot.offset + spot.stored), one, spot, this.#key) !== undefined;
      const whole = new Set(entries.filter(isWhole).map(([one]) => one));
      await this.#rewrite(pack, entries, (one) => one !== hash && whole.has(one));
    });
    // Another process may have been quicker.
    this.#forgetting = done.catch((error: NodeJS.ErrnoException) => {
      if (error.code !== 'ENOENT') throw error;
    });
    return this.#forgetting;
  }

  /** Writes a pack anew without some of its blobs, under another name: what is known of one never changes. */
  async #rewrite(pack: string, entries: readonly [string, Spot][], isKept: (hash: string) => boolean): Promise<void> {
    const spots = await this.#spots();
    const path = join(this.#folder, 'packs', pack);
    const content = await fs.readFile(`${path}.pack`);
    const writer = new PackWriter(this.#folder, this.#key, new Map());
    for (const [hash, spot] of entries)
      if (isKept(hash)) await writer.putStored(hash, content.subarray(spot.offset, spot.offset + spot.stored), spot);
    const written = await writer.close();
    // In one go: others read by the same index meanwhile.
    for (const [hash, spot] of entries) if (spots.get(hash) === spot) spots.delete(hash);
    for (const [hash, spot] of written) spots.set(hash, spot);
    await fs.rm(`${path}.index`);
    await fs.rm(`${path}.pack`);
  }

  /** Forgets the index, so that packs written by other processes are seen. */
  refresh(): void {
    this.#index = undefined;
  }
}

/** Gathers blobs into packs of about 8 MiB. Several blobs may be put at once; they are appended one by one. */
export class PackWriter {
  readonly #folder: string;
  readonly #key: Buffer;
  readonly #known: Map<string, Spot>;
  readonly #written = new Map<string, Spot>();
  #open: { name: string; file: fs.FileHandle } | undefined;
  #buffer: Buffer[] = [];
  #buffered = 0;
  #offset = 0;
  #spots = new Map<string, Spot>();
  readonly #promised = new Set<string>();
  #tail: Promise<void> = Promise.resolve();
  #isAbandoned = false;
  /** Bytes on disk that this writer added. */
  addedBytes = 0;

  constructor(folder: string, key: Buffer, known: Map<string, Spot>) {
    this.#folder = folder;
    this.#key = key;
    this.#known = known;
  }

  /** Adds content and returns its hash; content that the store has already costs only the hash. */
  async put(content: Uint8Array): Promise<string> {
    const hash = createHash('sha256').update(content).digest('hex');
    if (this.#known.has(hash) || this.#promised.has(hash)) return hash;
    this.#promised.add(hash);
    const packed =
      content.length > 64 && isCompressible(content) ? await deflateOffThread(content, { level: 1 }) : content;
    const deflated = packed.length < content.length;
    const stored = crypt(deflated ? packed : content, hash, this.#key, true);
    await this.putStored(hash, stored, { size: content.length, deflated });
    return hash;
  }

  /** Adds a blob as another pack stored it. */
  putStored(hash: string, stored: Buffer, spot: { size: number; deflated: boolean }): Promise<void> {
    const done = this.#tail.then(() => this.#append(hash, stored, spot));
    this.#tail = done.catch(() => undefined);
    return done;
  }

  async #append(hash: string, stored: Buffer, spot: { size: number; deflated: boolean }): Promise<void> {
    if (this.#isAbandoned) return;
    if (!this.#open) await this.#start();
    const open = this.#open as { name: string };
    this.#spots.set(hash, {
      pack: open.name,
      offset: this.#offset,
      stored: stored.length,
      size: spot.size,
      deflated: spot.deflated,
    });
    this.#buffer.push(stored);
    this.#buffered += stored.length;
    this.#offset += stored.length;
    this.addedBytes += stored.length;
    if (this.#buffered >= 1024 * 1024) await this.#flush();
    if (this.#offset >= PACK_BYTES) await this.#finish();
  }

  async #start(): Promise<void> {
    const name = randomUUID();
    await fs.mkdir(join(this.#folder, 'packs'), { recursive: true, mode: 0o700 });
    try {
      this.#open = { name, file: await fs.open(join(this.#folder, 'packs', `${name}.pack.new`), 'wx', 0o600) };
    } catch (error) {
      throw fileError(error, `pack ${name}`);
    }
    this.#offset = 0;
    this.#spots = new Map();
  }

  async #flush(): Promise<void> {
    const buffers = this.#buffer;
    this.#buffer = [];
    this.#buffered = 0;
    try {
      await this.#open?.file.writev(buffers);
    } catch (error) {
      throw fileError(error, 'the blob store');
    }
  }

  async #finish(): Promise<void> {
    if (!this.#open) return;
    await this.#flush();
    const { name, file } = this.#open;
    const path = join(this.#folder, 'packs', name);
    try {
      await file.datasync();
      await file.close();
      const lines = [...this.#spots].map(
        ([hash, spot]) => `${hash} ${spot.offset} ${spot.stored} ${spot.size} ${spot.deflated ? 'deflate' : 'plain'}\n`,
      );
      const index = await fs.open(`${path}.index.new`, 'wx', 0o600);
      await index.writeFile(sealBytes(this.#key, purposeOf(name), Buffer.from(lines.join(''))));
      await index.datasync();
      await index.close();
      await fs.rename(`${path}.pack.new`, `${path}.pack`);
      await fs.rename(`${path}.index.new`, `${path}.index`);
    } catch (error) {
      throw fileError(error, 'the blob store');
    }
    for (const [hash, spot] of this.#spots) {
      this.#written.set(hash, spot);
      this.#known.set(hash, spot);
    }
    this.#open = undefined;
    this.#spots = new Map();
  }

  /** Moves the last pack in place. @returns everything this writer added */
  async close(): Promise<ReadonlyMap<string, Spot>> {
    await this.#tail;
    await this.#finish();
    return this.#written;
  }

  /** Gives up what is not in a finished pack. */
  async abandon(): Promise<void> {
    this.#isAbandoned = true;
    await this.#tail;
    if (!this.#open) return;
    await this.#open.file.close();
    await fs.rm(join(this.#folder, 'packs', `${this.#open.name}.pack.new`), { force: true });
    this.#open = undefined;
  }
}

function crypt(content: Uint8Array, hash: string, key: Buffer, encrypt: boolean): Buffer {
  const counter = Buffer.from(hash.slice(0, 32), 'hex');
  const cipher = encrypt ? createCipheriv('aes-256-ctr', key, counter) : createDecipheriv('aes-256-ctr', key, counter);
  return Buffer.concat([cipher.update(content), cipher.final()]);
}

function decode(stored: Buffer, hash: string, spot: Spot, key: Buffer): Buffer | undefined {
  try {
    const packed = crypt(stored, hash, key, false);
    const content = spot.deflated ? inflateRawSync(packed, { maxOutputLength: Math.max(1, spot.size) }) : packed;
    return createHash('sha256').update(content).digest('hex') === hash ? content : undefined;
  } catch {
    return undefined;
  }
}

/** Tries a sample from the middle: pictures and archives do not shrink, and trying them whole costs the most. */
function isCompressible(content: Uint8Array): boolean {
  if (content.length < 64 * 1024) return true;
  const middle = content.length >> 1;
  const sample = content.subarray(middle - 1024, middle + 1024);
  return deflateRawSync(sample, { level: 1 }).length < 1900;
}
