import { createHmac, randomBytes, timingSafeEqual } from 'node:crypto';

/** For how long a pass holds that was given to a colleague. */
export const PASS_SECONDS = 30 * 24 * 3600;

/** Signed proofs that somebody may pass the gate of one environment: the cookie, and one-time tickets. */
export class Passes {
  readonly #key: Buffer;
  readonly #used = new Map<string, number>();

  constructor(key: Buffer) {
    this.#key = key;
  }

  #sign(kind: 'cookie' | 'ticket', environment: string, expires: number, nonce: string): string {
    return createHmac('sha256', this.#key).update(`${kind}\n${environment}\n${expires}\n${nonce}`).digest('base64url');
  }

  /** @param stays of a ticket: for how many seconds the gate stays open to who redeems it */
  issue(kind: 'cookie' | 'ticket', environment: string, now: number, seconds: number, stays = PASS_SECONDS): string {
    const [expires, nonce] = [now + seconds * 1000, `${randomBytes(9).toString('base64url')}:${stays}`];
    return `${expires}.${nonce}.${this.#sign(kind, environment, expires, nonce)}`;
  }

  isValid(kind: 'cookie' | 'ticket', environment: string, pass: string, now: number): boolean {
    const [expires, nonce, signature] = pass.split('.');
    if (!expires || !nonce || !signature || !(Number(expires) > now)) return false;
    const expected = Buffer.from(this.#sign(kind, environment, Number(expires), nonce));
    const given = Buffer.from(signature);
    return expected.length === given.length && timingSafeEqual(expected, given);
  }

  /** A ticket opens the gate once. @returns for how many seconds; undefined where it opens nothing */
  redeem(environment: string, ticket: string, now: number): number | undefined {
    for (const [old, expires] of this.#used) if (expires < now) this.#used.delete(old);
    if (this.#used.has(ticket) || !this.isValid('ticket', environment, ticket, now)) return undefined;
    this.#used.set(ticket, Number(ticket.split('.')[0]));
    return Number(ticket.split('.')[1]?.split(':')[1]);
  }
}

/** Counts failed tries at a gate, and holds off those who try too often. */
export class TryLimit {
  readonly #tries = new Map<string, { count: number; since: number }>();

  constructor(
    private readonly limit: number,
    private readonly windowMs: number,
  ) {}

  isExceeded(who: string, now: number): boolean {
    const tries = this.#tries.get(who);
    return tries !== undefined && now - tries.since < this.windowMs && tries.count >= this.limit;
  }

  fail(who: string, now: number): void {
    const tries = this.#tries.get(who);
    if (!tries || now - tries.since >= this.windowMs) this.#tries.set(who, { count: 1, since: now });
    else tries.count++;
    if (this.#tries.size > 10_000) this.#tries.clear();
  }
}
