import { isIPv6 } from 'node:net';
import { TooMany } from '../ground/problems.js';

const LONGEST_WAIT_SECONDS = 900;
const REMEMBERED = 10_000;
/** Tries of one account or place that may run at once. */
const AT_ONCE = 10;

/** What a network address is counted as: of IPv6 somebody has a whole network of 64 bits to choose addresses from. */
export function placeOf(address: string): string {
  const bare = address.replace(/^::ffff:(?=\d+\.)/i, '');
  if (!isIPv6(bare)) return bare;
  const [head = '', tail] = bare.split('%')[0]?.split('::') ?? [];
  const left = head.split(':').filter((one) => one !== '');
  const right = (tail ?? '').split(':').filter((one) => one !== '');
  const groups = tail === undefined ? left : [...left, ...Array(8 - left.length - right.length).fill('0'), ...right];
  return `${groups
    .slice(0, 4)
    .map((one) => Number.parseInt(one, 16).toString(16))
    .join(':')}::/64`;
}

/** What tries are counted against: an account, a link, an address. */
export interface Counted {
  readonly who: string;
  /** How many tries fail before the first wait. */
  readonly free: number;
}

interface Count {
  failed: number;
  /** Tries that have begun and not ended. */
  running: number;
  /** Nobody may try before, in milliseconds. */
  until: number;
}

/** A try that has begun. It ends in any case: `try { … } finally { attempt.end() }`. */
export interface Attempt {
  fail(...counted: readonly Counted[]): void;
  /** Forgets what failed before. */
  succeed(...counted: readonly Counted[]): void;
  end(): void;
}

/** Counts failed tries to get in, and holds off those who try too often: longer each time. */
export class Tries {
  readonly #counts = new Map<string, Count>();

  constructor(private readonly now: () => Date) {}

  /**
   * Begins a try. Those that run count as if they had failed, so that many at once are no way around the wait.
   *
   * @throws {ProblemError} `too-many-tries` while one of the counts is held off
   */
  begin(...counted: readonly Counted[]): Attempt {
    const now = this.now().getTime();
    const waits = counted.map(({ who, free }) => {
      const { failed, running, until } = this.#counts.get(who) ?? { failed: 0, running: 0, until: 0 };
      if (until > now) return until - now;
      return running < Math.min(AT_ONCE, Math.max(1, free - failed)) ? 0 : 1000;
    });
    const wait = Math.max(...waits);
    if (wait > 0) throw new TooMany('too-many-tries', 'Too many tries.', Math.ceil(wait / 1000));
    const running = counted.map(({ who }) => this.#of(who));
    for (const count of running) count.running++;
    return {
      fail: (...failed) => {
        for (const one of failed) this.#fail(one);
      },
      succeed: (...succeeded) => {
        for (const { who } of succeeded) Object.assign(this.#of(who), { failed: 0, until: 0 });
      },
      end: () => {
        for (const count of running.splice(0)) count.running--;
        if (this.#counts.size > REMEMBERED) this.#forget();
      },
    };
  }

  #of(who: string): Count {
    const count = this.#counts.get(who) ?? { failed: 0, running: 0, until: 0 };
    this.#counts.set(who, count);
    return count;
  }

  #fail({ who, free }: Counted): void {
    const count = this.#of(who);
    count.failed++;
    if (count.failed < free) return;
    const seconds = Math.min(LONGEST_WAIT_SECONDS, 2 ** (count.failed - free + 1));
    count.until = this.now().getTime() + seconds * 1000;
  }

  #forget(): void {
    const now = this.now().getTime();
    for (const [who, { running, until }] of this.#counts) if (running === 0 && until < now) this.#counts.delete(who);
  }
}
