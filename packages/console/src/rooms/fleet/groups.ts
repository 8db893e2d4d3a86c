import type { Environment, EnvironmentKind, EnvironmentState, Site } from '@tessarion/contract';

/** A copy to which no news came for so long is stale. */
export const STALE_DAYS = 14;

const WORST: readonly EnvironmentState[] = ['not-reached', 'failed', 'working', 'frozen', 'drifted', 'in-step'];

export const copiesOf = (site: Site): Environment[] => site.environments.filter((one) => one.kind !== 'live');
export const ofKind = (site: Site, kind: EnvironmentKind): Environment[] =>
  site.environments.filter((one) => one.kind === kind);
/** The lower, the more it needs somebody. */
export const rank = (one: Environment): number => WORST.indexOf(one.state);

export type Group = 'Needs a hand' | 'On the move' | 'Drifted' | 'In step';
export const GROUPS: readonly Group[] = ['Needs a hand', 'On the move', 'Drifted', 'In step'];

/** Where a site stands in the list, by what its environments need most. */
export function groupOf(site: Site): Group {
  const states = new Set(site.environments.map((one) => one.state));
  if (states.has('failed') || states.has('not-reached')) return 'Needs a hand';
  if (states.has('working')) return 'On the move';
  return states.has('drifted') ? 'Drifted' : 'In step';
}
