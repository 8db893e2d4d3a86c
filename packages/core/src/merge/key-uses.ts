import type { ByteString } from '../address/place.js';
import { columnPlace } from '../profile/column-place.js';
import type { Profile } from '../profile/schema.js';
import { compileCondition } from '../rows/condition.js';
import { keysInside } from './keys-inside.js';
import { type KeyUse, type MergeTable, tableId, type Values } from './merge-table.js';

/** What key uses are worked out from. Tables by `schema.table`. */
export interface ReferringTable {
  readonly table: string;
  /** The table as the profile calls it. */
  readonly label: string;
  readonly columns: readonly string[];
  readonly key: readonly string[];
  readonly references: readonly {
    readonly columns: readonly string[];
    readonly table: string;
    readonly targetColumns: readonly string[];
  }[];
}

interface Target {
  readonly table: ReferringTable;
  readonly column: string;
}

/**
 * Finds for each table of a database which of its columns hold keys, and of what: declared foreign keys and those of
 * the profile, followed through tables that pass a key on (a picture of a product's variant holds the product's key).
 */
export function keyUses(
  database: string,
  tables: readonly ReferringTable[],
  profile: Profile | undefined,
): ReadonlyMap<string, readonly KeyUse[]> {
  const byName = new Map(tables.map((one) => [one.table, one]));
  const byLabel = new Map(tables.map((one) => [one.label, one]));
  const declared = (table: ReferringTable, column: string): Target | undefined => {
    for (const reference of table.references) {
      const at = reference.columns.indexOf(column);
      const target = byName.get(reference.table);
      if (at !== -1 && target) return { table: target, column: reference.targetColumns[at] as string };
    }
    return undefined;
  };
  const profiled = (profile?.references ?? []).flatMap((rule) => {
    const [from, to] = [columnPlace(rule.from), columnPlace(rule.to)];
    const [table, target] = [byLabel.get(from.table), byLabel.get(to.table)];
    return table && target ? [{ table, column: from.column, target: { table: target, column: to.column }, rule }] : [];
  });
  const isKey = ({ table, column }: Target): boolean => table.key.length === 1 && table.key[0] === column;
  /** The table whose single key a value is in the end, and those on the way that have a row under the same key. */
  const owner = (
    target: Target,
    seen: readonly string[],
    through: readonly ReferringTable[] = [],
  ): { of: ReferringTable; through: readonly ReferringTable[] } | undefined => {
    const { table, column } = target;
    const at = `${table.table} ${column}`;
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
        const through = found.through.flatMap((one) => (one === table ? [] : [tableId(database, one.table)]));
        uses.push({ column: position, table: tableId(database, found.of.table), through, when, inside });
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
      return [table.table, uses];
    }),
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
