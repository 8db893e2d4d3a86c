import { createHash, randomBytes } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { dirname, join, resolve } from 'node:path';
import { SealedFile } from '@tessarion/engine';
import { Keys } from './keys.js';

/** The service's own folder: keys, blob stores, run-time files and, where it is private, the records' cluster. */
export class DataFolder {
  private constructor(
    readonly path: string,
    readonly keys: Keys,
  ) {}

  static async open(path: string): Promise<DataFolder> {
    const absolute = resolve(path);
    await makeFolder(absolute);
    const isNew = !(await fs.readdir(absolute)).includes('stores');
    const keys = await Keys.open(absolute, isNew);
    for (const folder of ['run', 'stores', 'memories', 'changes', 'journal'])
      await fs.mkdir(join(absolute, folder), { recursive: true, mode: 0o700 });
    return new DataFolder(absolute, keys);
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
  /** What is known of an environment's files. */
  memory(environmentPath: string): SealedFile {
    return this.#known('memories', environmentPath.replace('/', '--'));
  }
  /** What a pair of environments was found unlike in. */
  changes(lower: string, upper: string): SealedFile {
    return this.#known('changes', `${lower.replace('/', '--')}+${upper.replace('/', '--')}`);
  }
  #known(folder: string, name: string): SealedFile {
    return new SealedFile(join(this.path, folder, `${name}.sealed`), this.keys.derive('known'));
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

/** Makes a folder and those above it. Node's own way never ends where none can be made, as in /proc. */
async function makeFolder(path: string): Promise<void> {
  const make = (): Promise<void> =>
    fs.mkdir(path, { mode: 0o711 }).catch(async (error: NodeJS.ErrnoException) => {
      if (error.code !== 'EEXIST') throw error;
    });
  try {
    await make();
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code !== 'ENOENT' || dirname(path) === path) throw error;
    await makeFolder(dirname(path));
    await make();
  }
}

/** One-way form of a random secret, for looking it up. */
export const hashSecret = (secret: string): string => createHash('sha256').update(secret).digest('hex');

/** A secret of 192 random bits, with a prefix that tells what it opens. */
export const newSecret = (prefix: string): string => `${prefix}_${randomBytes(24).toString('base64url')}`;

const DIGITS = '0123456789abcdefghjkmnpqrstvwxyz';

/** A short id such as `t-8k2m4q9x1c`, safe to say aloud and to type. */
export function newId(prefix: string): string {
  let id = '';
  for (const byte of randomBytes(10)) id += DIGITS[byte & 31];
  return `${prefix}-${id}`;
}
