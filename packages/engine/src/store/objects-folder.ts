import { closeSync, openSync, readSync } from 'node:fs';
import * as fs from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { fileError, readError } from '../ports/errors.js';
import type { NewObject, ObjectPlace, ObjectStore, OpenObject } from '../ports/objects.js';

const UNFINISHED = '.new';
const READING = { autoClose: false, highWaterMark: 1 << 20 };

/** Files that were read in part lately, open. One that was removed meanwhile can still be read. */
const openFiles = new Map<string, number>();
const MOST_OPEN = 32;

function openFile(path: string): number {
  const open = openFiles.get(path);
  if (open !== undefined) return open;
  for (const [oldest, file] of openFiles) {
    if (openFiles.size < MOST_OPEN) break;
    closeSync(file);
    openFiles.delete(oldest);
  }
  const file = openSync(path, 'r');
  openFiles.set(path, file);
  return file;
}

const isGone = (error: unknown): boolean => (error as NodeJS.ErrnoException).code === 'ENOENT';

/** Objects as files in a folder of this machine, which others may not read. */
export class FolderObjects implements ObjectStore {
  readonly place: ObjectPlace;

  /** @param folder absolute; made when something is written */
  constructor(private readonly folder: string) {
    this.place = { kind: 'folder', at: folder };
  }

  #path(name: string): string {
    return join(this.folder, name);
  }

  async create(name: string): Promise<NewObject> {
    const path = this.#path(name);
    try {
      await fs.mkdir(dirname(path), { recursive: true, mode: 0o700 });
      return new NewFile(path, await fs.open(`${path}${UNFINISHED}`, 'w', 0o600));
    } catch (error) {
      throw fileError(error, path);
    }
  }

  async put(name: string, content: Uint8Array): Promise<void> {
    const object = await this.create(name);
    try {
      await object.append([content]);
      await object.finish();
    } finally {
      await object.abandon();
    }
  }

  async get(name: string): Promise<Buffer | undefined> {
    try {
      return await fs.readFile(this.#path(name));
    } catch (error) {
      if (isGone(error)) return undefined;
      throw fileError(error, this.#path(name));
    }
  }

  part(name: string, start: number, length: number): Buffer {
    const bytes = Buffer.alloc(length);
    const path = this.#path(name);
    try {
      // Without the thread pool, whose hand-overs cost more than reading a block.
      return bytes.subarray(0, readSync(openFile(path), bytes, 0, length, start));
    } catch (error) {
      throw readError(error, path);
    }
  }

  async open(name: string): Promise<OpenObject | undefined> {
    try {
      const file = await fs.open(this.#path(name));
      const { size } = await file.stat();
      return {
        size,
        async read(start, length) {
          const { buffer, bytesRead } = await file.read(Buffer.alloc(length), 0, length, start);
          return buffer.subarray(0, bytesRead);
        },
        stream: (start, end) =>
          end > start
            ? (file.createReadStream({ start, end: end - 1, ...READING }) as AsyncIterable<Buffer>)
            : nothing(),
        close: () => file.close(),
      };
    } catch (error) {
      if (isGone(error)) return undefined;
      throw fileError(error, this.#path(name));
    }
  }

  async list(group: string): Promise<string[]> {
    const names = await this.#names(group);
    return names.filter((name) => !name.endsWith(UNFINISHED));
  }

  async #names(group: string): Promise<string[]> {
    try {
      return await fs.readdir(this.#path(group));
    } catch (error) {
      if (isGone(error)) return [];
      throw fileError(error, this.#path(group));
    }
  }

  async changedAt(name: string): Promise<Date | undefined> {
    try {
      return (await fs.stat(this.#path(name))).mtime;
    } catch (error) {
      if (isGone(error)) return undefined;
      throw fileError(error, this.#path(name));
    }
  }

  async copy(name: string, to: string): Promise<void> {
    try {
      await fs.mkdir(dirname(this.#path(to)), { recursive: true, mode: 0o700 });
      await fs.copyFile(this.#path(name), this.#path(to));
    } catch (error) {
      throw readError(error, this.#path(name));
    }
  }

  async remove(name: string): Promise<void> {
    await fs.rm(this.#path(name), { force: true });
  }

  async removeUnfinished(group: string, before: Date): Promise<void> {
    for (const name of await this.#names(group)) {
      if (!name.endsWith(UNFINISHED)) continue;
      const begun = await this.changedAt(`${group}/${name}`);
      if (begun && begun < before) await this.remove(`${group}/${name}`);
    }
  }
}

async function* nothing(): AsyncGenerator<Buffer> {}

/** A file under a name of its own until it is whole and on the disk. */
class NewFile implements NewObject {
  #isOpen = true;
  #isFinished = false;

  constructor(
    private readonly path: string,
    private readonly file: fs.FileHandle,
  ) {}

  async append(pieces: readonly Uint8Array[]): Promise<void> {
    try {
      const wanted = pieces.reduce((sum, { length }) => sum + length, 0);
      const { bytesWritten } = await this.file.writev(pieces);
      // What is written in part goes on where it stopped, or says why it cannot.
      if (bytesWritten < wanted) await this.file.writeFile(Buffer.concat(pieces).subarray(bytesWritten));
    } catch (error) {
      throw fileError(error, this.path);
    }
  }

  async finish(): Promise<void> {
    try {
      await this.file.datasync();
      await this.#close();
      await fs.rename(`${this.path}${UNFINISHED}`, this.path);
    } catch (error) {
      throw fileError(error, this.path);
    }
    this.#isFinished = true;
    const former = openFiles.get(this.path);
    if (former === undefined) return;
    closeSync(former);
    openFiles.delete(this.path);
  }

  async abandon(): Promise<void> {
    await this.#close();
    if (!this.#isFinished) await fs.rm(`${this.path}${UNFINISHED}`, { force: true });
  }

  async #close(): Promise<void> {
    if (!this.#isOpen) return;
    this.#isOpen = false;
    await this.file.close();
  }
}
