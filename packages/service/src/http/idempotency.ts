import { createHash } from 'node:crypto';
import { ProblemError } from '../problems.js';
import type { Records } from '../records/open.js';

/** Lets a request that is sent twice with one key act once; answers are kept for a day. */
export class Idempotency {
  constructor(
    private readonly records: Records,
    private readonly now: () => Date,
  ) {}

  /** @throws {ProblemError} `conflict` when the key was used for another request, or the first is still running */
  async once(key: string, person: string, request: string, run: () => Promise<unknown>): Promise<unknown> {
    const hash = createHash('sha256').update(request).digest('hex');
    const own = { key: key.slice(0, 200), person };
    await this.records('idempotency').whereRaw("created_at < ?::timestamptz - interval '1 day'", [this.now()]).delete();
    const inserted = await this.records('idempotency')
      .insert({ ...own, request: hash, status: 0, response: '', created_at: this.now() })
      .onConflict(['key', 'person'])
      .ignore()
      .returning('key');
    if (inserted.length === 0) {
      const known = await this.records('idempotency').where(own).first();
      if (known.request !== hash)
        throw new ProblemError(
          'conflict',
          'This Idempotency-Key was used for another request.',
          'Use a new key for a new request.',
        );
      if (known.status === 0)
        throw new ProblemError(
          'conflict',
          'The first request with this Idempotency-Key is still running.',
          'Ask again in a moment.',
        );
      return JSON.parse(known.response);
    }
    try {
      const result = await run();
      await this.records('idempotency')
        .where(own)
        .update({ status: 200, response: JSON.stringify(result ?? null) });
      return result;
    } catch (error) {
      await this.records('idempotency').where(own).delete();
      throw error;
    }
  }
}
