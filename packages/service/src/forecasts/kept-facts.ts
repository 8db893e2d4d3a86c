import type { Installation } from '../transfers/installation.js';
import type { TransferFacts } from './transfer-facts.js';

/**
 * What this process's forecasts found lately: a transfer takes it from here where it can prove that nothing was written
 * since, and compares again otherwise. Nothing hangs on it: whoever starts anew compares again.
 */
export class KeptFacts {
  readonly #kept = new Map<string, TransferFacts>();
  /** The worker whose process this is; undefined in others. */
  worker: number | undefined;

  /** @param forecast its id. @returns whether it is kept */
  keep(forecast: string, facts: TransferFacts): boolean {
    this.#kept.delete(forecast);
    // Nobody could prove later that it still holds.
    if (!facts.standing || weightOf(facts) > MOST_ALONE) return false;
    this.#kept.set(forecast, facts);
    setTimeout(() => {
      if (this.#kept.get(forecast) === facts) this.#kept.delete(forecast);
    }, KEPT_MS).unref();
    let weight = 0;
    for (const [id, one] of [...this.#kept].reverse()) {
      weight += weightOf(one);
      if (weight > MOST_KEPT && id !== forecast) this.#kept.delete(id);
    }
    return true;
  }

  /** @returns what was found, which others then do not find here any more */
  take(forecast: string): TransferFacts | undefined {
    const found = this.#kept.get(forecast);
    this.#kept.delete(forecast);
    return found;
  }
}

/** Changes and items that are kept, and how many the last forecast may have by itself; each takes a few kilobytes. */
const MOST_KEPT = 20_000;
const MOST_ALONE = 300_000;
/** Whoever looks at a forecast for longer waits for another comparison. */
const KEPT_MS = 20 * 60_000;

/** One that found nothing holds what it was found by all the same. */
const weightOf = ({ changes, collector }: TransferFacts): number => 200 + changes.length + collector.items.size;

const ofInstallations = new WeakMap<Installation, KeptFacts>();

/** What the forecasts of an installation found that this process computed. */
export function keptFacts(installation: Installation): KeptFacts {
  const kept = ofInstallations.get(installation) ?? new KeptFacts();
  ofInstallations.set(installation, kept);
  return kept;
}
