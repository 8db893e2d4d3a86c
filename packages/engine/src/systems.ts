import { LocalServer } from './local/local-server.js';
import { mariadb } from './mariadb/system.js';
import type { DatabaseSystem } from './ports/database.js';
import { EngineError, type EngineErrorCode } from './ports/errors.js';
import type { ObjectPlace, ObjectStore } from './ports/objects.js';
import { fromServer, type ServerConnection, type ServerReach } from './ports/server.js';
import { postgresql } from './postgres/system.js';
import type { Environment } from './site/environment.js';
import type { PortableEnvironment } from './site/portable.js';
import type { SshReach } from './ssh/link.js';
import { SshServer } from './ssh/ssh-server.js';
import { FolderObjects } from './store/objects-folder.js';

const SYSTEMS: Readonly<Record<string, DatabaseSystem>> = { [postgresql.name]: postgresql, [mariadb.name]: mariadb };

/** The system of the databases of a server that does not say which. */
export const USUAL_SYSTEM = postgresql.name;

/** A kind of database by its name. @throws {EngineError} `schema-unsupported` for one that there is not */
export const databaseSystem = (name: string = USUAL_SYSTEM): DatabaseSystem =>
  ofKind(SYSTEMS, name, 'databases', 'schema-unsupported');

/** How servers are connected to, by their kind. */
const SERVERS: Readonly<Record<string, (reach: ServerReach) => ServerConnection>> = {
  local: ({ base }) => new LocalServer(base),
  ssh: (reach) => new SshServer(reach as SshReach),
};

/** A server by how it is reached. @throws {EngineError} `server-unreachable` for a kind that there is not */
export const connectServer = (reach: ServerReach): ServerConnection =>
  ofKind(SERVERS, reach.kind, 'servers', 'server-unreachable')(reach);

/** How stores of objects are opened, by their kind. */
const STORES: Readonly<Record<string, (at: string) => ObjectStore>> = {
  folder: (at) => new FolderObjects(at),
};

/** A store of objects by its place. @throws {EngineError} `file-unreadable` for a kind that there is not */
export const openObjects = ({ kind, at }: ObjectPlace): ObjectStore =>
  ofKind(STORES, kind, 'stores', 'file-unreadable')(at);

/** @throws {EngineError} `code`, which names the kinds that there are */
function ofKind<T>(all: Readonly<Record<string, T>>, kind: string, what: string, code: EngineErrorCode): T {
  const found = Object.hasOwn(all, kind) ? all[kind] : undefined;
  if (found) return found;
  throw new EngineError(
    code,
    `There are no ${what} of the kind "${kind}".`,
    `Name one of: ${Object.keys(all).join(', ')}.`,
  );
}

/** What {@link toPortable} made of an environment as one again. */
export function connectAgain({ reach, databases, ...data }: PortableEnvironment): Environment {
  const server = connectServer(reach);
  return {
    ...data,
    server,
    databases: databases.map(({ system, login, ...one }) => ({
      ...one,
      login: fromServer(server, login),
      // A thread that copies files asks for none.
      get system() {
        return databaseSystem(system);
      },
    })),
  };
}
