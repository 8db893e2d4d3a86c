import { EngineError } from '../../src/ports/errors.js';
import type { NewObject, ObjectPlace, ObjectStore, OpenObject } from '../../src/ports/objects.js';

interface Held {
  readonly content: Buffer;
  readonly at: Date;
}

/** Objects in this process alone, each answer a while later: what a store far away is like, for tests. */
export class MemoryObjects implements ObjectStore {
  readonly place: ObjectPlace;
  readonly #held = new Map<string, Held>();
  readonly #unfinished = new Map<string, Date>();

  constructor(at: string) {
    this.place = { kind: 'memory', at };
  }

  async create(name: string): Promise<NewObject> {
    const pieces: Uint8Array[] = [];
    await later();
    this.#unfinished.set(name, new Date());
    return {
      append: async (more) => {
        await later();
        pieces.push(...more.map((piece) => Buffer.from(piece)));
      },
      finish: async () => {
        await later();
        this.#held.set(name, { content: Buffer.concat(pieces), at: new Date() });
        this.#unfinished.delete(name);
      },
      abandon: async () => {
        this.#unfinished.delete(name);
      },
    };
  }

  async put(name: string, content: Uint8Array): Promise<void> {
    const object = await this.create(name);
    await object.append([content]);
    await object.finish();
  }

  async get(name: string): Promise<Buffer | undefined> {
    await later();
    const found = this.#held.get(name);
    return found && Buffer.from(found.content);
  }

  async part(name: string, start: number, length: number): Promise<Buffer> {
    await later();
    return Buffer.from(this.#there(name).content.subarray(start, start + length));
  }

  async open(name: string): Promise<OpenObject | undefined> {
    await later();
    const found = this.#held.get(name)?.content;
    if (!found) return undefined;
    return {
      size: found.length,
      read: async (start, length) => Buffer.from(found.subarray(start, start + length)),
      async *stream(start, end) {
        for (let at = start; at < end; at += 1000) {
          await later();
          yield Buffer.from(found.subarray(at, Math.min(end, at + 1000)));
        }
      },
      close: async () => undefined,
    };
  }

  async list(group: string): Promise<string[]> {
    await later();
    return [...this.#held.keys()].flatMap((name) =>
      name.startsWith(`${group}/`) ? [name.slice(group.length + 1)] : [],
    );
  }

  async changedAt(name: string): Promise<Date | undefined> {
    await later();
    return this.#held.get(name)?.at;
  }

  async copy(name: string, to: string): Promise<void> {
    await later();
    this.#held.set(to, this.#there(name));
  }

  async remove(name: string): Promise<void> {
    await later();
    this.#held.delete(name);
  }

  async removeUnfinished(group: string, before: Date): Promise<void> {
    for (const [name, begun] of this.#unfinished)
      if (name.startsWith(`${group}/`) && begun < before) this.#unfinished.delete(name);
  }

  #there(name: string): Held {
    const found = this.#held.get(name);
    if (!found) throw new EngineError('file-gone', `${name} is not there.`, 'Run it again.');
    return found;
  }
}

const later = (): Promise<void> => new Promise((resolve) => setImmediate(resolve));
