import { type TableName, tableLabel } from '../table-name.js';
import { describesTable } from './rules.js';
import type { MentionRule, Profile } from './schema.js';

/** A table as a profile's text means it: `[database/][schema.]table`. */
interface NamedTable {
  /** Undefined where the text leaves it open. */
  readonly database: string | undefined;
  readonly label: string;
}

/** A column and its table, as a profile's text means them. */
export interface ColumnPlace {
  /** `[database/][schema.]table`. */
  readonly table: string;
  readonly column: string;
}

/** Reads `[database/][schema.]table.column`, as references write it. */
export function columnPlace(text: string): ColumnPlace {
  const at = text.lastIndexOf('.');
  return { table: text.slice(0, at), column: text.slice(at + 1) };
}

/** The table that a mention is about, and the column that names files; without one every row of it does. */
export function mentionPlace({ in: place }: MentionRule): {
  readonly table: string;
  readonly column: string | undefined;
} {
  if (typeof place !== 'string') return { table: place.table, column: place.column };
  const [table, column] = place.split('.') as [string, string?];
  return { table, column };
}

/** Reads `[database/][schema.]table`. A table with a slash in its name goes by its database too. */
function namedTable(text: string): NamedTable {
  const at = text.indexOf('/');
  return at === -1 ? { database: undefined, label: text } : { database: text.slice(0, at), label: text.slice(at + 1) };
}

/**
 * Whether a profile's text means a table. Without a database it means the table of that name in each of them; beside
 * another text of the same rule that names one, the table in that.
 *
 * @param beside what else the rule names, such as the other end of a reference
 */
export function meansTable(text: string, table: TableName, beside?: string): boolean {
  const { database = beside === undefined ? undefined : namedTable(beside).database, label } = namedTable(text);
  return label === tableLabel(table) && (database === undefined || database === table.database);
}

/** The databases of a profile in which a text may mean a table, each with the table's name there. */
export function placesOf(
  profile: Profile | undefined,
  text: string,
): { readonly database: string; readonly label: string }[] {
  const { database, label } = namedTable(text);
  const all = Object.keys(profile?.databases ?? {});
  return (database === undefined ? all : all.filter((one) => one === database)).map((one) => ({
    database: one,
    label,
  }));
}

/**
 * A table as people call it on a site: its {@link tableLabel}, and its database as well where another one comes before
 * that has, or may have, a table of that name.
 */
export function calledIn(profile: Profile | undefined, table: TableName): string {
  const label = tableLabel(table);
  const all = Object.keys(profile?.databases ?? {});
  const home = all.find((database) => describesTable(profile, database, label)) ?? all[0] ?? table.database;
  return home === table.database ? label : `${table.database}/${label}`;
}
