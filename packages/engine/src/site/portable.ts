import type { SiteDatabase } from '../ports/database.js';
import type { ServerReach } from '../ports/server.js';
import type { Environment } from './environment.js';

/** An environment as plain data, for another thread. */
export interface PortableEnvironment extends Omit<Environment, 'server' | 'databases'> {
  readonly reach: ServerReach;
  readonly databases: readonly (Omit<SiteDatabase, 'system'> & { readonly system: string })[];
}

/** What {@link connectAgain} makes an environment of again. */
export function toPortable({ server, databases, ...data }: Environment): PortableEnvironment {
  return {
    ...data,
    reach: server.reach,
    databases: databases.map(({ name, login: { by: _server, ...login }, system }) => ({
      name,
      login,
      system: system.name,
    })),
  };
}
