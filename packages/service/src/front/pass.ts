import { createHmac, randomBytes, timingSafeEqual } from 'node:crypto';

/** For how long a pass holds that was given to a colleague: a day's work. */
export const PASS_SECONDS = 12 * 3600;

/** For how long a link opens a gate. */
export const TICKET_SECONDS = 60;

/** Whom a pass was given to: a person, a guest's link, or whoever knows a copy's own login. */
export type Holder = `person ${string}` | `guest ${string}` | 'login';

/** What a pass or ticket says; times in milliseconds since 1970. */
export interface Pass {
  readonly holder: Holder;
  readonly issued: number;
  readonly expires: number;
  readonly nonce: string;
  /** Of a ticket: for how many seconds the gate stays open to who redeems it. */
  readonly stays: number;
}

/** `ISSUED.EXPIRES.STAYS.NONCE.HOLDER.SIGNATURE`: each field has one spelling, so that each pass has one. */
const FORM = /^([1-9]\d{0,15})\.([1-9]\d{0,15})\.([1-9]\d{0,8})\.([\w-]{12})\.([\w-]{1,80})\.([\w-]{43})$/;

/**
 * Signed proofs that somebody may pass the gate of one environment: the cookie, and one-time tickets. Each belongs to
 * somebody, and ends with what they may.
 */
export class Passes {
  readonly #key: Buffer;

  constructor(key: Buffer) {
    this.#key = key;
  }

  #sign(kind: 'cookie' | 'ticket', environment: string, secret: string, fields: string): string {
    return createHmac('sha256', this.#key)
      .update(JSON.stringify([kind, environment, secret, fields]))
      .digest('base64url');
  }

  /**
   * @param secret what the pass hangs on beside the key: the password of a copy for those who came by it
   * @param stays of a ticket: for how many seconds the gate stays open to who redeems it
   */
  issue(
    kind: 'cookie' | 'ticket',
    environment: string,
    holder: Holder,
    now: number,
    seconds: number,
    { stays = PASS_SECONDS, secret = '' } = {},
  ): string {
    const nonce = randomBytes(9).toString('base64url');
    const named = Buffer.from(holder).toString('base64url');
    const fields = [now, now + Math.ceil(seconds) * 1000, Math.ceil(stays), nonce, named].join('.');
    return `${fields}.${this.#sign(kind, environment, secret, fields)}`;
  }

  /** @returns undefined for what was not issued here or is too old; whether its holder still may is not asked */
  read(kind: 'cookie' | 'ticket', environment: string, pass: string, now: number, secret = ''): Pass | undefined {
    const [, issued, expires, stays, nonce, named, signature] = FORM.exec(pass) ?? [];
    if (signature === undefined || nonce === undefined) return undefined;
    const holder = Buffer.from(named as string, 'base64url').toString() as Holder;
    const fields = pass.slice(0, -signature.length - 1);
    const expected = Buffer.from(this.#sign(kind, environment, holder === 'login' ? secret : '', fields));
    if (!timingSafeEqual(expected, Buffer.from(signature))) return undefined;
    const read = { holder, issued: Number(issued), expires: Number(expires), nonce, stays: Number(stays) };
    return read.issued <= now && now < read.expires ? read : undefined;
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
    if (tries && now - tries.since < this.windowMs) {
      tries.count++;
      return;
    }
    this.#tries.delete(who);
    this.#tries.set(who, { count: 1, since: now });
    // The oldest goes; whoever comes from many addresses does not free the others.
    if (this.#tries.size > 100_000) this.#tries.delete(this.#tries.keys().next().value as string);
  }
}
