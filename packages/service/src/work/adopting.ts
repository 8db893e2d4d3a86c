import type { Check } from '@tessarion/contract';
import { type ByteString, counted, Rewriter, toBytes } from '@tessarion/core';
import { EngineError, type Environment, FileForm, fileSettings, layout, movesOf, showPath } from '@tessarion/engine';
import { heldChecks } from '../front/held.js';
import { failureOf } from '../ground/problems.js';
import type { Installation } from '../transfers/installation.js';

const MOST_NAMED = 10;

/** @throws {EngineError} `file-unreadable` where a root is not there */
export async function mustHaveRoots({ server, folder, place }: Environment): Promise<void> {
  for (const root of place.roots) {
    if (await server.isFolder(root.path)) continue;
    const there: string[] = [];
    for await (const node of server.listFolder(folder)) if (node.type === 'folder') there.push(showPath(node.path));
    throw new EngineError(
      'file-unreadable',
      `There is no folder ${showPath(root.path)} on the server.`,
      there.length === 0
        ? `Name the folder that holds the site’s files; there is none in ${showPath(folder)}.`
        : `Name one that is there, with --root NAME: ${there.slice(0, MOST_NAMED).join(', ')}.`,
    );
  }
}

/** @throws {EngineError} where one cannot be reached */
export async function mustReachDatabases({ databases }: Environment): Promise<void> {
  for (const { login, system } of databases) await system.reach(login);
}

/**
 * Reads the values that an environment's settings files hold now.
 *
 * @throws {EngineError} `file-refused` where a file is not there, or lacks a setting
 */
export async function readOwnSettings(environment: Environment): Promise<Record<string, string>> {
  const form = new FileForm(environment, new Rewriter(environment.place));
  const values: Record<string, string> = {};
  for (const root of environment.place.roots) {
    for (const file of new Set(fileSettings(environment.profile).map((setting) => setting.in.file))) {
      const path = `${layout.rootLink(environment.folder, root.name)}/${toBytes(file)}`;
      if (!(await environment.server.exists(path)))
        throw new EngineError(
          'file-refused',
          `The profile names the settings file ${file}, which ${environment.path} does not have.`,
          'Correct the profile, or the site.',
        );
      for (const [name, value] of form.readSettings(file, await environment.server.readFile(path)))
        values[name] = value;
    }
  }
  return values;
}

/** What bringing a site in would do to its folder, in the order in which it is done; paths are below the folder. */
export interface AdoptionMove {
  readonly act: 'rename' | 'folder' | 'link';
  readonly path: string;
  readonly to: string | null;
}

/** Stands where the id of the transfer will stand. */
const SOME_ID = toBytes('…');

/** Lists every rename, folder and link, without doing any. */
export async function adoptionMoves(environment: Environment): Promise<AdoptionMove[]> {
  const short = (path: ByteString): string =>
    showPath(path.startsWith(`${environment.folder}/`) ? path.slice(environment.folder.length + 1) : path);
  const all: AdoptionMove[] = [];
  for (const root of environment.place.roots) {
    if (root.isPlain) continue;
    for (const move of await movesOf(environment, root.name, SOME_ID))
      all.push({ act: move.act, path: short(move.path), to: move.act === 'folder' ? null : short(move.to) });
  }
  return all;
}

/** What can be said of a site before it is brought in; whatever would stop it fails. */
export async function adoptionChecks(
  installation: Installation,
  environment: Environment,
  server: string,
): Promise<Check[]> {
  const { servers, records } = installation;
  const tried = async (name: string, passed: string, look: () => Promise<unknown>): Promise<Check> => {
    try {
      await look();
      return { name, state: 'passed', message: passed };
    } catch (error) {
      const { message, next } = failureOf(error);
      return { name, state: 'failed', message, remedy: next };
    }
  };
  const roots = environment.place.roots.map((root) => root.name).join(', ');
  const checks = [
    await tried('files', `Its files are there: ${roots}.`, () => mustHaveRoots(environment)),
    await tried('databases', `${counted(environment.databases.length, 'database')} can be logged in to.`, () =>
      mustReachDatabases(environment),
    ),
  ];
  if (environment.profile === undefined)
    checks.push({
      name: 'profile',
      state: 'warning',
      message: 'Without a profile snapshots can be taken of it, and nothing can be copied or pushed.',
      remedy: 'Let one be proposed once it is here: tessarion profile start',
    });
  else if (fileSettings(environment.profile).length > 0)
    checks.push(
      await tried('settings', 'The settings that its profile names can be read.', () => readOwnSettings(environment)),
    );
  const record = await servers.get(records, server);
  let own: string[] = [];
  const logins = await tried('logins', '', async () => {
    const open = await servers.admin(record).openToAll();
    // On another server nobody knows the logins of copies.
    own = environment.databases
      .filter(({ login }) => servers.holds(record, login))
      .flatMap(({ login }) => (open.includes(login.database) ? [login.database] : []));
  });
  if (logins.state === 'failed') checks.push(logins);
  else if (own.length > 0)
    checks.push({
      name: 'logins',
      state: 'warning',
      message: `Every login of the database server may enter ${own.join(', ')}: no copy can be made as long as that is so.`,
      remedy: `As its administrator: REVOKE CONNECT ON DATABASE ${own[0]} FROM PUBLIC`,
    });
  return [...checks, ...(await heldChecks(installation, environment))];
}
