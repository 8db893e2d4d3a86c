import { createCipheriv, createDecipheriv, createHash } from 'node:crypto';
import { promisify } from 'node:util';
import { deflateRaw, deflateRawSync, inflateRawSync } from 'node:zlib';
import { openBytes, sealBytes } from './sealed.js';

/** How a blob is stored in its pack. */
export interface Stored {
  /** Bytes of its content. */
  readonly size: number;
  readonly deflated: boolean;
}

/** Where a blob lies: in which pack, from which byte, and how long it is there. */
export interface Spot extends Stored {
  readonly pack: string;
  readonly offset: number;
  readonly stored: number;
}

/** The group of a store's objects in which its packs lie. */
export const PACKS = 'packs';

/** The object that holds the blobs of a pack. */
export const packName = (pack: string): string => `${PACKS}/${pack}.pack`;

const INDEX = '.index';

/** The object that says which blobs a pack holds. */
export const indexName = (pack: string): string => `${PACKS}/${pack}${INDEX}`;

/** The packs that have an index, of all names in their group. */
export const packsIn = (names: readonly string[]): string[] =>
  names.flatMap((name) => (name.endsWith(INDEX) ? [name.slice(0, -INDEX.length)] : []));

const purposeOf = (pack: string): string => `index ${pack}`;

/** An index as it is stored: sealed, since it names blobs by their content, which would confirm whoever guesses it. */
export function writeIndex(pack: string, key: Buffer, spots: Iterable<readonly [string, Spot]>): Buffer {
  const lines = Array.from(
    spots,
    ([hash, spot]) => `${hash} ${spot.offset} ${spot.stored} ${spot.size} ${spot.deflated ? 'deflate' : 'plain'}\n`,
  );
  return sealBytes(key, purposeOf(pack), Buffer.from(lines.join('')));
}

/** The blobs of a pack, as its index has them; undefined where that is damaged. */
export function readIndex(pack: string, key: Buffer, stored: Buffer): [string, Spot][] | undefined {
  const text = indexText(pack, key, stored);
  return text
    ?.split('\n')
    .filter((line) => line !== '')
    .map((line) => {
      const [hash, offset, length, size, how] = line.split(' ') as [string, ...string[]];
      const spot = { pack, offset: Number(offset), stored: Number(length), size: Number(size) };
      return [hash, { ...spot, deflated: how === 'deflate' }];
    });
}

function indexText(pack: string, key: Buffer, stored: Buffer): string | undefined {
  const opened = openBytes(key, purposeOf(pack), stored)?.toString();
  if (opened !== undefined) return opened;
  // Those of former versions were not sealed; whatever one says, a blob is checked against its name when it is read.
  return /^[\da-f]{64} \d+ /.test(stored.toString('latin1', 0, 80)) ? stored.toString() : undefined;
}

const deflateOffThread = promisify(deflateRaw) as (content: Uint8Array, options: { level: number }) => Promise<Buffer>;

/**
 * A blob as a pack stores it: smaller where it shrinks, and encrypted (AES-256-CTR, the counter block from its hash).
 *
 * @param key 32 bytes
 */
export async function encodeBlob(
  content: Uint8Array,
  hash: string,
  key: Buffer,
): Promise<Stored & { readonly bytes: Buffer }> {
  const packed =
    content.length > 64 && isCompressible(content) ? await deflateOffThread(content, { level: 1 }) : content;
  const deflated = packed.length < content.length;
  return { bytes: crypt(deflated ? packed : content, hash, key, true), size: content.length, deflated };
}

/** The content of a stored blob; undefined where it is not what its name says. */
export function decodeBlob(stored: Buffer, hash: string, spot: Stored, key: Buffer): Buffer | undefined {
  try {
    const packed = crypt(stored, hash, key, false);
    const content = spot.deflated ? inflateRawSync(packed, { maxOutputLength: Math.max(1, spot.size) }) : packed;
    return createHash('sha256').update(content).digest('hex') === hash ? content : undefined;
  } catch {
    return undefined;
  }
}

function crypt(content: Uint8Array, hash: string, key: Buffer, encrypt: boolean): Buffer {
  const counter = Buffer.from(hash.slice(0, 32), 'hex');
  const cipher = encrypt ? createCipheriv('aes-256-ctr', key, counter) : createDecipheriv('aes-256-ctr', key, counter);
  return Buffer.concat([cipher.update(content), cipher.final()]);
}

/** Tries a sample from the middle: pictures and archives do not shrink, and trying them whole costs the most. */
function isCompressible(content: Uint8Array): boolean {
  if (content.length < 64 * 1024) return true;
  const middle = content.length >> 1;
  const sample = content.subarray(middle - 1024, middle + 1024);
  return deflateRawSync(sample, { level: 1 }).length < 1900;
}
