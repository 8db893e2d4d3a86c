import { createCipheriv, createDecipheriv, randomBytes } from 'node:crypto';
import { closeSync, fdatasyncSync, openSync, writeSync } from 'node:fs';
import * as fs from 'node:fs/promises';
import type {
  ByteString,
  ColumnTreatment,
  Place,
  RootManifest,
  SequenceManifest,
  TableManifest,
} from '@tessarion/core';
import { EngineError, fileError } from '../ports/errors.js';

/**
 * What a copy was made from, in the order in which it was read. Bytes that follow an event belong to it: the schema of
 * a database (before, then after), the rows of a table, the content of a translated file.
 */
export type SpoolEvent =
  | {
      readonly is: 'database';
      readonly name: string;
      readonly server: string;
      readonly extensions: readonly string[];
      readonly sequences: readonly SequenceManifest[];
    }
  | {
      readonly is: 'table';
      readonly shape: Omit<TableManifest, 'rows' | 'bytes' | 'blocks' | 'contents'>;
      readonly contents: 'rows' | 'structure';
      /** Set where the rows lie here as the source wrote them; otherwise they are canonical already. */
      readonly written?: { readonly place: Place; readonly columns: readonly ColumnTreatment[] };
      /** The copy holds other rows than the source: masked ones, and fewer. */
      readonly isMasked: boolean;
    }
  | { readonly is: 'root'; readonly name: RootManifest['name'] }
  | { readonly is: 'folder'; readonly path: ByteString; readonly mode: number }
  | { readonly is: 'link'; readonly path: ByteString; readonly target: ByteString }
  | {
      readonly is: 'file';
      readonly path: ByteString;
      readonly mode: number;
      /** Of a file whose content follows, since it was translated. */
      readonly plain?: string | undefined;
      /** Of any other file: where its bytes lie, as long as it has the same identity. */
      readonly at?: readonly { readonly realPath: ByteString; readonly identity: string }[];
    };

/** One thing that a copy has taken down, in the order of the copy; docs/formats.md, "Spools". */
export type SpoolRecord =
  | { readonly type: 'event'; readonly event: SpoolEvent }
  /** `side` tells whose rows these are where the copy's are masked. */
  | { readonly type: 'bytes'; readonly side: 'source' | 'copy'; readonly bytes: Buffer };

const [EVENT, SOURCE_BYTES, COPY_BYTES, END] = [0, 1, 2, 3];
const HEADER = 5;
/** Of a piece, how long it is and its seal. */
const PIECE_HEADER = 4 + 16;
const ID_BYTES = 8;
const FLUSH_BYTES = 1024 * 1024;

/** Pieces of one spool are sealed by where they stand in it: none can be left out, put in or moved. */
function nonceOf(id: Buffer, piece: number): Buffer {
  const nonce = Buffer.alloc(ID_BYTES + 4, id);
  nonce.writeUInt32BE(piece, ID_BYTES);
  return nonce;
}

/**
 * Takes down what a copy is made of while it is made, at the speed of the disk; it is hashed, compressed and packed
 * afterwards. Encrypted and sealed with AES-256-GCM, piece by piece (format in docs/formats.md). Written without the
 * thread pool, like files.
 */
export class SpoolWriter {
  readonly #path: string;
  readonly #file: number;
  readonly #key: Buffer;
  readonly #id = randomBytes(ID_BYTES);
  #pieces = 0;
  readonly #waiting = Buffer.allocUnsafe(FLUSH_BYTES);
  #waitingBytes = 0;
  #isOpen = true;

  /** @param key 32 bytes */
  constructor(path: string, key: Buffer) {
    this.#path = path;
    this.#key = key;
    try {
      this.#file = openSync(path, 'w', 0o600);
      writeSync(this.#file, this.#id);
    } catch (error) {
      throw fileError(error, path);
    }
  }

  event(event: SpoolEvent): void {
    this.#record(EVENT, Buffer.from(JSON.stringify(event)).toString('latin1'));
  }

  bytes(bytes: ByteString | Buffer, side: 'source' | 'copy' = 'source'): void {
    this.#record(side === 'source' ? SOURCE_BYTES : COPY_BYTES, bytes);
  }

  /** Gathers records in one piece of memory: fresh buffers for each would cost more than all the rest. */
  #record(kind: number, payload: ByteString | Buffer): void {
    const bytes = HEADER + payload.length;
    if (this.#waitingBytes + bytes > FLUSH_BYTES) this.#flush();
    const header = Buffer.allocUnsafe(HEADER);
    header.writeUInt32BE(payload.length, 0);
    header.writeUInt8(kind, 4);
    if (bytes > FLUSH_BYTES) {
      this.#write(header);
      this.#write(typeof payload === 'string' ? Buffer.from(payload, 'latin1') : payload);
      return;
    }
    header.copy(this.#waiting, this.#waitingBytes);
    const at = this.#waitingBytes + HEADER;
    if (typeof payload === 'string') this.#waiting.write(payload, at, 'latin1');
    else payload.copy(this.#waiting, at);
    this.#waitingBytes += bytes;
  }

  #flush(): void {
    this.#write(this.#waiting.subarray(0, this.#waitingBytes));
    this.#waitingBytes = 0;
  }

  #write(plain: Buffer): void {
    const cipher = createCipheriv('aes-256-gcm', this.#key, nonceOf(this.#id, this.#pieces++));
    const sealed = cipher.update(plain);
    cipher.final();
    const header = Buffer.allocUnsafe(PIECE_HEADER);
    header.writeUInt32BE(sealed.length, 0);
    cipher.getAuthTag().copy(header, 4);
    try {
      writeWhole(this.#file, header);
      writeWhole(this.#file, sealed);
    } catch (error) {
      throw fileError(error, this.#path);
    }
  }

  /** Ends the spool; one without an end was left half-way and is not read. */
  end(): void {
    this.#record(END, '');
    this.#flush();
    this.close();
  }

  /** Lets go of the file, also when the spool is given up. */
  close(): void {
    if (this.#isOpen) closeSync(this.#file);
    this.#isOpen = false;
  }
}

function writeWhole(file: number, bytes: Buffer): void {
  for (let at = 0; at < bytes.length; ) at += writeSync(file, bytes, at);
}

/** Brings a spool to the disk, so that it outlives a loss of power. @throws {EngineError} when it is gone */
export function syncSpool(path: string): void {
  try {
    const file = openSync(path, 'r+');
    try {
      fdatasyncSync(file);
    } finally {
      closeSync(file);
    }
  } catch (error) {
    throw fileError(error, path);
  }
}

/** Reads a spool from its start. @throws {EngineError} `blob-missing`, `blob-damaged` for one that has no end */
export async function* readSpool(path: string, key: Buffer): AsyncGenerator<SpoolRecord> {
  const damaged = (cause?: unknown): EngineError =>
    new EngineError(
      'blob-damaged',
      `The spool ${path} is damaged.`,
      'Make the copy again, so that the two have something in common.',
      cause === undefined ? undefined : { cause },
    );
  const file = await fs.open(path).catch((error: unknown) => {
    throw new EngineError('blob-missing', `The spool ${path} is gone.`, 'Make the copy again.', { cause: error });
  });
  try {
    const { size } = await file.stat();
    const read = async (bytes: number): Promise<Buffer> => {
      if (bytes > size) throw damaged();
      const { bytesRead, buffer } = await file.read(Buffer.allocUnsafe(bytes), 0, bytes);
      if (bytesRead !== bytes) throw damaged();
      return buffer;
    };
    const id = await read(ID_BYTES);
    let pieces = 0;
    let pending: Buffer = Buffer.alloc(0);
    const more = async (bytes: number): Promise<void> => {
      const parts = [pending];
      for (let have = pending.length; have < bytes; ) {
        const header = await read(PIECE_HEADER);
        const decipher = createDecipheriv('aes-256-gcm', key, nonceOf(id, pieces++));
        decipher.setAuthTag(header.subarray(4));
        const piece = decipher.update(await read(header.readUInt32BE(0)));
        try {
          decipher.final();
        } catch (error) {
          throw damaged(error);
        }
        parts.push(piece);
        have += piece.length;
      }
      pending = Buffer.concat(parts);
    };
    for (;;) {
      if (pending.length < HEADER) await more(HEADER);
      const [length, kind] = [pending.readUInt32BE(0), pending.readUInt8(4)];
      if (length > size) throw damaged();
      if (pending.length < HEADER + length) await more(HEADER + length);
      const payload = pending.subarray(HEADER, HEADER + length);
      pending = pending.subarray(HEADER + length);
      if (kind === END) return;
      if (kind === EVENT) yield { type: 'event', event: readEvent(payload, damaged) };
      else if (kind === SOURCE_BYTES || kind === COPY_BYTES)
        yield { type: 'bytes', side: kind === COPY_BYTES ? 'copy' : 'source', bytes: payload };
      else throw damaged();
    }
  } finally {
    await file.close();
  }
}

function readEvent(payload: Buffer, damaged: (cause: unknown) => EngineError): SpoolEvent {
  try {
    return JSON.parse(payload.toString()) as SpoolEvent;
  } catch (error) {
    throw damaged(error);
  }
}
