import { formatLocation } from '@tessarion/core';
import type { Environment } from '@tessarion/engine';
import type { Ground } from '../ground/ground.js';
import type { Environments } from './environments.js';
/** Hosts of the site's other environments, which have no business in this one. */
export async function otherHosts(
  { environments, records }: Pick<Ground, 'records'> & { readonly environments: Environments },
  destination: Environment,
): Promise<string[]> {
  const all = await environments.list(records, destination.site);
  const hostOf = (address: Parameters<typeof formatLocation>[0]): string => new URL(formatLocation(address)).host;
  const own = new Set(destination.place.addresses.map(hostOf));
  return all
    .filter((one) => one.path !== destination.path)
    .flatMap((one) => one.addresses.map(hostOf))
    .filter((host) => !own.has(host));
}
