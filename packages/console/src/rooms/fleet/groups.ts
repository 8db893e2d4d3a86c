import type { EnvironmentKind, EnvironmentState, FleetEnvironment, FleetSite } from '@tessarion/contract';

/** A copy to which no news came for so long is stale. */
export const STALE_DAYS = 14;

const WORST: readonly EnvironmentState[] = ['not-reached', 'failed', 'working', 'frozen', 'drifted', 'in-step'];

/** The environments of a site that are copies. */
export const copiesOf = (site: FleetSite): FleetEnvironment[] => site.environments.filter((one) => one.kind !== 'live');
/** The environments of a site of one kind. */
export const ofKind = (site: FleetSite, kind: EnvironmentKind): FleetEnvironment[] =>
  site.environments.filter((one) => one.kind === kind);
/** The lower, the more it needs somebody. */
export const rank = (one: FleetEnvironment): number => WORST.indexOf(one.state);
/** Whether no news came to a copy for {@link STALE_DAYS} days. */
export const isStale = ({ refreshedAt }: FleetEnvironment, now: number): boolean =>
  refreshedAt !== null && now - Date.parse(refreshedAt) > STALE_DAYS * 86_400_000;

/** By what sites are put together in the list. */
export const GROUPINGS = ['need', 'client', 'tag', 'server'] as const;
/** One of {@link GROUPINGS}. */
export type Grouping = (typeof GROUPINGS)[number];

const NEEDS = ['Needs a hand', 'On the move', 'Drifted', 'In step'] as const;

/** Where a site stands in the list, by what its environments need most. */
function needOf(site: FleetSite): (typeof NEEDS)[number] {
  const states = new Set(site.environments.map((one) => one.state));
  if (states.has('failed') || states.has('not-reached')) return 'Needs a hand';
  if (states.has('working')) return 'On the move';
  return states.has('drifted') ? 'Drifted' : 'In step';
}

/** The groups of a list in their order, each with its sites; one with several tags stands under each. */
export function groupsOf(
  sites: readonly FleetSite[],
  by: Grouping,
): { readonly name: string; readonly sites: FleetSite[] }[] {
  const keysOf = (site: FleetSite): readonly string[] =>
    by === 'need'
      ? [needOf(site)]
      : by === 'client'
        ? [site.client]
        : by === 'server'
          ? [site.environments[0]?.server ?? 'no server']
          : site.tags.length === 0
            ? ['without a tag']
            : site.tags;
  const found = new Map<string, FleetSite[]>();
  for (const site of sites)
    for (const key of keysOf(site)) {
      const group = found.get(key);
      if (group) group.push(site);
      else found.set(key, [site]);
    }
  const order = by === 'need' ? NEEDS : [...found.keys()].sort((a, b) => a.localeCompare(b));
  return order.flatMap((name) => {
    const own = found.get(name);
    return own ? [{ name, sites: own }] : [];
  });
}
