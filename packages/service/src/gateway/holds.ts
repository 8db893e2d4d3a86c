import { randomUUID } from 'node:crypto';

interface Hold {
  readonly environment: string;
  readonly since: number;
  readonly opened: Promise<void>;
  open(): void;
}

/**
 * Holds visitors of an environment back for a moment. A hold is a lease: it ends here by itself, whether or not the
 * worker that asked for it is still there.
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
    const timer = setTimeout(() => this.release(lease), leaseMs);
    const hold: Hold = {
      environment,
      since: performance.now(),
      opened,
      open: () => {
        clearTimeout(timer);
        if (this.#byEnvironment.get(environment) === hold) this.#byEnvironment.delete(environment);
        open();
      },
    };
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

  /** @returns for how long it was; null where it had ended by itself */
  release(lease: string): { heldMs: number | null } {
    const hold = this.#byLease.get(lease);
    this.#byLease.delete(lease);
    hold?.open();
    return { heldMs: hold ? Math.round(performance.now() - hold.since) : null };
  }
}
