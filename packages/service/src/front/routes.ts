import { EngineError } from '@tessarion/engine';
import type { EnvironmentRecord, Environments } from '../fleet/environments.js';
import type { Servers } from '../fleet/servers.js';
import type { Ground } from '../ground/ground.js';
import type { OnRecords } from '../ground/open.js';
import type { Front, Published, Route } from './front.js';
import { holdersOf } from './holders.js';

/** Any number that no other advisory lock of the records has. */
const PUBLISH_LOCK = 29783;

/** What the front of an installation is led by. */
export interface Fronted extends Ground {
  readonly environments: Environments;
  readonly servers: Servers;
  readonly front: Front;
}

/**
 * Lets the front serve what the records say now. One after the other, in whatever process: what was read last is what it serves.
 *
 * @param publish to whom it goes, where not to the front itself
 */
export async function publishRoutes(
  installation: Fronted,
  publish = (published: Published): Promise<void> => installation.front.publish(published),
): Promise<void> {
  await installation.records.transaction(async (trx) => {
    await trx.raw('SELECT pg_advisory_xact_lock(?, 0)', [PUBLISH_LOCK]);
    await publish({ routes: await routesNow(trx, installation), holders: await holdersOf(trx, installation.now()) });
  });
}

async function routesNow(trx: OnRecords, { environments, servers, consoleUrl }: Fronted): Promise<Route[]> {
  const all = await servers.list(trx);
  return (await environments.list(trx))
    .filter((environment) => environment.status === 'ready')
    .flatMap((environment) =>
      routesOf(
        environment,
        all.find((server) => server.name === environment.server)?.web_host ?? { host: '127.0.0.1', port: 9 },
        consoleUrl,
      ),
    );
}

function routesOf(environment: EnvironmentRecord, upstream: Route['upstream'], consoleUrl: string): Route[] {
  const hosts = new Set(
    environment.addresses.flatMap((address) => [address.host, ...address.aliases.map((alias) => alias.host)]),
  );
  return [...hosts].map((host) => ({
    host,
    environment: environment.path,
    kind: environment.kind,
    upstream,
    gate: environment.gate,
    refreshedAt: environment.refreshed_at?.toISOString() ?? null,
    console: consoleUrl,
  }));
}

/** Lets the front know who may see what by now. It goes on by what it knew where it cannot be reached. */
export async function publishHolders(installation: Fronted): Promise<void> {
  await publishRoutes(installation).catch((error: unknown) => {
    if (!(error instanceof EngineError && error.code === 'server-unreachable')) throw error;
    installation.log.error({ err: error }, 'the front was not told who may see');
  });
}
