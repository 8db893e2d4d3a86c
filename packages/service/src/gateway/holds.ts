import { randomUUID } from 'node:crypto';

interface Hold {
  readonly environment: string;
  readonly since: number;
  readonly opened: Promise<void>;
  open(): void;
  /** Lets it last so much longer from now. */
  extend(leaseMs: number): void;
  /** For how long it was; undefined while it lasts. */
  heldMs: number | undefined;
}

/** Visitors wait no longer in one go, whoever keeps the hold, unless it was asked to last longer at once. */
const LONGEST_MS = 30_000;

/**
 * Holds visitors of an environment back for a moment. A hold is a lease: it ends here by itself where nobody keeps it, and
 * after a while even where somebody does.
 */
export class Holds {
  readonly #byEnvironment = new Map<string, Hold>();
  readonly #byLease = new Map<string, Hold>();
  readonly #running = new Map<string, number>();
  readonly #idle = new Map<string, Set<() => void>>();

  /** Waits while the environment is held. */
  async admit(environment: string): Promise<void> {
    for (let hold = this.#byEnvironment.get(environment); hold; hold = this.#byEnvironment.get(environment))
      await hold.opened;
    this.#running.set(environment, (this.#running.get(environment) ?? 0) + 1);
  }

  /** Called once for each admitted request when it has ended, or turned out to be a stream. */
  leave(environment: string): void {
    const left = (this.#running.get(environment) ?? 1) - 1;
    this.#running.set(environment, left);
    if (left > 0) return;
    for (const wake of this.#idle.get(environment) ?? []) wake();
    this.#idle.delete(environment);
  }

  async hold(environment: string, leaseMs: number, drainMs: number): Promise<{ lease: string; waitedMs: number }> {
    this.#byEnvironment.get(environment)?.open();
    const lease = randomUUID();
    let open: () => void = () => undefined;
    const opened = new Promise<void>((resolve) => {
      open = resolve;
    });
    const since = performance.now();
    const last = since + Math.max(LONGEST_MS, leaseMs);
    let timer: NodeJS.Timeout;
    const hold: Hold = {
      environment,
      since,
      opened,
      heldMs: undefined,
      open: () => {
        clearTimeout(timer);
        hold.heldMs ??= Math.round(performance.now() - since);
        if (this.#byEnvironment.get(environment) === hold) this.#byEnvironment.delete(environment);
        open();
      },
      extend: (ms) => {
        clearTimeout(timer);
        timer = setTimeout(hold.open, Math.min(ms, last - performance.now()));
      },
    };
    hold.extend(leaseMs);
    // Of those that went before nobody asks any more.
    for (const [id, { environment: of }] of this.#byLease) if (of === environment) this.#byLease.delete(id);
    this.#byEnvironment.set(environment, hold);
    this.#byLease.set(lease, hold);
    await this.#drained(environment, drainMs);
    return { lease, waitedMs: Math.round(performance.now() - hold.since) };
  }

  #drained(environment: string, drainMs: number): Promise<void> {
    if ((this.#running.get(environment) ?? 0) <= 0) return Promise.resolve();
    return new Promise((resolve) => {
      const waiting = this.#idle.get(environment) ?? new Set();
      waiting.add(resolve);
      this.#idle.set(environment, waiting);
      setTimeout(resolve, drainMs);
    });
  }

  /** Lets a hold last so much longer from now. @returns whether it lasts still */
  keep(lease: string, leaseMs: number): { isHeld: boolean } {
    const hold = this.#byLease.get(lease);
    const isHeld = hold !== undefined && hold.heldMs === undefined;
    if (isHeld) hold.extend(leaseMs);
    return { isHeld };
  }

  /** @returns for how long it was, null where it is not known here; and whether it had ended by itself */
  release(lease: string): { heldMs: number | null; isOver: boolean } {
    const hold = this.#byLease.get(lease);
    this.#byLease.delete(lease);
    const isOver = hold?.heldMs !== undefined;
    hold?.open();
    return { heldMs: hold?.heldMs ?? null, isOver: isOver || hold === undefined };
  }
}
