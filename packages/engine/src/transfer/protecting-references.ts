import { columnPlace, type Profile, rulesForTable } from '@tessarion/core';
import { fullName, profileName, type SchemaShape, type TableShape } from '../database/site-database.js';

/**
 * Columns of tables of a database that are not authored, and that refer to one of its tables' single key column;
 * declared, or in the profile.
 *
 * @param database as the profile calls it: a table of the same name in another one may be something else
 */
export function protectingReferences(
  profile: Profile | undefined,
  database: string,
  schema: SchemaShape,
  shape: TableShape,
): { table: string; column: string }[] {
  const [key, ...more] = shape.key;
  if (key === undefined || more.length > 0) return [];
  const found = new Map<string, { table: string; column: string }>();
  for (const table of schema.tables) {
    const label = profileName(table);
    if (rulesForTable(profile, database, label, []).class === 'authored') continue;
    const declared = table.references
      .filter((one) => one.table === fullName(shape) && one.targetColumns.length === 1 && one.targetColumns[0] === key)
      .map((one) => one.columns[0] as string);
    const profiled = (profile?.references ?? [])
      .filter((one) => one.to === `${profileName(shape)}.${key}`)
      .map((one) => columnPlace(one.from))
      .filter((one) => one.table === label && table.columns.some(({ name }) => name === one.column))
      .map((one) => one.column);
    for (const column of [...declared, ...profiled])
      found.set(`${fullName(table)}.${column}`, { table: fullName(table), column });
  }
  return [...found.values()];
}
