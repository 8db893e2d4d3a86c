import { placesOf } from './named-tables.js';
import { ruleOfColumn, tableRule } from './rules.js';
import type { Profile } from './schema.js';

/** An item as far as its fields are asked for. */
interface ItemWithFields {
  readonly kind: string;
  /** The table that it, or what changed of it, lies in. */
  readonly part: string;
  readonly fields: readonly { readonly name: string }[];
}

/**
 * Whether a mask protects a column on the way down: what it holds is then nobody's name for a thing.
 *
 * @param table as a profile's text names it; without a database in any of them
 */
export const isPersonalColumn = (profile: Profile | undefined, table: string, column: string): boolean =>
  placesOf(profile, table).some(
    ({ database, label }) => ruleOfColumn(tableRule(profile, database, label), column)?.personal !== undefined,
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
  for (const table of tables)
    for (const { database, label } of placesOf(profile, table))
      for (const name of names)
        if (ruleOfColumn(tableRule(profile, database, label), name)?.personal !== undefined) found.add(name);
  return found;
}
