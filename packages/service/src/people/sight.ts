import { type Actor, decide, type Scope } from '@tessarion/core';
import type { Knex } from 'knex';
import type { OnRecords } from '../ground/open.js';

/** What somebody may read of the fleet. */
export class Sight {
  /** @param environments paths of single environments, beside those of the sites */
  constructor(
    readonly isWhole: boolean,
    readonly sites: ReadonlySet<string>,
    readonly environments: ReadonlySet<string>,
  ) {}

  seesEnvironment(path: string): boolean {
    return this.isWhole || this.sites.has(path.split('/')[0] as string) || this.environments.has(path);
  }

  /** Whether anything of a site may be read. */
  seesSite(site: string): boolean {
    return this.isWhole || this.sites.has(site) || [...this.environments].some((path) => path.startsWith(`${site}/`));
  }

  /** Whether anything may be read of what a role is given for. @param clients of the sites that may be read */
  seesScope(scope: Scope, clients: ReadonlySet<string>): boolean {
    switch (scope.to) {
      case 'everything':
        return true;
      case 'client':
        return this.isWhole || clients.has(scope.client);
      case 'site':
        return this.seesSite(scope.site);
      case 'environment':
        return this.seesEnvironment(scope.environment);
    }
  }

  /** Leaves of a query only rows of things that may be read. */
  narrow(query: Knex.QueryBuilder, site: string, environment: string): void {
    if (this.isWhole) return;
    query.where((either) => either.whereIn(site, [...this.sites]).orWhereIn(environment, [...this.environments]));
  }
}

/** What an actor may read, of all sites that there are. */
export async function sightOf(on: OnRecords, actor: Actor): Promise<Sight> {
  if (decide(actor, 'site.read', { is: 'installation' }).allowed) return new Sight(true, new Set(), new Set());
  const sites = (await on('site').select('name', 'client')) as { name: string; client: string }[];
  const readable = sites.filter(
    ({ name, client }) => decide(actor, 'site.read', { is: 'site', site: name, client }).allowed,
  );
  const named = [...actor.grants.map((grant) => grant.scope), ...(actor.token ? [actor.token.scope] : [])].flatMap(
    (scope) => (scope.to === 'environment' ? [scope.environment] : []),
  );
  const environments = named.filter((path) => {
    const site = sites.find(({ name }) => path.startsWith(`${name}/`));
    return (
      site !== undefined &&
      decide(actor, 'site.read', {
        is: 'environment',
        site: site.name,
        client: site.client,
        environment: path,
        // What may be read does not depend on the kind.
        kind: 'dev',
      }).allowed
    );
  });
  return new Sight(false, new Set(readable.map((one) => one.name)), new Set(environments));
}
