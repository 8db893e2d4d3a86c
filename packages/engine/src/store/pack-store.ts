import { addTo } from '@tessarion/core';
import { EngineError } from '../ports/errors.js';
import type { ObjectStore } from '../ports/objects.js';
import { decodeBlob, indexName, PACKS, packName, packsIn, readIndex, type Spot } from './pack-format.js';
import { openIndex, placeOf } from './pack-index.js';
import { PackWriter } from './pack-writer.js';

/** Packs below this are small, and so many of them are joined. */
const SMALL_PACK_BYTES = 1024 * 1024;
const MOST_SMALL_PACKS = 64;
/** Nobody writes to a pack for so long. */
const LEFT_MS = 24 * 3600_000;

/** The group in which damaged packs are kept. */
const DAMAGED = 'damaged';

/** Small blobs that were read lately, by store and hash, the last one last: what is compared is often compared again. */
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
 * Content-addressed blobs, packed, compressed and encrypted (format in docs/formats.md), in a store of objects. One a site.
 * A pack is there once it is whole, so that a store is whole at every moment; blobs that no manifest names are freed by
 * {@link collect}.
 */
export class PackStore {
  readonly #objects: ObjectStore;
  readonly #key: Buffer;
  #index: Map<string, Spot> | undefined;
  #forgetting: Promise<void> = Promise.resolve();

  /** @param key 32 bytes; every blob is encrypted with it (AES-256-CTR, the counter block from the blob's hash) */
  constructor(objects: ObjectStore, key: Buffer) {
    this.#objects = objects;
    this.#key = key;
  }

  async #spots(): Promise<Map<string, Spot>> {
    this.#index ??= await openIndex(this.#objects, this.#key);
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
    return new PackWriter(this.#objects, this.#key, await this.#spots());
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
    const name = `${placeOf(this.#objects)} ${hash}`;
    const recent = recentBlobs.get(name);
    if (recent && (await this.has(hash))) return recent;
    const content = await this.read(hash);
    keepRecent(name, content);
    return content;
  }

  /** Reads a blob from where it lies and checks it against its hash. @throws {EngineError} `blob-missing`, `blob-damaged` */
  async read(hash: string): Promise<Buffer> {
    const spot = await this.#spotOf(hash);
    if (!spot)
      throw new EngineError('blob-missing', `The store has no blob ${hash}.`, 'Verify the snapshots of this site.');
    const content = decodeBlob(await this.#stored(hash, spot), hash, spot, this.#key);
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
    const bytes = (at: Spot): Buffer | Promise<Buffer> => this.#objects.part(packName(at.pack), at.offset, at.stored);
    try {
      return await bytes(spot);
    } catch (error) {
      // Packs are written anew without what nobody names any more, also while somebody reads.
      this.refresh();
      const now = (await this.#spots()).get(hash);
      if (!now || now.pack === spot.pack) throw error;
      return bytes(now);
    }
  }

  /** All blobs and the bytes they take up. */
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
      const finished = await this.#objects.changedAt(packName(pack));
      if (!finished || finished >= sparedSince) continue;
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
    const small: { pack: string; entries: readonly [string, Spot][] }[] = [];
    for (const pack of packsIn(await this.#objects.list(PACKS))) {
      const stored = await this.#objects.get(indexName(pack));
      const entries = (stored && readIndex(pack, this.#key, stored)) ?? [];
      const bytes = entries.reduce((sum, [, spot]) => sum + spot.stored, 0);
      // What is not understood stays as it is, for whoever can still read something in it.
      if (entries.length > 0 && bytes < SMALL_PACK_BYTES) small.push({ pack, entries });
    }
    if (small.length < MOST_SMALL_PACKS) return 0;
    const writer = new PackWriter(this.#objects, this.#key, new Map());
    const put = new Set<string>();
    const joined: string[] = [];
    for (const { pack, entries } of small) {
      const content = await this.#objects.get(packName(pack));
      const storedAs = ({ offset, stored }: Spot): Buffer => (content as Buffer).subarray(offset, offset + stored);
      // One that is damaged, or of which the index alone is left, stays as it is: its blobs are missed by name when they are wanted.
      if (!content || entries.some(([hash, spot]) => !decodeBlob(storedAs(spot), hash, spot, this.#key))) continue;
      for (const [hash, spot] of entries) {
        if (put.has(hash)) continue;
        put.add(hash);
        await writer.putStored(hash, storedAs(spot), spot);
      }
      joined.push(pack);
    }
    const made = new Set([...(await writer.close()).values()].map((spot) => spot.pack));
    for (const pack of joined) await this.#removePack(pack);
    this.refresh();
    return joined.length - made.size;
  }

  /** Removes what no index names, and was written too long ago for anybody to be at it still. */
  async #removeLeft(): Promise<void> {
    const before = new Date(Date.now() - LEFT_MS);
    await this.#objects.removeUnfinished(PACKS, before);
    const names = await this.#objects.list(PACKS);
    const known = new Set(packsIn(names).map(packName));
    for (const name of names.map((one) => `${PACKS}/${one}`)) {
      if (!name.endsWith('.pack') || known.has(name)) continue;
      const finished = await this.#objects.changedAt(name);
      if (finished && finished < before) await this.#objects.remove(name);
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
      for (const name of [packName(pack), indexName(pack)])
        await this.#objects.copy(name, name.replace(PACKS, DAMAGED));
      const entries = [...spots].filter(([, spot]) => spot.pack === pack);
      const content = await this.#contentOf(pack);
      const isWhole = ([one, spot]: [string, Spot]): boolean =>
        decodeBlob(content.subarray(spot.offset, spot.offset + spot.stored), one, spot, this.#key) !== undefined;
      const whole = new Set(entries.filter(isWhole).map(([one]) => one));
      await this.#rewrite(pack, entries, (one) => one !== hash && whole.has(one));
    });
    // Another process may have been quicker.
    this.#forgetting = done.catch((error: unknown) => {
      if (!(error instanceof EngineError && error.code === 'file-gone')) throw error;
    });
    return this.#forgetting;
  }

  /** Writes a pack anew without some of its blobs, under another name: what is known of one never changes. */
  async #rewrite(pack: string, entries: readonly [string, Spot][], isKept: (hash: string) => boolean): Promise<void> {
    const spots = await this.#spots();
    const content = await this.#contentOf(pack);
    const writer = new PackWriter(this.#objects, this.#key, new Map());
    for (const [hash, spot] of entries)
      if (isKept(hash)) await writer.putStored(hash, content.subarray(spot.offset, spot.offset + spot.stored), spot);
    const written = await writer.close();
    // In one go: others read by the same index meanwhile.
    for (const [hash, spot] of entries) if (spots.get(hash) === spot) spots.delete(hash);
    for (const [hash, spot] of written) spots.set(hash, spot);
    await this.#removePack(pack);
  }

  /** @throws {EngineError} `file-gone` */
  async #contentOf(pack: string): Promise<Buffer> {
    const content = await this.#objects.get(packName(pack));
    if (content) return content;
    throw new EngineError('file-gone', `Pack ${pack} is not there any more.`, 'Run it again.');
  }

  /** Its index goes first: what no index names is nobody's. */
  async #removePack(pack: string): Promise<void> {
    await this.#objects.remove(indexName(pack));
    await this.#objects.remove(packName(pack));
  }

  /** Forgets the index, so that packs written by other processes are seen. */
  refresh(): void {
    this.#index = undefined;
  }
}
