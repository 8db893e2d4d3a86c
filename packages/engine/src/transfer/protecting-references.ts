import { type Profile, rulesForTable } from '@tessarion/core';
import { fullName, profileName, type SchemaShape, type TableShape } from '../database/site-database.js';

/** Columns of tables that are not authored, and that refer to a table's single key column; declared, or in the profile. */
export function protectingReferences(
  profile: Profile | undefined,
  schema: SchemaShape,
  shape: TableShape,
): { table: string; column: string }[] {
  const [key, ...more] = shape.key;
  if (key === undefined || more.length > 0) return [];
  const found = new Map<string, { table: string; column: string }>();
  for (const table of schema.tables) {
    const isAuthored = Object.keys(profile?.databases ?? {}).some(
      (database) => rulesForTable(profile, database, profileName(table), []).class === 'authored',
    );
    if (isAuthored) continue;
    const declared = table.references
      .filter((one) => one.table === fullName(shape) && one.targetColumns.length === 1 && one.targetColumns[0] === key)
      .map((one) => one.columns[0] as string);
    const profiled = (profile?.references ?? [])
      .filter((one) => one.to === `${profileName(shape)}.${key}` && one.from.split('.')[0] === profileName(table))
      .map((one) => one.from.split('.')[1] as string);
    for (const column of [...declared, ...profiled])
      found.set(`${fullName(table)}.${column}`, { table: fullName(table), column });
  }
  return [...found.values()];
}
