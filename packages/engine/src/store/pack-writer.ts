import { createHash, randomUUID } from 'node:crypto';
import type { NewObject, ObjectStore } from '../ports/objects.js';
import { encodeBlob, indexName, packName, type Spot, type Stored, writeIndex } from './pack-format.js';

const PACK_BYTES = 8 * 1024 * 1024;
const WRITE_BYTES = 1024 * 1024;

/** Gathers blobs into packs of about 8 MiB. Several blobs may be put at once; they are appended one by one. */
export class PackWriter {
  readonly #objects: ObjectStore;
  readonly #key: Buffer;
  readonly #known: Map<string, Spot>;
  readonly #written = new Map<string, Spot>();
  #open: { readonly name: string; readonly object: NewObject } | undefined;
  #buffer: Buffer[] = [];
  #buffered = 0;
  #offset = 0;
  #spots = new Map<string, Spot>();
  readonly #promised = new Set<string>();
  #tail: Promise<void> = Promise.resolve();
  #isAbandoned = false;
  /** Bytes in the store that this writer added. */
  addedBytes = 0;

  /** @param known blobs that need not be written; those that are come to it */
  constructor(objects: ObjectStore, key: Buffer, known: Map<string, Spot>) {
    this.#objects = objects;
    this.#key = key;
    this.#known = known;
  }

  /** Adds content and returns its hash; content that the store has already costs only the hash. */
  async put(content: Uint8Array): Promise<string> {
    const hash = createHash('sha256').update(content).digest('hex');
    if (this.#known.has(hash) || this.#promised.has(hash)) return hash;
    this.#promised.add(hash);
    const { bytes, ...stored } = await encodeBlob(content, hash, this.#key);
    await this.putStored(hash, bytes, stored);
    return hash;
  }

  /** Adds a blob as another pack stored it. */
  putStored(hash: string, bytes: Buffer, stored: Stored): Promise<void> {
    const done = this.#tail.then(() => this.#append(hash, bytes, stored));
    this.#tail = done.catch(() => undefined);
    return done;
  }

  async #append(hash: string, bytes: Buffer, { size, deflated }: Stored): Promise<void> {
    if (this.#isAbandoned) return;
    this.#open ??= await this.#begin();
    this.#spots.set(hash, { pack: this.#open.name, offset: this.#offset, stored: bytes.length, size, deflated });
    this.#buffer.push(bytes);
    this.#buffered += bytes.length;
    this.#offset += bytes.length;
    this.addedBytes += bytes.length;
    if (this.#buffered >= WRITE_BYTES) await this.#flush();
    if (this.#offset >= PACK_BYTES) await this.#finish();
  }

  async #begin(): Promise<{ readonly name: string; readonly object: NewObject }> {
    const name = randomUUID();
    this.#offset = 0;
    this.#spots = new Map();
    return { name, object: await this.#objects.create(packName(name)) };
  }

  async #flush(): Promise<void> {
    const pieces = this.#buffer;
    this.#buffer = [];
    this.#buffered = 0;
    if (pieces.length > 0) await this.#open?.object.append(pieces);
  }

  /** The pack comes before its index: one that nobody can read yet is in nobody's way. */
  async #finish(): Promise<void> {
    if (!this.#open) return;
    await this.#flush();
    const { name, object } = this.#open;
    await object.finish();
    await this.#objects.put(indexName(name), writeIndex(name, this.#key, this.#spots));
    for (const [hash, spot] of this.#spots) {
      this.#written.set(hash, spot);
      this.#known.set(hash, spot);
    }
    this.#open = undefined;
    this.#spots = new Map();
  }

  /** Lets the last pack be there. @returns everything this writer added */
  async close(): Promise<ReadonlyMap<string, Spot>> {
    await this.#tail;
    await this.#finish();
    return this.#written;
  }

  /** Gives up what is not in a finished pack. */
  async abandon(): Promise<void> {
    this.#isAbandoned = true;
    await this.#tail;
    await this.#open?.object.abandon();
    this.#open = undefined;
  }
}
