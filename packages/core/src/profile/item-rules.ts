import type { TableName } from '../table-name.js';
import { meansTable } from './named-tables.js';
import type { ItemRule, Profile } from './schema.js';

/** An item rule whose items are rows of a table. */
export type TableItemRule = Extract<ItemRule, { readonly table: string }>;

/** The item rule of a table. */
export const itemForTable = (profile: Profile | undefined, table: TableName): TableItemRule | undefined =>
  (profile?.items ?? []).find((item): item is TableItemRule => 'table' in item && meansTable(item.table, table));

/** The item whose parts a table's rows are, and the column that says of which. */
export function itemOfPart(
  profile: Profile | undefined,
  table: TableName,
): { readonly item: TableItemRule; readonly column: string } | undefined {
  for (const item of profile?.items ?? []) {
    if (!('table' in item)) continue;
    const part = item.dependants?.find((one) => meansTable(one.table, table, item.table));
    if (part) return { item, column: part.column };
  }
  return undefined;
}
