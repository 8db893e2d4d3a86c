import { createHash } from 'node:crypto';
import { isDeepStrictEqual } from 'node:util';
import { type ByteString, type DataClass, type FileState, Rewriter, sameFile } from '@tessarion/core';
import type { ReadingMoment, SiteDatabase } from '../ports/database.js';
import type { TableShape } from '../ports/shapes.js';
import type { Environment } from '../site/environment.js';
import { readState } from '../site/list-root.js';
import { Listings, type WholeEntry, wholeRoot } from '../site/root-reader.js';
import { canTell } from './unlike-records.js';

/** When a comparison read its ends: by it can be proved later that nothing was written to them since. */
export interface Standing {
  readonly databases: readonly DatabaseStanding[];
  readonly roots: readonly RootStanding[];
}

/** A database of an environment, when it was read. */
export interface DatabaseStanding {
  readonly environment: string;
  readonly database: string;
  /** Undefined where nobody can tell later what was written since. */
  readonly moment: ReadingMoment | undefined;
  /** How all its tables are made. */
  readonly shapes: readonly TableShape[];
  readonly tables: readonly TableStanding[];
}

/** A table that a comparison goes by. */
export interface TableStanding {
  readonly shape: TableShape;
  /** How many rows it had; undefined where it does not matter that one goes. */
  readonly rows: number | undefined;
}

/** A root of an environment, when it was listed. */
export interface RootStanding {
  readonly environment: string;
  readonly root: string;
  readonly classes: ReadonlySet<DataClass>;
  /** Marks of the folders that were listed. */
  readonly folders: ReadonlyMap<ByteString, string>;
  /** A digest of what took part of them (see {@link digestOf}); undefined where they were not looked into. */
  readonly entries: string | undefined;
  /** Files that had been written a moment before, which nothing but their content tells from what they become in the next one. */
  readonly young: ReadonlyMap<ByteString, FileState>;
}

/** Puts everything that tells files from what they were into one digest. */
export function digestOf(entries: readonly WholeEntry[]): string {
  const lines = entries.map(
    ({ path, node: { type, mode, identity, target } }) => `${path}\0${type}\0${mode}\0${identity}\0${target ?? ''}`,
  );
  return createHash('sha256').update(lines.join('\n'), 'latin1').digest('hex');
}

/**
 * Proves that nothing was written to environments since they were compared; read only. What cannot be proved counts as
 * written.
 *
 * @param environments those that were compared, as they are reached now
 * @throws {EngineError} where one of them cannot be reached
 */
export async function isUnwritten(
  { databases, roots }: Standing,
  environments: readonly Environment[],
): Promise<boolean> {
  const byPath = new Map(environments.map((one) => [one.path, one]));
  const proofs = [
    ...databases.map(async (standing) => {
      const own = byPath.get(standing.environment)?.databases.find(({ name }) => name === standing.database);
      return own !== undefined && (await isUnwrittenIn(own, standing));
    }),
    ...roots.map(async (root) => {
      const own = byPath.get(root.environment);
      return own !== undefined && (await isListedAlike(own, root));
    }),
  ];
  await Promise.allSettled(proofs);
  return (await Promise.all(proofs)).every((one) => one);
}

/** Either no transaction of the server has ended since, or no table that counts has rows of a later one, and each has as many. */
async function isUnwrittenIn(
  database: SiteDatabase,
  { moment: then, shapes, tables }: DatabaseStanding,
): Promise<boolean> {
  if (!then) return false;
  const view = await database.system.view(database);
  try {
    const now = await view.moment();
    if (!now || !canTell(then, now) || !isSameTables(now.tables, then.tables)) return false;
    if (BigInt(now.next) <= BigInt(then.transaction)) return true;
    if (!isDeepStrictEqual(view.schema.tables, shapes)) return false;
    for (const { shape, rows } of tables) {
      const found = await view.writtenSince(shape, then.transaction, 0);
      if (found.written > 0 || (rows !== undefined && found.rows !== rows)) return false;
    }
    return true;
  } finally {
    await view.close();
  }
}

const isSameTables = (a: ReadonlyMap<string, string>, b: ReadonlyMap<string, string>): boolean =>
  a.size === b.size && [...a].every(([table, identity]) => b.get(table) === identity);

async function isListedAlike(
  environment: Environment,
  { root, classes, folders, entries, young }: RootStanding,
): Promise<boolean> {
  const listings = new Listings(environment.server);
  if (!(await listings.areMarked(folders))) {
    // What takes no part, such as what the site's programs write for themselves, may have changed.
    const now = await wholeRoot(environment, root, classes, listings);
    if (digestOf(now.entries) !== entries) return false;
  }
  const rewriter = new Rewriter(environment.place);
  for (const [path, state] of young)
    if (!sameFile(await readState(environment, root, path, rewriter), state)) return false;
  return true;
}
