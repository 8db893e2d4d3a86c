import { setTimeout as later } from 'node:timers/promises';
import { EngineError } from '@tessarion/engine';
import { isConnectionLost } from '../ground/lost.js';

/** For how long what is away is waited for, and between two tries. */
const PATIENCE_MS = 5 * 60_000;
const [FIRST_WAIT_MS, LONGEST_WAIT_MS] = [500, 4000];
const AWAY: ReadonlySet<string> = new Set(['database-unreachable', 'server-unreachable']);

/** Whether something failed only since a server, the gateway or the records cannot be reached in this moment. */
export const isAway = (error: unknown): boolean =>
  error instanceof EngineError ? AWAY.has(error.code) : isConnectionLost(error);

/** Waits for what is away, such as a database server that is started again: longer each time, and not for ever. */
export class Patience {
  readonly #until = Date.now() + PATIENCE_MS;
  #wait = FIRST_WAIT_MS;

  /** Whether nothing was waited for yet. */
  get isNew(): boolean {
    return this.#wait === FIRST_WAIT_MS;
  }

  get isOver(): boolean {
    return Date.now() > this.#until;
  }

  /** @throws the signal's reason */
  async wait(signal: AbortSignal): Promise<void> {
    await later(this.#wait, undefined, { signal }).catch(() => signal.throwIfAborted());
    this.#wait = Math.min(2 * this.#wait, LONGEST_WAIT_MS);
  }
}
