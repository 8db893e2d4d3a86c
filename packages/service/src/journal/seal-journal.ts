import * as fs from 'node:fs/promises';
import { NO_SEAL, type SignedHead, sealOf, signHead, stampOf } from '@tessarion/core';
import type { Ground } from '../ground/ground.js';
import type { OnRecords } from '../ground/open.js';
import { type EntryRow, journalDigest, sealable } from './journal.js';

/** Any number that no other advisory lock of the records has. */
const SEAL_LOCK = 731_904;
const BATCH = 1000;
const HEAD_EVERY_MS = 60_000;

type Records = Pick<Ground, 'records' | 'folder' | 'now' | 'log'>;

/** Lets nobody seal until a transaction ends. */
export const holdSealing = (trx: OnRecords): Promise<unknown> =>
  trx.raw('SELECT pg_advisory_xact_lock(?, 0)', [SEAL_LOCK]);

/**
 * Seals what waits, in the order in which it became visible. Only one sealer works at a time, whoever it is.
 *
 * @returns how many entries were sealed
 */
export async function sealJournal({ records, folder, log }: Records): Promise<number> {
  const digest = journalDigest(folder.keys);
  let sealed = 0;
  for (;;) {
    const found = await records.transaction(async (trx) => {
      const lock = await trx.raw<{ rows: { got: boolean }[] }>('SELECT pg_try_advisory_xact_lock(?, 0) AS got', [
        SEAL_LOCK,
      ]);
      if (lock.rows[0]?.got !== true) return 0;
      const last = await trx('journal_entry')
        .whereNotNull('position')
        .orderBy('position', 'desc')
        .first('position', 'seal');
      let [position, seal] = [last?.position ?? 0, (last?.seal as string | undefined) ?? NO_SEAL];
      const waiting = (await trx('journal_entry')
        .whereNull('position')
        .where({ is_foreign: false })
        .orderBy('at')
        .orderBy('id')
        .limit(BATCH)) as EntryRow[];
      const [ids, seals, foreign]: [string[], string[], string[]] = [[], [], []];
      for (const row of waiting) {
        if (stampOf(sealable(row), digest) !== row.stamp) {
          foreign.push(row.id);
          continue;
        }
        seal = sealOf(++position, seal, row.stamp, digest);
        ids.push(row.id);
        seals.push(seal);
      }
      if (foreign.length > 0) {
        log.error({ entries: foreign }, 'journal entries that this installation did not write get no seal');
        await trx('journal_entry').whereIn('id', foreign).update({ is_foreign: true });
      }
      await trx.raw(
        `UPDATE journal_entry SET position = given.position, seal = given.seal
         FROM unnest(?::text[], ?::text[]) WITH ORDINALITY AS one (id, seal, n),
              LATERAL (SELECT ?::bigint + n AS position, one.seal AS seal) AS given
         WHERE journal_entry.id = one.id`,
        [ids, seals, position - ids.length],
      );
      return waiting.length;
    });
    sealed += found;
    if (found < BATCH) return sealed;
  }
}

/**
 * Writes down how far the chain reaches, signed, in files outside the records; what is cut off later is missed there.
 *
 * @param known the place of the newest head in each of the files; those that are behind are written
 */
async function writeHeads({ records, folder, now, log }: Records, known: Map<string, number>): Promise<void> {
  const last = await records('journal_entry')
    .whereNotNull('position')
    .orderBy('position', 'desc')
    .first('position', 'seal');
  if (!last) return;
  const { position, seal } = last as { position: number; seal: string };
  const head = signHead({ position, seal, at: now().toISOString() }, journalDigest(folder.keys));
  for (const path of folder.journalHeads) {
    // A place elsewhere that is away for a while must not keep the others from being written.
    try {
      const newest = known.get(path) ?? (await readHeads(path)).at(-1)?.position ?? 0;
      if (newest < position) await append(path, `${JSON.stringify(head)}\n`);
      known.set(path, Math.max(newest, position));
    } catch (error) {
      log.error({ err: error, path }, 'how far the journal reaches could not be written down');
    }
  }
}

async function append(path: string, line: string): Promise<void> {
  const file = await fs.open(path, 'a', 0o600);
  try {
    await file.write(line);
    await file.sync();
  } finally {
    await file.close();
  }
}

/** The heads that were written down, oldest first; a line that was torn by a crash is passed over. */
export async function readHeads(file: string): Promise<SignedHead[]> {
  const text = await fs.readFile(file, 'utf8').catch((error: NodeJS.ErrnoException) => {
    if (error.code === 'ENOENT') return '';
    throw error;
  });
  return text.split('\n').flatMap((line) => {
    try {
      const { position, seal, at, signature } = JSON.parse(line) as SignedHead;
      return [{ position, seal, at, signature }];
    } catch {
      return [];
    }
  });
}

/** Seals as entries come, and writes a head down now and then, until it is stopped. */
export class Sealer {
  #timer: ReturnType<typeof setInterval> | undefined;
  #work: Promise<void> = Promise.resolve();
  #isBusy = false;
  /** Place of the newest head in each file, and when they were looked at last. */
  readonly #heads = new Map<string, number>();
  #writtenAt = 0;

  constructor(private readonly installation: Ground) {}

  start(): void {
    this.#timer = setInterval(() => this.#wake(), 1000);
    this.#wake();
  }

  #wake(): void {
    if (this.#isBusy) return;
    this.#isBusy = true;
    this.#work = this.#seal()
      .catch((error: unknown) => this.installation.log.warn({ err: error }, 'the journal could not be sealed'))
      .finally(() => {
        this.#isBusy = false;
      });
  }

  async #seal(): Promise<void> {
    await sealJournal(this.installation);
    if (Date.now() - this.#writtenAt < HEAD_EVERY_MS) return;
    await writeHeads(this.installation, this.#heads);
    this.#writtenAt = Date.now();
  }

  async stop(): Promise<void> {
    clearInterval(this.#timer);
    await this.#work;
    await sealJournal(this.installation);
    await writeHeads(this.installation, this.#heads);
  }
}
