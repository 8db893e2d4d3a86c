import { toBytes } from '@tessarion/core';
import { layout, type ServerConnection, showPath } from '@tessarion/engine';
import { unreadable } from '../fleet/environments.js';
import { markOf } from '../fleet/mark.js';
import type { ServerRecord } from '../fleet/servers.js';
import type { Installation } from '../transfers/installation.js';

/** What lies on a server, was made by this installation, and belongs to nothing that it knows. */
export interface LeftBehind {
  readonly databases: string[];
  readonly folders: string[];
}

/** Transfers that may be making or removing what no environment has yet, or has no longer. */
const OPEN = ['waiting', 'running', 'stopping'] as const;

/**
 * Compares what lies on a server with the records: what a death, a backup put back or a hand has left there. Only what has
 * this installation's mark is told, which live sites never have.
 *
 * @throws {EngineError} where the server cannot be reached or the record of an environment is damaged
 */
export async function findLeftBehind(installation: Installation, server: ServerRecord): Promise<LeftBehind> {
  const { records, environments, servers, transfers, folder } = installation;
  const mark = markOf(folder);
  // What lies there is looked at first: what is made meanwhile is on record by then.
  const databases = await servers.admin(server).marked(mark);
  const folders = await markedFolders(servers.connectAbove(server), server.folder, mark);
  if (databases.length + folders.length === 0) return { databases, folders };
  const all = await environments.list(records);
  // Of one whose record was damaged nobody knows what belongs to it.
  const damaged = all.find((one) => one.isUnreadable);
  if (damaged) throw unreadable(damaged);
  const known = new Set(
    all.flatMap((one) => [one.folder, ...one.databases.flatMap((login) => [login.database, login.user])]),
  );
  const open = (await records('transfer').whereIn('state', OPEN).select('id')) as { id: string }[];
  const used = (
    await Promise.all(open.map(async ({ id }) => JSON.stringify((await transfers.get(records, id)).noted)))
  ).join();
  const isNobodys = (name: string): boolean => !known.has(name) && !used.includes(JSON.stringify(name));
  return { databases: databases.filter(isNobodys), folders: folders.filter(isNobodys) };
}

async function markedFolders(server: ServerConnection, path: string, mark: string): Promise<string[]> {
  const folder = toBytes(path);
  const found: string[] = [];
  for await (const node of server.listFolder(folder)) {
    if (node.type !== 'folder') continue;
    const own = `${folder}/${node.path}`;
    const fence = await server.readFile(layout.fence(own)).catch(() => undefined);
    if (fence?.toString().endsWith(mark)) found.push(showPath(own));
  }
  return found.sort();
}

/** Removes what {@link findLeftBehind} finds in this moment. @returns what was removed */
export async function removeLeftBehind(installation: Installation, server: ServerRecord): Promise<LeftBehind> {
  const found = await findLeftBehind(installation, server);
  await installation.servers.admin(server).drop(...found.databases.map((name) => ({ database: name, user: name })));
  const connection = installation.servers.connectAbove(server);
  for (const folder of found.folders) await connection.remove(toBytes(folder));
  return found;
}
