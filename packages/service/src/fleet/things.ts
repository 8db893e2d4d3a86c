import type { EnvironmentKind, Thing } from '@tessarion/core';
import { noEnvironment, noSite } from '../ground/absent.js';
import type { OnRecords } from '../ground/open.js';

/**
 * An environment as what is acted upon; one that is gone belongs to its site still, and counts as the strictest kind.
 *
 * @throws {ProblemError} `not-found`
 */
export async function environmentThing(on: OnRecords, path: string, absent = noEnvironment(path)): Promise<Thing> {
  const [site, name] = path.split('/') as [string, string];
  const owner = (await on('site as s')
    .leftJoin('environment as e', (join) => join.on('e.site', 's.name').andOnVal('e.path', path))
    .where('s.name', site)
    .first('s.client', 'e.kind')) as { client: string; kind: EnvironmentKind | null } | undefined;
  if (!owner) throw absent;
  const kind = owner.kind ?? (name === 'live' ? 'live' : 'staging');
  return { is: 'environment', site, client: owner.client, environment: path, kind };
}

/** A site as what is acted upon. @throws {ProblemError} `not-found` */
export async function siteThing(on: OnRecords, site: string): Promise<Thing> {
  const found = (await on('site').where({ name: site }).first('client')) as { client: string } | undefined;
  if (!found) throw noSite(site);
  return { is: 'site', site, client: found.client };
}
