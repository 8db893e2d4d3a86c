import { RateLimiterMemory, RateLimiterRes } from 'rate-limiter-flexible';
import { TooMany } from '../ground/problems.js';
import { placeOf } from '../people/tries.js';

const A_MINUTE = 60;
/** Shares of what one person may ask: a guest's link, and all who come from one place without having signed in. */
const GUEST = 1 / 5;
const STRANGERS = 1 / 25;
/** Refusals that are written into the journal one by one: of one person, and of all strangers together. */
const REFUSALS = 1 / 50;
const REFUSALS_OF_STRANGERS = 1 / 150;

/** Holds off who asks too much: nobody takes the service from the others. What was asked is forgotten when it stops. */
export class Limits {
  readonly #people: RateLimiterMemory;
  readonly #guests: RateLimiterMemory;
  readonly #strangers: RateLimiterMemory;
  readonly #refusals: RateLimiterMemory;
  readonly #refusalsOfStrangers: RateLimiterMemory;
  readonly #untold = new Map<string, number>();

  /** @param most requests that one person may make in a minute */
  constructor(most: number) {
    const share = (part: number): RateLimiterMemory =>
      new RateLimiterMemory({ points: Math.max(1, Math.floor(most * part)), duration: A_MINUTE });
    this.#people = share(1);
    this.#guests = share(GUEST);
    this.#strangers = share(STRANGERS);
    this.#refusals = share(REFUSALS);
    this.#refusalsOfStrangers = share(REFUSALS_OF_STRANGERS);
  }

  /** @param costs as how many requests it counts @throws {ProblemError} `too-many-requests` */
  ofPerson(id: string, costs: number): Promise<void> {
    return consume(this.#people, id, costs);
  }

  /** @throws {ProblemError} `too-many-requests` */
  ofGuest(id: string, costs: number): Promise<void> {
    return consume(this.#guests, id, costs);
  }

  /** @param address of somebody who has not signed in @throws {ProblemError} `too-many-requests` */
  ofStranger(address: string): Promise<void> {
    return consume(this.#strangers, placeOf(address), 1);
  }

  /**
   * Whether a refusal is written into the journal: those beyond a minute's share are only counted.
   *
   * @param actor `nobody` for all strangers
   * @returns how many were only counted since the last one that was written; undefined for one that is not written
   */
  async refusal(actor: string): Promise<number | undefined> {
    const untold = this.#untold.get(actor) ?? 0;
    try {
      await (actor === 'nobody' ? this.#refusalsOfStrangers : this.#refusals).consume(actor);
    } catch (error) {
      if (!(error instanceof RateLimiterRes)) throw error;
      this.#untold.set(actor, untold + 1);
      return undefined;
    }
    this.#untold.delete(actor);
    return untold;
  }
}

async function consume(limiter: RateLimiterMemory, who: string, costs: number): Promise<void> {
  try {
    await limiter.consume(who, costs);
  } catch (error) {
    if (!(error instanceof RateLimiterRes)) throw error;
    throw new TooMany('too-many-requests', 'Too many requests in a minute.', Math.ceil(error.msBeforeNext / 1000));
  }
}
