import { type TableName, tableLabel, toBytes } from '@tessarion/core';
import { EngineError, type Environment, layout } from '@tessarion/engine';
import { closest, distance } from 'fastest-levenshtein';
import { AbsentPlace } from '../ground/absent.js';
import type { OnRecords } from '../ground/open.js';
import type { Sight } from '../people/sight.js';

/** The tables of an environment's databases. @throws {EngineError} when one is not reached */
export async function tablesOf({ databases }: Pick<Environment, 'databases'>): Promise<TableName[]> {
  const found: TableName[] = [];
  for (const database of databases) {
    const view = await database.system.view(database);
    try {
      found.push(...view.schema.tables);
    } finally {
      await view.close();
    }
  }
  return found;
}

/**
 * Whether any of some environments has a table; the first that does ends the search. One that is not reached is passed over.
 *
 * @returns the tables there are, where none has it; undefined where one has it, or nobody can tell
 */
export async function missingTable(
  environments: readonly Environment[],
  database: string,
  table: string,
): Promise<readonly string[] | undefined> {
  const seen = new Set<string>();
  for (const environment of environments) {
    try {
      const own = (await tablesOf(environment)).filter((one) => one.database === database);
      const tables = own.map(tableLabel);
      if (tables.includes(table)) return undefined;
      for (const one of tables) seen.add(one);
    } catch (error) {
      if (!(error instanceof EngineError)) throw error;
    }
  }
  return seen.size === 0 ? undefined : [...seen].sort();
}

/** Paths that no root of an environment has. */
export async function missingPaths(
  { server, folder, place }: Environment,
  paths: readonly string[],
): Promise<string[]> {
  const missing: string[] = [];
  for (const path of paths) {
    const isThere = await Promise.all(
      place.roots.map((root) => server.exists(`${layout.rootLink(folder, root.name)}/${toBytes(path)}`)),
    );
    if (!isThere.includes(true)) missing.push(path);
  }
  return missing;
}

const MOST_SHOWN = 12;
/** How far a name may be from another one to be meant, as a share of its length. */
const NEAR = 0.4;

/** What might have been meant by a name that there is not; undefined where nothing is like it. */
function nearest(name: string, names: readonly string[]): string | undefined {
  if (names.length === 0) return undefined;
  const near = closest(name, names);
  return distance(name, near) <= Math.max(1, name.length * NEAR) ? near : undefined;
}

/** What might have been meant by a name that there is not, as a sentence. */
export function nearestWords(name: string, names: readonly string[]): string {
  if (names.length === 0) return 'There are none.';
  const near = nearest(name, names);
  if (near !== undefined) return `Did you mean ${near}?`;
  return `There are: ${names.slice(0, MOST_SHOWN).join(', ')}${names.length > MOST_SHOWN ? ` and ${names.length - MOST_SHOWN} more` : ''}.`;
}

/** The same refusal, with the name that might have been meant among those that may be seen; nothing is learned of others. */
export async function withNearest(on: OnRecords, sight: Sight, { is, path }: AbsentPlace): Promise<AbsentPlace> {
  const column = is === 'site' ? 'name' : 'path';
  const isSeen = (name: string): boolean => (is === 'site' ? sight.seesSite(name) : sight.seesEnvironment(name));
  const seen = ((await on(is).select(column)) as Record<string, string>[])
    .map((row) => row[column] as string)
    .filter(isSeen);
  // One that is seen was looked for where it is not. One that is not seen is answered as if it were not there.
  return new AbsentPlace(is, path, seen.includes(path) ? undefined : nearest(path, seen));
}
