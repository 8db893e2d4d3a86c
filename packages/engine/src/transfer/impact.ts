import { type ByteString, type Profile, toBytes, toText } from '@tessarion/core';
import { connectTo } from '../database/connect.js';
import { describeSchema, quoteName, quoteTable } from '../database/describe.js';
import { fullName, profileName, type TableShape } from '../database/site-database.js';
import type { Environment } from '../environment/environment.js';

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
 * references (design: Rows, cells, items).
 *
 * @param keys by table (`schema.table`); at most 2,000 of each are looked up
 */
export async function usesOf(
  environment: Environment,
  database: string,
  keys: ReadonlyMap<string, readonly ByteString[]>,
): Promise<Use[]> {
  const login = environment.databases.find((one) => one.name === database)?.login;
  if (!login || keys.size === 0) return [];
  const client = await connectTo(login, 'read', 'impact');
  try {
    const { tables } = await describeSchema(client);
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
  } finally {
    await client.end();
  }
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
      const [from, column] = rule.from.split('.') as [string, string];
      const leads =
        rule.to === `${profileName(target)}.${key}` && from === profileName(table) && rule.path === undefined;
      return leads && !declared.some((one) => one.column === column) ? [{ table, column, when: rule.when ?? {} }] : [];
    });
    // A column that is not there is named by the forecast's checks.
    return [...declared, ...profiled].filter((one) => table.columns.some((column) => column.name === one.column));
  });
}
