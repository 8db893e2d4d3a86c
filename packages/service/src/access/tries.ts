import { ProblemError } from '../problems.js';

const LONGEST_WAIT_SECONDS = 900;
const REMEMBERED = 10_000;

/** Counts failed tries to get in, and holds off those who try too often: longer each time. */
export class Tries {
  readonly #failures = new Map<string, { count: number; until: number }>();

  constructor(private readonly now: () => Date) {}

  /** @throws {ProblemError} `too-many-tries` while one of some counts is held off */
  mustBeFree(...counted: readonly string[]): void {
    const now = this.now().getTime();
    const until = Math.max(...counted.map((one) => this.#failures.get(one)?.until ?? 0));
    if (until > now)
      throw new ProblemError('too-many-tries', 'Too many tries.', `Wait ${Math.ceil((until - now) / 1000)} s.`);
  }

  /** @param free how many tries are free before the first wait */
  fail(of: string, free: number): void {
    const now = this.now().getTime();
    const count = (this.#failures.get(of)?.count ?? 0) + 1;
    const wait = count < free ? 0 : Math.min(LONGEST_WAIT_SECONDS, 2 ** (count - free + 1)) * 1000;
    this.#failures.set(of, { count, until: wait === 0 ? 0 : now + wait });
    if (this.#failures.size > REMEMBERED)
      for (const [one, { until }] of this.#failures) if (until < now) this.#failures.delete(one);
  }

  succeed(...counted: readonly string[]): void {
    for (const one of counted) this.#failures.delete(one);
  }
}
