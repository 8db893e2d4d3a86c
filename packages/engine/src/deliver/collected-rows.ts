import { calledIn, rulesForTable, tableLabel } from '@tessarion/core';
import type { HeldRows } from '../ports/database.js';
import type { Environment } from '../site/environment.js';

/** What a collected table holds at one moment: enough to tell later whether each of its rows is still there. */
export interface CollectedRows extends HeldRows {
  readonly database: string;
  /** {@link tableLabel}. */
  readonly table: string;
}

/** How a collected table compares with what it held before. */
export interface CollectedProof {
  readonly table: string;
  readonly before: number;
  readonly now: number;
  /** `each`: every single row of before is there; `count`: there are no fewer; `fewer`: some are gone. */
  readonly holds: 'each' | 'count' | 'fewer';
}

/** Counts the collected tables of an environment, and takes down which rows they hold. */
export async function collectedRows(environment: Environment): Promise<CollectedRows[]> {
  const found: CollectedRows[] = [];
  for (const database of environment.databases) {
    const questions = await database.system.ask(database, 'proof');
    try {
      for (const shape of questions.schema.tables) {
        if (rulesForTable(environment.profile, shape, []).class !== 'collected') continue;
        found.push({ database: database.name, table: tableLabel(shape), ...(await questions.heldRows(shape)) });
      }
    } finally {
      await questions.close();
    }
  }
  return found;
}

/** Looks at the collected tables again: whether each row of before is there, whatever came meanwhile. */
export async function proveCollected(
  environment: Environment,
  before: readonly CollectedRows[],
): Promise<CollectedProof[]> {
  const found: CollectedProof[] = [];
  for (const database of environment.databases) {
    const own = before.filter((one) => one.database === database.name);
    if (own.length === 0) continue;
    const questions = await database.system.ask(database, 'proof');
    try {
      for (const { table, rows, keys } of own) {
        const shape = questions.schema.tables.find((one) => tableLabel(one) === table);
        if (!shape) {
          found.push({ table, before: rows, now: 0, holds: 'fewer' });
          continue;
        }
        const { rows: now, keys: former } = await questions.heldRows(shape, keys?.highest);
        const isEach = keys !== null && former?.sum === keys.sum;
        const holds = rows === 0 || isEach ? 'each' : now < rows || keys !== null ? 'fewer' : 'count';
        found.push({ table: calledIn(environment.profile, shape), before: rows, now, holds });
      }
    } finally {
      await questions.close();
    }
  }
  return found;
}
