import { KINDS_UPWARD } from '@tessarion/core';
import type { EnvironmentRecord, Environments } from '../fleet/environments.js';
import type { OnRecords } from '../ground/open.js';
import { baselinesOf } from '../stored/snapshots.js';
import type { TransferFacts } from './transfer-facts.js';

/**
 * What a copy's work goes up to: of all above it with which it has things in common, the next kind, what it was made of
 * before others, and the newest of those. Live where it has nothing in common with any.
 *
 * @returns undefined for live, and for a copy of another site's
 */
export async function aboveOf(
  on: OnRecords,
  environments: Environments,
  { path, site, kind, made_from }: Pick<EnvironmentRecord, 'path' | 'site' | 'kind' | 'made_from'>,
): Promise<EnvironmentRecord | undefined> {
  const pairs = (await baselinesOf(on, path)).filter((one) => one.lower === path);
  const isSource = ({ upper }: { readonly upper: string }): number => (upper === made_from ? 1 : 0);
  pairs.sort((a, b) => isSource(b) - isSource(a) || +b.created_at - +a.created_at);
  const found: EnvironmentRecord[] = [];
  for (const { upper } of pairs) {
    const one = await environments.find(on, upper);
    // A copy waits for what lies above it, not for its siblings.
    if (one && one.kind !== kind) found.push(one);
  }
  for (const next of KINDS_UPWARD.slice(1)) {
    const one = found.find((each) => each.kind === next);
    if (one) return one;
  }
  return made_from?.startsWith(`${site}/`) ? environments.find(on, `${site}/live`) : undefined;
}

/** How far a copy and what lies above it are apart, by a forecast of everything. */
export function driftOf({ collector, news }: TransferFacts, at: Date): NonNullable<EnvironmentRecord['drift']> {
  const waiting = [...collector.items.values()].filter(
    (item) => item.outcome === 'written' || item.outcome === 'needs-you',
  );
  const first = waiting.slice(0, FEW).map(({ kind, title, change }) => ({ kind, title, change }));
  return { up: waiting.length, down: news, at: at.toISOString(), first };
}

/** As many as a glance takes in. */
const FEW = 8;
