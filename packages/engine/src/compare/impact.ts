import {
  addTo,
  type ByteString,
  columnPlace,
  isCalledAlike,
  itemOfPart,
  matchesPath,
  meansTable,
  mentionPlace,
  type Profile,
  referredTables,
  type TableItemRule,
  type TableName,
  tableId,
  toBytes,
  toText,
} from '@tessarion/core';
import type { Questions } from '../ports/database.js';
import type { TableShape } from '../ports/shapes.js';
import type { Environment } from '../site/environment.js';
import { Lookups } from './lookups.js';

/** Rows of a table that refer to one thing. */
export interface Use {
  /** The thing's table (by {@link tableId}) and key. */
  readonly of: { readonly table: string; readonly key: ByteString };
  readonly by: UsedBy;
}

/** How many there are: rows of a table, or the items that they are parts of. */
export interface UsedBy {
  readonly table: TableName;
  readonly item: TableItemRule | undefined;
  readonly rows: number;
}

/** A column that refers to a table's single key. */
interface Reference {
  readonly table: TableShape;
  readonly column: string;
  readonly when: Readonly<Record<string, readonly string[]>>;
}

/** So many keys of a table are looked up; a change of more says enough by itself. */
export const MOST_KEYS = 2000;

/**
 * Counts what in an environment's databases refers to things that a transfer changes: by declared foreign keys, and by
 * the profile's references.
 *
 * @param keys by {@link tableId}; {@link MOST_KEYS} of each are looked up
 */
export async function usesOf(
  lookups: Lookups,
  environment: Environment,
  keys: ReadonlyMap<string, readonly ByteString[]>,
): Promise<Use[]> {
  if (keys.size === 0) return [];
  const open = await lookups.all(environment);
  const tables = open.flatMap((one) => one.schema.tables);
  const uses: Use[] = [];
  for (const [id, wanted] of keys) {
    const target = tables.find((one) => tableId(one) === id);
    if (target?.key.length !== 1) continue;
    for (const { table, column, when } of referencesTo(target, tables, environment.profile)) {
      const questions = open.find((one) => one.schema.tables.includes(table)) as Questions;
      const whole = itemOfPart(environment.profile, table);
      const isThere = whole !== undefined && table.columns.some((one) => one.name === whole.column);
      const found = await questions.countReferring({
        table,
        column,
        keys: wanted.slice(0, MOST_KEYS),
        when,
        distinct: isThere ? whole.column : undefined,
      });
      for (const [key, rows] of found)
        uses.push({ of: { table: id, key }, by: { table, item: isThere ? whole.item : undefined, rows } });
    }
  }
  return uses;
}

/** Rows that use a file. */
export interface Mention {
  readonly path: ByteString;
  readonly by: UsedBy;
}

/** Files that are looked up; a change of more says enough by itself. */
const MOST_FILES = 200;

/** Counts what on an environment uses some files, by the profile's text patterns (`mentions`). */
export async function mentionsOf(
  lookups: Lookups,
  environment: Environment,
  paths: readonly ByteString[],
): Promise<Mention[]> {
  const byTable = new Map<string, { column: string | undefined; texts: ByteString[] }[]>();
  for (const rule of environment.profile?.mentions ?? []) {
    const own = paths.filter((path) => matchesPath(rule.files, toText(path))).slice(0, MOST_FILES);
    const { table, column } = mentionPlace(rule);
    if (own.length > 0) addTo(byTable, table, { column, texts: own });
  }
  const open = byTable.size === 0 ? [] : await lookups.all(environment);
  const asked = [...byTable].flatMap(([name, rules]) =>
    open.flatMap((questions) =>
      questions.schema.tables
        .filter((table) => meansTable(name, table))
        .map((table) => ({ questions, table, searches: rules })),
    ),
  );
  const found: Mention[] = [];
  for (const { questions, table, searches } of asked) {
    const has = (column: string | undefined): boolean => table.columns.some((one) => one.name === column);
    const known = searches.filter(({ column }) => column === undefined || has(column));
    if (known.length === 0) continue;
    const whole = itemOfPart(environment.profile, table);
    const isPart = whole !== undefined && has(whole.column);
    const counts = await questions.countMentioning({
      table,
      searches: known,
      distinct: isPart ? whole.column : undefined,
    });
    for (const [path, rows] of counts) found.push({ path, by: { table, item: isPart ? whole.item : undefined, rows } });
  }
  return found;
}

/** What things of a table are called, by key as text. */
export interface Titles {
  readonly table: TableName;
  readonly titles: ReadonlyMap<string, string>;
}

/**
 * What things are called: for items of which only parts changed.
 *
 * @param item a table as a profile's text names it; each of that name is asked
 */
export async function titlesOf(
  lookups: Lookups,
  environment: Environment,
  item: { readonly table: string; readonly title: string },
  keys: readonly string[],
): Promise<Titles[]> {
  if (keys.length === 0) return [];
  const found: Titles[] = [];
  for (const questions of await lookups.all(environment))
    for (const table of questions.schema.tables.filter((one) => meansTable(item.table, one))) {
      if (table.key.length !== 1 || !table.columns.some((one) => one.name === item.title)) continue;
      const named = await questions.valuesByKey(table, item.title, keys.slice(0, MOST_KEYS).map(toBytes));
      found.push({ table, titles: new Map([...named].map(([key, title]) => [toText(key), toText(title)])) });
    }
  return found;
}

/** What one row of a table holds in a column, as text; the empty text for null, undefined where there is no such row. */
export async function valueInRow(
  environment: Environment,
  spot: { readonly table: string; readonly row: Readonly<Record<string, string>>; readonly column: string },
): Promise<string | undefined> {
  const lookups = new Lookups();
  try {
    for (const questions of await lookups.all(environment))
      for (const table of questions.schema.tables.filter((one) => meansTable(spot.table, one))) {
        const value = await questions.cell(table, spot.row, spot.column);
        if (value !== undefined) return value === null ? '' : toText(value);
      }
    return undefined;
  } finally {
    await lookups.close();
  }
}

function referencesTo(target: TableShape, tables: readonly TableShape[], profile: Profile | undefined): Reference[] {
  const key = target.key[0] as string;
  return tables.flatMap((table) => {
    const declared = table.references.flatMap((one): Reference[] => {
      const at = one.targetColumns.indexOf(key);
      const column = one.columns[at];
      const leads = table.database === target.database && isCalledAlike(one.table, target);
      return leads && column !== undefined ? [{ table, column, when: {} }] : [];
    });
    const profiled = (profile?.references ?? []).flatMap((rule): Reference[] => {
      const { column } = columnPlace(rule.from);
      const leads =
        rule.path === undefined &&
        columnPlace(rule.to).column === key &&
        referredTables(rule, table, [{ table: target }]).length > 0;
      return leads && !declared.some((one) => one.column === column) ? [{ table, column, when: rule.when ?? {} }] : [];
    });
    // A column that is not there is named by the forecast's checks.
    return [...declared, ...profiled].filter((one) => table.columns.some((column) => column.name === one.column));
  });
}
