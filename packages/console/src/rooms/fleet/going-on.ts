import type { FleetRequest, FleetSite } from '@tessarion/contract';
import { clock } from '../../parts/moments.js';
import { ofKind, rank } from './groups.js';

/** What is going on at a site, in a few words; empty where its lane says all. */
export interface GoingOn {
  readonly words: string;
  /** Whether somebody must do something, or it happens now. */
  readonly isHot: boolean;
  /** Where it is told in full. */
  readonly to?: string;
}

const VERBS: Readonly<Record<string, string>> = {
  clone: 'Making',
  push: 'Pushing onto',
  pull: 'Bringing news into',
  reset: 'Resetting',
  restore: 'Restoring',
  undo: 'Undoing on',
  snapshot: 'Taking a snapshot of',
  remove: 'Removing',
  rename: 'Renaming',
  adopt: 'Bringing in',
};

const threads = (count: number): string =>
  count === 0 ? '' : count === 1 ? ', 1 open thread' : `, ${count} open threads`;

/** What a change request asks for, the more pressing the lower; none where it waits for nobody. */
function asks(one: FleetRequest): { readonly rank: number; readonly words: string; readonly isHot: boolean } {
  if (one.unsettled > 0)
    return {
      rank: 1,
      words: one.unsettled === 1 ? '1 collision to settle' : `${one.unsettled} collisions to settle`,
      isHot: true,
    };
  switch (one.state) {
    case 'blocked':
      return { rank: 0, words: 'A delivery did not go', isHot: true };
    case 'returned':
      return { rank: 2, words: 'Sent back to its author', isHot: false };
    case 'delivering':
      return { rank: 2, words: 'Being delivered', isHot: true };
    case 'in-review':
      return { rank: 3, words: `In review${threads(one.openThreads)}`, isHot: false };
    case 'scheduled':
      return { rank: 4, words: one.deliverAt ? `Delivers ${clock(one.deliverAt)}` : 'Scheduled', isHot: false };
    case 'approved':
      return { rank: 5, words: 'Approved, may be delivered', isHot: false };
  }
}

/**
 * The first of these that holds: a failure, work under way, what a change request asks for, a freeze, variants among which
 * one is to be chosen. What waits in a lane stands in the lane.
 */
export function goingOn(site: FleetSite): GoingOn | undefined {
  const [worst] = [...site.environments].sort((a, b) => rank(a) - rank(b));
  if (worst && (worst.state === 'failed' || worst.state === 'not-reached'))
    return {
      words: `${worst.name}: ${worst.reason}`,
      isHot: true,
      to: `/sites/${site.name}?at=${worst.name}`,
    };
  const running = site.environments.find((one) => one.running)?.running;
  if (running)
    return {
      words: `${VERBS[running.kind] ?? running.kind} ${running.onto.split('/')[1] ?? running.onto}`,
      isHot: true,
      to: `/transfers/${running.id}`,
    };
  const [first, ...others] = site.requests.map((one) => ({ one, ...asks(one) })).sort((a, b) => a.rank - b.rank);
  if (first)
    return {
      words: `${first.words}${others.length === 0 ? '' : `; ${others.length} more`}`,
      isHot: first.isHot,
      to: others.length === 0 ? `/requests/${first.one.id}` : `/requests?view=open&site=${site.name}`,
    };
  if (site.frozenUntil !== null) return { words: `Frozen until ${clock(site.frozenUntil)}`, isHot: false };
  const variants = ofKind(site, 'staging').filter((one) => (one.drift?.up ?? 0) > 0);
  if (variants.length > 1)
    return { words: `${variants.length} variants wait`, isHot: false, to: `/sites/${site.name}` };
  return undefined;
}
