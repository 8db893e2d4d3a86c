import { addTo, type ByteString, columnPlace, matchesPath, type Profile, toBytes, toText } from '@tessarion/core';
import { quoteName, quoteTable } from '../database/describe.js';
import { fullName, profileName, type TableShape } from '../database/site-database.js';
import type { Environment } from '../environment/environment.js';
import type { Lookups } from './lookups.js';

/** Rows of a table that refer to one thing. */
export interface Use {
  /** The thing's table (`schema.table`) and key. */
  readonly of: { readonly table: string; readonly key: ByteString };
  /** The table that refers to it, as the profile calls it; for rows that are part of an item, the item's own. */
  readonly by: string;
  /** Rows of that table. */
  readonly rows: number;
}

/** A column that refers to a table's single key. */
interface Reference {
  readonly table: TableShape;
  readonly column: string;
  readonly when: Readonly<Record<string, readonly string[]>>;
}

/** A statement's worth of keys. */
const MOST_KEYS = 2000;

/**
 * Counts what in a database refers to things that a transfer changes: by declared foreign keys, and by the profile's
 * references.
 *
 * @param keys by table (`schema.table`); at most 2,000 of each are looked up
 */
export async function usesOf(
  lookups: Lookups,
  environment: Environment,
  database: string,
  keys: ReadonlyMap<string, readonly ByteString[]>,
): Promise<Use[]> {
  const lookup = keys.size === 0 ? undefined : await lookups.in(environment, database);
  if (!lookup) return [];
  const { client, tables } = lookup;
  const uses: Use[] = [];
  for (const [name, wanted] of keys) {
    const target = tables.find((one) => fullName(one) === name);
    if (target?.key.length !== 1) continue;
    for (const { table, column, when } of referencesTo(target, tables, environment.profile)) {
      const conditions = Object.entries(when);
      const whole = wholeOf(profileName(table), environment.profile);
      const isThere = whole !== undefined && table.columns.some((one) => one.name === whole.column);
      const found = await client.query<{ key: string; rows: string }>(
        `SELECT ${quoteName(column)}::text AS key, count(${isThere ? `DISTINCT ${quoteName(whole.column)}` : '*'})::text AS rows FROM ONLY ${quoteTable(table)}
          WHERE ${quoteName(column)}::text = ANY($1)
          ${conditions.map(([one], i) => `AND ${quoteName(one)}::text = ANY($${i + 2})`).join(' ')} GROUP BY 1`,
        [wanted.slice(0, MOST_KEYS).map(toText), ...conditions.map(([, values]) => values)],
      );
      for (const { key, rows } of found.rows)
        uses.push({
          of: { table: name, key: toBytes(key) },
          by: isThere ? whole.table : profileName(table),
          rows: Number(rows),
        });
    }
  }
  return uses;
}

/** Rows that use a file. */
export interface Mention {
  readonly path: ByteString;
  /** As the profile calls the table; for rows that are part of an item, the item's own. */
  readonly by: string;
  readonly rows: number;
}

/** Files that are looked up; a change of more says enough by itself. */
const MOST_FILES = 200;

/** Counts what on an environment uses some files, by the profile's text patterns (`mentions`). */
export async function mentionsOf(
  lookups: Lookups,
  environment: Environment,
  database: string,
  paths: readonly ByteString[],
): Promise<Mention[]> {
  const byTable = new Map<string, { column: string | undefined; paths: ByteString[] }[]>();
  for (const rule of environment.profile?.mentions ?? []) {
    const own = paths.filter((path) => matchesPath(rule.files, toText(path))).slice(0, MOST_FILES);
    const [name, column] = rule.in.split('.') as [string, string?];
    if (own.length > 0) addTo(byTable, name, { column, paths: own });
  }
  const lookup = byTable.size === 0 ? undefined : await lookups.in(environment, database);
  if (!lookup) return [];
  const { client, tables } = lookup;
  const found: Mention[] = [];
  for (const [name, rules] of byTable) {
    const table = tables.find((one) => profileName(one) === name);
    const has = (column: string | undefined): boolean => table?.columns.some((one) => one.name === column) === true;
    const known = rules.filter(({ column }) => column === undefined || has(column));
    if (!table || known.length === 0) continue;
    const whole = wholeOf(name, environment.profile);
    const isPart = whole !== undefined && has(whole.column);
    const thing = isPart ? quoteName(whole.column) : 'ctid';
    // A row that names a file in two columns uses it once.
    const each = known.map(({ column }, i) => {
      const holds = column === undefined ? 'true' : `strpos(t.${quoteName(column)}::text, f.path) > 0`;
      return `SELECT f.path, t.${thing}::text AS thing FROM unnest($${i + 1}::text[]) AS f(path) JOIN ONLY ${quoteTable(table)} t ON ${holds}`;
    });
    const result = await client.query<{ path: string; rows: string }>(
      `SELECT path, count(DISTINCT thing)::text AS rows FROM (${each.join(' UNION ALL ')}) AS found GROUP BY 1`,
      known.map((rule) => rule.paths.map(toText)),
    );
    for (const { path, rows } of result.rows)
      found.push({ path: toBytes(path), by: isPart ? whole.table : name, rows: Number(rows) });
  }
  return found;
}

/** What things are called, by key as text: for items of which only parts changed. */
export async function titlesOf(
  lookups: Lookups,
  environment: Environment,
  database: string,
  item: { readonly table: string; readonly title: string },
  keys: readonly string[],
): Promise<Map<string, string>> {
  const lookup = keys.length === 0 ? undefined : await lookups.in(environment, database);
  if (!lookup) return new Map();
  const { client, tables } = lookup;
  const table = tables.find((one) => profileName(one) === item.table);
  if (table?.key.length !== 1 || !table.columns.some((one) => one.name === item.title)) return new Map();
  const result = await client.query<{ key: string; title: string | null }>(
    `SELECT ${quoteName(table.key[0] as string)}::text AS key, ${quoteName(item.title)}::text AS title
      FROM ONLY ${quoteTable(table)} WHERE ${quoteName(table.key[0] as string)}::text = ANY($1)`,
    [keys.slice(0, MOST_KEYS)],
  );
  return new Map(result.rows.flatMap(({ key, title }) => (title === null ? [] : [[key, title] as const])));
}

/** The item's table that rows of another are part of, and the column that says of which. */
function wholeOf(label: string, profile: Profile | undefined): { table: string; column: string } | undefined {
  for (const item of profile?.items ?? []) {
    if (!('table' in item)) continue;
    const part = item.dependants?.find((one) => one.table === label);
    if (part) return { table: item.table, column: part.column };
  }
  return undefined;
}

function referencesTo(target: TableShape, tables: readonly TableShape[], profile: Profile | undefined): Reference[] {
  const key = target.key[0] as string;
  return tables.flatMap((table) => {
    const declared = table.references.flatMap((one): Reference[] => {
      const at = one.targetColumns.indexOf(key);
      const column = one.columns[at];
      return one.table === fullName(target) && column !== undefined ? [{ table, column, when: {} }] : [];
    });
    const profiled = (profile?.references ?? []).flatMap((rule): Reference[] => {
      const { table: from, column } = columnPlace(rule.from);
      const leads =
        rule.to === `${profileName(target)}.${key}` && from === profileName(table) && rule.path === undefined;
      return leads && !declared.some((one) => one.column === column) ? [{ table, column, when: rule.when ?? {} }] : [];
    });
    // A column that is not there is named by the forecast's checks.
    return [...declared, ...profiled].filter((one) => table.columns.some((column) => column.name === one.column));
  });
}
