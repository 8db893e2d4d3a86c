import { createCipheriv, createDecipheriv, createHash, createHmac, randomBytes } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { join, resolve } from 'node:path';

/** The service's own folder: keys, blob stores, run-time files and, where it is private, the records' cluster. */
export class DataFolder {
  private constructor(
    readonly path: string,
    readonly keys: Keys,
  ) {}

  static async open(path: string): Promise<DataFolder> {
    const absolute = resolve(path);
    for (const folder of ['', 'run', 'stores', 'memories', 'changes', 'journal'])
      await fs.mkdir(join(absolute, folder), { recursive: true, mode: folder === '' ? 0o711 : 0o700 });
    return new DataFolder(absolute, await Keys.open(join(absolute, 'master.key')));
  }

  get cluster(): string {
    return join(this.path, 'records');
  }
  store(site: string): string {
    return join(this.path, 'stores', site);
  }
  /** Where a copy's baseline is taken down until it is packed. */
  spool(site: string, id: string): string {
    return join(this.store(site), 'spools', id);
  }
  memory(environmentPath: string): string {
    return join(this.path, 'memories', `${environmentPath.replace('/', '--')}.json`);
  }
  /** What a pair of environments was found unlike in. */
  changes(lower: string, upper: string): string {
    return join(this.path, 'changes', `${lower.replace('/', '--')}+${upper.replace('/', '--')}.json`);
  }
  /** Files that say how far the journal reached: here, and where somebody named in `TESSARION_JOURNAL_HEADS`. */
  get journalHeads(): readonly string[] {
    const elsewhere = process.env.TESSARION_JOURNAL_HEADS;
    return [join(this.path, 'journal', 'heads.jsonl'), ...(elsewhere ? [resolve(elsewhere)] : [])];
  }
  run(name: string): string {
    return join(this.path, 'run', name);
  }
}

/** Secrets at rest: AES-256-GCM under a key that lies outside the records. */
export class Keys {
  readonly #master: Buffer;

  private constructor(master: Buffer) {
    this.#master = master;
  }

  /**
   * @param file where the master key is made when there is none
   * @param elsewhere a file that holds it instead, which somebody else has made
   * @throws where it is none
   */
  static async open(file: string, elsewhere = process.env.TESSARION_KEY_FILE): Promise<Keys> {
    if (elsewhere) return new Keys(masterKey(elsewhere, await fs.readFile(elsewhere, 'utf8')));
    try {
      await fs.writeFile(file, randomBytes(32).toString('hex'), { flag: 'wx', mode: 0o600 });
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw error;
    }
    return new Keys(masterKey(file, await fs.readFile(file, 'utf8')));
  }

  /** By which the records know whether they are read with the key that they were written with. */
  get mark(): string {
    return this.derive('the mark of the master key').toString('hex');
  }

  /** A key for one purpose, derived from the master key. */
  derive(purpose: string): Buffer {
    return createHmac('sha256', this.#master).update(purpose).digest();
  }

  encrypt(text: string): string {
    return sealWith(this.derive('secrets'), text);
  }

  decrypt(sealed: string): string {
    return openWith(this.derive('secrets'), sealed);
  }
}

function masterKey(file: string, text: string): Buffer {
  if (!/^[\da-f]{64}$/i.test(text.trim()))
    throw new Error(`${file} holds no master key, which is 64 hexadecimal digits. Put it back from where it is kept.`);
  return Buffer.from(text.trim(), 'hex');
}

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

/** One-way form of a random secret, for looking it up. */
export const hashSecret = (secret: string): string => createHash('sha256').update(secret).digest('hex');

export const newSecret = (prefix: string): string => `${prefix}_${randomBytes(24).toString('base64url')}`;

const DIGITS = '0123456789abcdefghjkmnpqrstvwxyz';

/** A short id such as `t-8k2m4q9x1c`, safe to say aloud and to type. */
export function newId(prefix: string): string {
  let id = '';
  for (const byte of randomBytes(10)) id += DIGITS[byte & 31];
  return `${prefix}-${id}`;
}
