import { posix } from 'node:path';
import type { DatabaseLogin, ServerConnection } from '@tessarion/engine';
import { ProblemError } from '../ground/problems.js';
import { type EnvironmentRecord, siteDatabase } from './environments.js';
import { machineOf } from './servers.js';

/** What somebody says of a site that runs. */
interface Bringing {
  readonly folder: string;
  readonly databases: readonly (DatabaseLogin & { readonly name: string })[];
}

/** @throws {ProblemError} `invalid` */
function plainly(folder: string): string {
  const bare = folder.replace(/\/+$/, '');
  if (bare !== '' && posix.normalize(bare) === bare) return bare;
  throw new ProblemError(
    'invalid',
    `${folder} is not written plainly.`,
    'Write it without "..", "." and double slashes.',
  );
}

/**
 * Below which the files of a server's sites lie: never Tessarion's own.
 *
 * @param data Tessarion's own folder, where the server is the machine that it runs on
 * @returns the folder without a slash at its end
 * @throws {ProblemError} `invalid`
 */
export function serverFolder(folder: string, data: string | undefined): string {
  const bare = plainly(folder);
  if (data === undefined) return bare;
  if (`${data}/`.startsWith(`${bare}/`) || bare.startsWith(`${data}/`))
    throw new ProblemError(
      'invalid',
      `Tessarion’s own data lie in ${data}.`,
      'Choose a folder that holds sites alone.',
    );
  return bare;
}

/**
 * Where the files of a site lie that is brought in: below the folder of its server, and beside those of all others.
 *
 * @returns the folder without a slash at its end
 * @throws {ProblemError} `invalid`, `taken`
 */
export function ownFolder(
  { folder }: Pick<Bringing, 'folder'>,
  server: { readonly name: string; readonly folder: string },
  others: readonly Pick<EnvironmentRecord, 'path' | 'folder'>[],
): string {
  const bare = plainly(folder);
  if (!bare.startsWith(`${server.folder}/`))
    throw new ProblemError(
      'invalid',
      `${folder} does not lie below ${server.folder}, the folder of ${server.name}.`,
      'Name a folder below it, or add a server whose folder holds it: tessarion server add',
    );
  const holder = others.find(
    (one) => one.folder === bare || one.folder.startsWith(`${bare}/`) || bare.startsWith(`${one.folder}/`),
  );
  if (holder)
    throw new ProblemError('taken', `${folder} is where ${holder.path} lies.`, 'Name the folder of this site alone.');
  return bare;
}

/** @param machine from which it is called so, see {@link machineOf} */
const placeOf = ({ host, port, database }: DatabaseLogin, machine: string): string =>
  `${machine}${host === 'localhost' || host === '::1' ? '127.0.0.1' : host.toLowerCase()}:${port}/${database}`;

/**
 * Sees that the databases of a site that is brought in can be reached, belong to no other, and by logins that reach no more than
 * them: whoever writes the site's code has what its logins have.
 *
 * @param server on which it is brought in
 * @param records where Tessarion's own records are
 * @throws {ProblemError} `taken`, `invalid`
 * @throws {EngineError} when one cannot be reached
 */
export async function mustBeOwnDatabases(
  { databases }: Pick<Bringing, 'databases'>,
  { reach, carrier }: Pick<ServerConnection, 'reach' | 'carrier'>,
  others: readonly Pick<EnvironmentRecord, 'path' | 'databases' | 'reach'>[],
  records: string,
): Promise<void> {
  const held = new Map(
    others.flatMap((one) => one.databases.map((login) => [placeOf(login, machineOf(one.reach)), one.path] as const)),
  );
  const own = new URL(records);
  held.set(`${own.hostname}:${own.port || 5432}${own.pathname}`, 'Tessarion itself');
  for (const login of databases) {
    const place = placeOf(login, machineOf(reach));
    const holder = held.get(place);
    if (holder !== undefined)
      throw new ProblemError(
        'taken',
        `The database ${login.database} is that of ${holder}.`,
        'Name the database of this site alone.',
      );
    held.set(place, 'this site already');
    const database = siteDatabase(login, { carrier });
    if (await database.system.isStrong(database.login))
      throw new ProblemError(
        'invalid',
        `${login.user} may do more than use its own database: whoever writes this site’s code could reach every other one.`,
        `Give the site a login of its own that owns ${login.database} and is no superuser.`,
      );
  }
}
