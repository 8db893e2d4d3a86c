import { createCipheriv, createDecipheriv, createHmac, randomBytes } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { writeWhole } from '@tessarion/cluster';
import { openBytes, sealBytes } from '@tessarion/engine';

const MASTER_KEY = 'master.key';
/** Holds the inner key, sealed under the master key: a line for each master key that opens it (docs/formats.md). */
const SEALED_KEY = 'inner.key';
const PURPOSE = 'inner key';

/**
 * What secrets at rest are encrypted with: keys derived from the installation's inner key, which is made once and lies sealed
 * under the master key, so that this can be exchanged without touching anything else.
 */
export class Keys {
  readonly #inner: Buffer;

  private constructor(
    inner: Buffer,
    /** Tells one master key from another, and nothing of either. */
    readonly masterMark: string,
  ) {
    this.#inner = inner;
  }

  /**
   * @param folder the data folder, where keys are made when there are none
   * @param isNew whether nothing was sealed there before
   * @throws where there is no master key, or it is another one
   */
  static async open(folder: string, isNew: boolean): Promise<Keys> {
    const sealed = await readSealed(folder);
    const master = await masterKey(folder, isNew && sealed === undefined);
    const mark = createHmac('sha256', master).update('the mark of a master key').digest('hex');
    if (sealed !== undefined) return new Keys(await openSealed(folder, sealed, master), mark);
    // What was written before there were inner keys was written with the master key itself.
    const inner = isNew ? randomBytes(KEY_BYTES) : master;
    await writeSealed(folder, [sealBytes(master, PURPOSE, inner)]);
    return new Keys(inner, mark);
  }

  /** By which the records know whether they are read with the key that they were written with. */
  get mark(): string {
    return this.derive('the mark of the master key').toString('hex');
  }

  /** A key for one purpose. */
  derive(purpose: string): Buffer {
    return createHmac('sha256', this.#inner).update(purpose).digest();
  }

  encrypt(text: string): string {
    return sealWith(this.derive('secrets'), text);
  }

  decrypt(sealed: string): string {
    return openWith(this.derive('secrets'), sealed);
  }
}

/**
 * Exchanges the master key. Whatever moment it is broken off at, the former one or the new one opens the inner key; once
 * the new one has, the former one opens nothing any more.
 *
 * @param to a file that holds the new one, where the master key is kept elsewhere; without it, one is made in its place
 * @returns the file that holds the new one
 * @throws where the present one does not open the inner key, or the new one is none
 */
export async function exchangeMasterKey(folder: string, to?: string): Promise<string> {
  const own = join(folder, MASTER_KEY);
  if (to === undefined && elsewhere() !== undefined)
    throw new Error(`The master key is kept in ${elsewhere()}: make a new one beside it, and name that file.`);
  const sealed = await readSealed(folder);
  if (sealed === undefined) throw new Error(`${folder} holds no ${SEALED_KEY}: start the service with it once.`);
  const master = await masterKey(folder, false);
  const inner = await openSealed(folder, sealed, master);
  const next = to === undefined ? randomBytes(KEY_BYTES) : readKey(to, await fs.readFile(to, 'utf8'));
  if (next.equals(master)) throw new Error(`${to} holds the present master key: make another one.`);
  await writeSealed(folder, [sealBytes(master, PURPOSE, inner), sealBytes(next, PURPOSE, inner)]);
  if (to !== undefined) return to;
  await writeWhole(own, next.toString('hex'));
  await writeSealed(folder, [sealBytes(next, PURPOSE, inner)]);
  return own;
}

/** Whether a file holds the master key of a data folder, such as one that is kept for the worst. */
export async function isMasterKey(folder: string, file: string): Promise<boolean> {
  const key = readKey(file, await fs.readFile(file, 'utf8'));
  const sealed = await readSealed(folder);
  if (sealed === undefined) throw new Error(`${folder} holds no ${SEALED_KEY}.`);
  return sealed.some((one) => openBytes(key, PURPOSE, one) !== undefined);
}

const KEY_BYTES = 32;
const elsewhere = (): string | undefined => process.env.TESSARION_KEY_FILE || undefined;

const isThere = (file: string): Promise<boolean> =>
  fs.stat(file).then(
    () => true,
    (error: NodeJS.ErrnoException) => {
      if (error.code === 'ENOENT') return false;
      throw error;
    },
  );

/** @param mayMake whether one is made where there is none */
async function masterKey(folder: string, mayMake: boolean): Promise<Buffer> {
  const named = elsewhere();
  const file = named ?? join(folder, MASTER_KEY);
  if (named === undefined && mayMake && !(await isThere(file)))
    await writeWhole(file, randomBytes(KEY_BYTES).toString('hex'));
  const text = await fs.readFile(file, 'utf8').catch((error: NodeJS.ErrnoException) => {
    if (error.code !== 'ENOENT') throw error;
    throw new Error(
      `The master key is not there: ${file}. Put it back from where it is kept${named === undefined ? ', or name that file in TESSARION_KEY_FILE' : ''}.`,
    );
  });
  return readKey(file, text);
}

function readKey(file: string, text: string): Buffer {
  if (!/^[\da-f]{64}$/i.test(text.trim()))
    throw new Error(`${file} holds no master key, which is 64 hexadecimal digits. Put it back from where it is kept.`);
  return Buffer.from(text.trim(), 'hex');
}

async function readSealed(folder: string): Promise<Buffer[] | undefined> {
  const text = await fs.readFile(join(folder, SEALED_KEY), 'utf8').catch((error: NodeJS.ErrnoException) => {
    if (error.code === 'ENOENT') return undefined;
    throw error;
  });
  return text
    ?.split('\n')
    .filter((line) => line !== '')
    .map((line) => Buffer.from(line, 'hex'));
}

/** Opens the inner key; where the newest master key does, what former ones open is taken away. */
async function openSealed(folder: string, sealed: readonly Buffer[], master: Buffer): Promise<Buffer> {
  const at = sealed.findIndex((one) => openBytes(master, PURPOSE, one) !== undefined);
  const inner = at < 0 ? undefined : openBytes(master, PURPOSE, sealed[at] as Buffer);
  if (inner?.length !== KEY_BYTES)
    throw new Error(
      `What lies in ${folder} was written with another master key. Put that one back (docs/security.md), or name the data folder that belongs to this one.`,
    );
  if (at > 0) await writeSealed(folder, [sealed[at] as Buffer]);
  return inner;
}

const writeSealed = (folder: string, sealed: readonly Buffer[]): Promise<void> =>
  writeWhole(join(folder, SEALED_KEY), sealed.map((one) => `${one.toString('hex')}\n`).join(''));

/** AES-256-GCM: nonce, tag and what is sealed, in base64. @param key 32 bytes */
export function sealWith(key: Buffer, text: string): string {
  const nonce = randomBytes(12);
  const cipher = createCipheriv('aes-256-gcm', key, nonce);
  const sealed = Buffer.concat([cipher.update(text, 'utf8'), cipher.final()]);
  return Buffer.concat([nonce, cipher.getAuthTag(), sealed]).toString('base64');
}

/** @throws when it was sealed with another key, or changed since */
export function openWith(key: Buffer, sealed: string): string {
  const bytes = Buffer.from(sealed, 'base64');
  const decipher = createDecipheriv('aes-256-gcm', key, bytes.subarray(0, 12));
  decipher.setAuthTag(bytes.subarray(12, 28));
  return Buffer.concat([decipher.update(bytes.subarray(28)), decipher.final()]).toString('utf8');
}
