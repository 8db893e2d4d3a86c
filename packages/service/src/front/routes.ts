import { randomUUID } from 'node:crypto';
import * as fs from 'node:fs/promises';
import type { EnvironmentRecord, Environments } from '../fleet/environments.js';
import type { Servers } from '../fleet/servers.js';
import type { DataFolder } from '../ground/data-folder.js';
import type { Ground } from '../ground/ground.js';
import type { OnRecords } from '../ground/open.js';
import type { GatewayControl } from './control.js';
import { type Holders, holdersOf } from './holders.js';

/** What the gateway knows of one host name. */
export interface Route {
  readonly host: string;
  readonly environment: string;
  readonly kind: 'dev' | 'staging' | 'live';
  readonly upstream: { readonly host: string; readonly port: number };
  readonly gate: { readonly user: string; readonly password: string } | null;
  readonly refreshedAt: string | null;
  readonly console: string;
}

/** What the gateway is told. */
export interface Published {
  readonly routes: readonly Route[];
  /** Who may pass gates, and where. */
  readonly holders: Holders;
}

/** Any number that no other advisory lock of the records has. */
const PUBLISH_LOCK = 29783;

/**
 * Writes the gateway's routes anew from the records; the gateway follows the file. One after the other, in whatever process:
 * what was read last is what stands there.
 */
export async function publishRoutes(
  on: OnRecords,
  folder: DataFolder,
  environments: Environments,
  servers: Servers,
  consoleUrl: string,
): Promise<void> {
  const path = folder.run('gateway-routes.json');
  const temporary = `${path}.${randomUUID()}.new`;
  await on.transaction(async (trx) => {
    await trx.raw('SELECT pg_advisory_xact_lock(?, 0)', [PUBLISH_LOCK]);
    const all = await servers.list(trx);
    const routes = (await environments.list(trx))
      .filter((environment) => environment.status === 'ready')
      .flatMap((environment) =>
        routesOf(
          environment,
          all.find((server) => server.name === environment.server)?.web_host ?? { host: '127.0.0.1', port: 9 },
          consoleUrl,
        ),
      );
    const published: Published = { routes, holders: await holdersOf(trx, new Date()) };
    await fs.writeFile(temporary, JSON.stringify(published), { mode: 0o600 });
    await fs.rename(temporary, path);
  });
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

/** What the front of an installation is led by. */
export interface Fronted extends Ground {
  readonly environments: Environments;
  readonly servers: Servers;
  readonly gateway: GatewayControl;
}

/** Lets the gateway know who may see what by now. It goes on by what it knew where it cannot be reached. */
export async function publishHolders(installation: Fronted): Promise<void> {
  const { records, folder, environments, servers, consoleUrl, gateway, log } = installation;
  await publishRoutes(records, folder, environments, servers, consoleUrl);
  await gateway.reload().catch((error: unknown) => log.error({ err: error }, 'the gateway was not told who may see'));
}
