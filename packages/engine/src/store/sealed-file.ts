import { randomUUID } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { basename } from 'node:path';
import { openBytes, sealBytes } from './sealed.js';

/** What may be found out again and need not be: a JSON value in a file that is encrypted and sealed under a key. */
export class SealedFile {
  constructor(
    readonly path: string,
    private readonly key: Uint8Array,
  ) {}

  get #purpose(): string {
    return `known ${basename(this.path)}`;
  }

  /** @returns undefined where there is none, or it was changed or damaged */
  async read(): Promise<unknown> {
    const sealed = await fs.readFile(this.path).catch(() => undefined);
    const content = sealed && openBytes(this.key, this.#purpose, sealed);
    return content && JSON.parse(content.toString());
  }

  /** Two may write at once: each has a temporary name of its own, and the last one counts. */
  async write(value: unknown): Promise<void> {
    const temporary = `${this.path}.${randomUUID()}.new`;
    await fs.writeFile(temporary, sealBytes(this.key, this.#purpose, Buffer.from(JSON.stringify(value))), {
      mode: 0o600,
    });
    await fs.rename(temporary, this.path);
  }
}
