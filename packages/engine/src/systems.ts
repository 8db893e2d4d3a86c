import { LocalServer } from './local/local-server.js';
import type { DatabaseSystem } from './ports/database.js';
import { EngineError } from './ports/errors.js';
import type { ObjectPlace, ObjectStore } from './ports/objects.js';
import type { ServerConnection, ServerReach } from './ports/server.js';
import { postgresql } from './postgres/system.js';
import type { Environment } from './site/environment.js';
import type { PortableEnvironment } from './site/portable.js';
import { FolderObjects } from './store/objects-folder.js';

const SYSTEMS: readonly DatabaseSystem[] = [postgresql];

/** The system of the databases of a server that does not say which. */
export const USUAL_SYSTEM = postgresql.name;

/** A kind of database by its name. @throws {EngineError} `schema-unsupported` for one that there is not */
export function databaseSystem(name: string = USUAL_SYSTEM): DatabaseSystem {
  const found = SYSTEMS.find((one) => one.name === name);
  if (!found)
    throw new EngineError(
      'schema-unsupported',
      `There are no databases of the kind "${name}".`,
      `Name one of: ${SYSTEMS.map((one) => one.name).join(', ')}.`,
    );
  return found;
}

/** How servers are connected to, by their kind. */
const SERVERS: Readonly<Record<string, (reach: ServerReach) => ServerConnection>> = {
  local: ({ base }) => new LocalServer(base),
};

/** A server by how it is reached. @throws {EngineError} `server-unreachable` for a kind that there is not */
export function connectServer(reach: ServerReach): ServerConnection {
  const connect = SERVERS[reach.kind];
  if (!connect)
    throw new EngineError(
      'server-unreachable',
      `There are no servers of the kind "${reach.kind}".`,
      `Name one of: ${Object.keys(SERVERS).join(', ')}.`,
    );
  return connect(reach);
}

/** How stores of objects are opened, by their kind. */
const STORES: Readonly<Record<string, (at: string) => ObjectStore>> = {
  folder: (at) => new FolderObjects(at),
};

/** A store of objects by its place. @throws {EngineError} `file-unreadable` for a kind that there is not */
export function openObjects({ kind, at }: ObjectPlace): ObjectStore {
  const open = STORES[kind];
  if (!open)
    throw new EngineError(
      'file-unreadable',
      `There are no stores of the kind "${kind}".`,
      `Name one of: ${Object.keys(STORES).join(', ')}.`,
    );
  return open(at);
}

/** What {@link toPortable} made of an environment as one again. */
export const connectAgain = ({ reach, databases, ...data }: PortableEnvironment): Environment => ({
  ...data,
  server: connectServer(reach),
  databases: databases.map(({ system, ...one }) => ({
    ...one,
    // A thread that copies files asks for none.
    get system() {
      return databaseSystem(system);
    },
  })),
});
