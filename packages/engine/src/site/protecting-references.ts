import { columnPlace, isCalledAlike, type Profile, referredTables, rulesForTable } from '@tessarion/core';
import type { TableShape } from '../ports/shapes.js';

/** A column that refers to rows which must not go. */
export interface ProtectingReference {
  readonly table: TableShape;
  readonly column: string;
}

/**
 * Columns of a site's tables that are not authored, and that refer to the single key column of one of them; declared, or
 * in the profile, which leads from one database to another too.
 *
 * @param tables those of all databases
 */
export function protectingReferences(
  profile: Profile | undefined,
  tables: readonly TableShape[],
  shape: TableShape,
): ProtectingReference[] {
  const [key, ...more] = shape.key;
  if (key === undefined || more.length > 0) return [];
  const target = { table: shape };
  return tables.flatMap((table) => {
    if (rulesForTable(profile, table, []).class === 'authored') return [];
    const declared = table.references
      .filter((one) => table.database === shape.database && isCalledAlike(one.table, shape))
      .filter((one) => one.targetColumns.length === 1 && one.targetColumns[0] === key)
      .map((one) => one.columns[0] as string);
    const profiled = (profile?.references ?? [])
      .filter((one) => columnPlace(one.to).column === key && referredTables(one, table, [target]).length > 0)
      .map((one) => columnPlace(one.from).column)
      .filter((column) => table.columns.some(({ name }) => name === column));
    return [...new Set([...declared, ...profiled])].map((column) => ({ table, column }));
  });
}
