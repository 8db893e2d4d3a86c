import type { ByteString } from '../address/place.js';
import { columnPlace, meansTable } from '../profile/named-tables.js';
import type { Profile, ReferenceRule } from '../profile/schema.js';
import { compileCondition } from '../rows/condition.js';
import { type NameInDatabase, type TableName, tableId } from '../table-name.js';
import { keysInside } from '../values/keys-inside.js';
import type { KeyUse, MergeTable, Values } from './merge-table.js';

/** What key uses are worked out from. */
export interface ReferringTable {
  readonly table: TableName;
  readonly columns: readonly string[];
  readonly key: readonly string[];
  /** Declared ones, which lead to tables of the same database. */
  readonly references: readonly {
    readonly columns: readonly string[];
    readonly table: NameInDatabase;
    readonly targetColumns: readonly string[];
  }[];
}

interface Target {
  readonly table: ReferringTable;
  readonly column: string;
}

/**
 * Finds for each table of a site which of its columns hold keys, and of what: declared foreign keys and those of
 * the profile, followed through tables that pass a key on (a picture of a product's variant holds the product's key).
 *
 * @param tables those of all databases
 * @returns by {@link tableId}
 */
export function keyUses(
  tables: readonly ReferringTable[],
  profile: Profile | undefined,
): ReadonlyMap<string, readonly KeyUse[]> {
  const byId = new Map(tables.map((one) => [tableId(one.table), one]));
  const declared = (table: ReferringTable, column: string): Target | undefined => {
    for (const reference of table.references) {
      const at = reference.columns.indexOf(column);
      const target = byId.get(tableId({ ...reference.table, database: table.table.database }));
      if (at !== -1 && target) return { table: target, column: reference.targetColumns[at] as string };
    }
    return undefined;
  };
  const profiled = (profile?.references ?? []).flatMap((rule) => {
    const [from, to] = [columnPlace(rule.from), columnPlace(rule.to)];
    return tables.flatMap((table) =>
      referredTables(rule, table.table, tables).map((target) => ({
        table,
        column: from.column,
        target: { table: target, column: to.column },
        rule,
      })),
    );
  });
  const isKey = ({ table, column }: Target): boolean => table.key.length === 1 && table.key[0] === column;
  /** The table whose single key a value is in the end, and those on the way that have a row under the same key. */
  const owner = (
    target: Target,
    seen: readonly string[],
    through: readonly ReferringTable[] = [],
  ): { of: ReferringTable; through: readonly ReferringTable[] } | undefined => {
    const { table, column } = target;
    const at = `${tableId(table.table)} ${column}`;
    if (seen.includes(at)) return undefined;
    const next =
      declared(table, column) ??
      profiled.find((one) => one.table === table && one.column === column && !one.rule.when && !one.rule.path)?.target;
    if (next) return owner(next, [...seen, at], isKey(target) ? [...through, table] : through);
    return isKey(target) ? { of: table, through } : undefined;
  };
  return new Map(
    tables.map((table) => {
      const uses: KeyUse[] = [];
      const add = (column: string, target: Target, when: KeyUse['when'], inside?: KeyUse['inside']): void => {
        const found = owner(target, []);
        const position = table.columns.indexOf(column);
        if (!found || position === -1) return;
        const through = found.through.flatMap((one) => (one === table ? [] : [tableId(one.table)]));
        uses.push({ column: position, table: tableId(found.of.table), through, when, inside });
      };
      for (const column of table.columns) {
        const target = declared(table, column);
        if (target) add(column, target, undefined);
        else if (
          isKey({ table, column }) &&
          !profiled.some((one) => one.table === table && one.column === column && one.rule.path === undefined)
        )
          add(column, { table, column }, undefined);
      }
      for (const { table: from, column, target, rule } of profiled) {
        if (from !== table || (rule.path === undefined && declared(table, column))) continue;
        const inside = rule.path === undefined ? undefined : keysInside(rule.path);
        add(column, target, rule.when && compileCondition(rule.when, table.columns), inside);
      }
      return [tableId(table.table), uses];
    }),
  );
}

/**
 * The tables that a reference of the profile leads to from one: none where it is not of that table. Where neither end names
 * a database both stand in the same one.
 */
export function referredTables<T extends { readonly table: TableName }>(
  rule: ReferenceRule,
  from: TableName,
  tables: readonly T[],
): T[] {
  const ends = { from: columnPlace(rule.from).table, to: columnPlace(rule.to).table };
  if (!meansTable(ends.from, from, ends.to)) return [];
  const isOpen = !ends.from.includes('/') && !ends.to.includes('/');
  return tables.filter(
    ({ table }) => meansTable(ends.to, table, ends.from) && (!isOpen || table.database === from.database),
  );
}

/** Keys that a row holds of other rows. */
export function* keysIn(
  { uses }: MergeTable,
  values: Values | undefined,
): Generator<{ table: string; key: ByteString }> {
  if (!values) return;
  for (const use of uses) {
    const value = values[use.column];
    if (value === null || value === undefined || (use.when && !use.when(values))) continue;
    const keys: ByteString[] = use.inside ? [] : [value];
    use.inside?.replace(value, (key) => {
      keys.push(key);
      return key;
    });
    for (const key of keys) for (const table of [use.table, ...(use.through ?? [])]) yield { table, key };
  }
}
