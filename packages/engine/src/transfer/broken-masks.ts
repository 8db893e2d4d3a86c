import { keepsUnique, type MaskRule, type Profile, rulesForTable } from '@tessarion/core';
import { readable } from '../database/postgres-view.js';
import { borrowSession } from '../database/sessions.js';
import { type DatabaseLogin, profileName, type SchemaShape } from '../database/site-database.js';
import { uniqueIndexes } from './unique-values.js';

/** A column that must be unique, under a mask that gives different people the same value. */
export interface BrokenMask {
  readonly table: string;
  readonly column: string;
  readonly mask: MaskRule;
}

/** Finds masks under which unique values would meet. */
export async function masksThatBreak(
  login: DatabaseLogin,
  schema: SchemaShape,
  profile: Profile | undefined,
  database: string,
): Promise<BrokenMask[]> {
  const broken: BrokenMask[] = [];
  const client = await borrowSession(login, 'read', 'masks');
  try {
    for (const shape of schema.tables) {
      const label = profileName(shape);
      const columns = readable(shape).map((column) => column.name);
      const rules = rulesForTable(profile, database, label, columns);
      if (rules.class !== 'authored' && rules.class !== 'collected') continue;
      const masks = new Map(
        rules.columns.flatMap(({ name, mask }) => (mask && !keepsUnique(mask) ? [[name, mask]] : [])),
      );
      if (masks.size === 0) continue;
      const uniques = [...(await uniqueIndexes(client, shape)).map((one) => one.columns), shape.key];
      // Where another column of the index stays as it is, it may well tell the rows apart: loading finds out.
      for (const unique of uniques)
        for (const column of unique) {
          const mask = masks.get(column);
          if (mask && unique.every((one) => masks.has(one))) broken.push({ table: label, column, mask });
        }
    }
  } finally {
    await client.giveBack();
  }
  return broken;
}
