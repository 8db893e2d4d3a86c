import { createHmac, randomUUID } from 'node:crypto';
import { openWith, sealWith } from '../ground/keys.js';
import { ProblemError } from '../ground/problems.js';
import type { Installation } from '../transfers/installation.js';

interface Row {
  readonly request: string;
  readonly status: number;
  readonly response: string;
  readonly run: string;
}

/**
 * Lets a request that is sent twice with one key act once; answers are kept for a day. Requests and answers may hold secrets: the
 * records hold neither, nor the key, but a mark of each, and the answer sealed with the key itself.
 */
export class Idempotency {
  /** Of this run of the service: what another one has begun will not end. */
  readonly #run = randomUUID();
  readonly #secret: Buffer;

  constructor(private readonly installation: Pick<Installation, 'records' | 'now' | 'folder'>) {
    this.#secret = installation.folder.keys.derive('idempotency');
  }

  #mark(purpose: 'key' | 'request' | 'seal', text: string): Buffer {
    return createHmac('sha256', this.#secret).update(`${purpose} ${text}`).digest();
  }

  /** @throws {ProblemError} `conflict` when the key was used for another request, or the first is still running or was broken off */
  async once(key: string, person: string, request: string, run: () => Promise<unknown>): Promise<unknown> {
    const { records, now } = this.installation;
    const mark = this.#mark('request', request).toString('hex');
    const own = { key: this.#mark('key', key).toString('hex'), person };
    const seal = this.#mark('seal', `${person} ${key}`);
    await records('idempotency').whereRaw("created_at < ?::timestamptz - interval '1 day'", [now()]).delete();
    const inserted = await records('idempotency')
      .insert({ ...own, request: mark, status: 0, response: '', run: this.#run, created_at: now() })
      .onConflict(['key', 'person'])
      .ignore()
      .returning('key');
    if (inserted.length === 0) {
      const known = (await records('idempotency').where(own).first()) as Row | undefined;
      if (known?.request !== mark)
        throw new ProblemError(
          'conflict',
          'This Idempotency-Key was used for another request.',
          'Use a new key for a new request.',
        );
      if (known.status === 0 && known.run !== this.#run)
        throw new ProblemError(
          'conflict',
          'The service ended while the first request with this Idempotency-Key was running.',
          'See whether it was done (tessarion journal list), and use a new key if not.',
        );
      if (known.status === 0)
        throw new ProblemError(
          'conflict',
          'The first request with this Idempotency-Key is still running.',
          'Ask again in a moment.',
        );
      return JSON.parse(openWith(seal, known.response));
    }
    try {
      const result = await run();
      await records('idempotency')
        .where(own)
        .update({ status: 200, response: sealWith(seal, JSON.stringify(result ?? null)) });
      return result;
    } catch (error) {
      await records('idempotency').where(own).delete();
      throw error;
    }
  }
}
