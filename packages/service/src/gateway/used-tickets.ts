import { appendFileSync, closeSync, fdatasyncSync, openSync, readFileSync, renameSync, writeFileSync } from 'node:fs';

/** Tickets that were redeemed, on the disk before they open anything: one opens a gate once, whatever dies meanwhile. */
export class UsedTickets {
  readonly #until = new Map<string, number>();
  readonly #path: string;

  /** @param path lines of `NONCE EXPIRES`; those that are over go when it is opened */
  constructor(path: string, now: number) {
    this.#path = path;
    for (const [nonce, until] of linesOf(path)) if (until > now) this.#until.set(nonce, until);
    const temporary = `${path}.new`;
    writeFileSync(temporary, [...this.#until].map(([nonce, until]) => `${nonce} ${until}\n`).join(''), { mode: 0o600 });
    renameSync(temporary, path);
  }

  /** Takes a ticket for used. @returns whether it was not yet */
  use(nonce: string, until: number, now: number): boolean {
    for (const [old, over] of this.#until) {
      if (over > now) break;
      this.#until.delete(old);
    }
    if (this.#until.has(nonce)) return false;
    const file = openSync(this.#path, 'a', 0o600);
    try {
      appendFileSync(file, `${nonce} ${until}\n`);
      fdatasyncSync(file);
    } finally {
      closeSync(file);
    }
    this.#until.set(nonce, until);
    return true;
  }
}

function linesOf(path: string): [string, number][] {
  try {
    return readFileSync(path, 'utf8')
      .split('\n')
      .map((line) => line.split(' '))
      .map(([nonce = '', until]) => [nonce, Number(until)]);
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'ENOENT') return [];
    throw error;
  }
}
