import { rulesForTable } from './rules.js';
import type { Profile } from './schema.js';

/** An item as far as its fields are asked for. */
interface ItemWithFields {
  readonly kind: string;
  /** The table that it, or what changed of it, lies in. */
  readonly part: string;
  readonly fields: readonly { readonly name: string }[];
}

/** Whether a mask protects a column of a table on the way down, in any database: what it holds is then nobody's name for a thing. */
export const isPersonalColumn = (profile: Profile | undefined, table: string, column: string): boolean =>
  Object.keys(profile?.databases ?? {}).some((database) =>
    rulesForTable(profile, database, table, [column]).columns.some((one) => one.mask !== undefined),
  );

/** The tables in which what an item consists of lies: the one that it was found in, its own, and its dependants'. */
export function tablesOfItem(
  profile: Profile | undefined,
  { kind, part }: Pick<ItemWithFields, 'kind' | 'part'>,
): Set<string> {
  const tables = new Set([part]);
  for (const rule of profile?.items ?? []) {
    if (rule.kind !== kind || !('table' in rule)) continue;
    tables.add(rule.table);
    for (const dependant of rule.dependants ?? []) tables.add(dependant.table);
  }
  return tables;
}

/** Fields of an item that a mask protects on the way down: in its own table, or in one of its dependants'. */
export function personalFields(profile: Profile | undefined, item: ItemWithFields): Set<string> {
  const tables = tablesOfItem(profile, item);
  const names = item.fields.map((one) => one.name);
  const found = new Set<string>();
  for (const database of Object.keys(profile?.databases ?? {}))
    for (const table of tables)
      for (const column of rulesForTable(profile, database, table, names).columns)
        if (column.mask !== undefined) found.add(column.name);
  return found;
}
