import {
  itemForTable,
  type KeyUse,
  keyUses,
  type MergeTable,
  type Profile,
  type TableName,
  type TableToCompare,
  tableId,
} from '@tessarion/core';
import { plainUniques, readable, type TableShape } from '../ports/shapes.js';
import type { CanonicalTable } from '../site/canonical-rows.js';
import type { Environment } from '../site/environment.js';

/** A table as merging sees it; which keys it holds and which columns are unique comes from {@link describeUses}. */
export function mergeTable(
  environment: Environment,
  { shape, rules, columns }: Pick<CanonicalTable, 'shape' | 'rules' | 'columns'>,
  hasBaseline: boolean,
): MergeTable {
  return {
    name: { database: shape.database, schema: shape.schema, name: shape.name },
    id: tableId(shape),
    columns,
    key: shape.key,
    keyOrders: shape.keyOrders,
    rules,
    uses: [],
    naturalKey: positions(columns, rules.naturalKey ?? []),
    drawsKeys: shape.drawsKey,
    hasBaseline,
    stamps: stampsOf(environment.profile, shape, columns),
    uniques: [],
  };
}

/** A table of any database of the destination, or one that it is about to get. */
export interface DescribedTable {
  readonly shape: TableShape;
  readonly isThere: boolean;
}

/** Adds to tables where keys stand in them, by the database and the profile, and which columns are unique together. */
export function describeUses<T extends TableToCompare>(
  environment: Environment,
  all: readonly DescribedTable[],
  tables: readonly T[],
): T[] {
  const byId = new Map(all.map((one) => [tableId(one.shape), one]));
  const uses = keyUses(
    all.map(({ shape }) => ({
      table: shape,
      columns: readable(shape).map((column) => column.name),
      key: shape.key,
      references: shape.references,
    })),
    environment.profile,
  );
  return tables.map((one) => {
    const { table } = one;
    const { shape, isThere } = byId.get(table.id) as DescribedTable;
    const indexes = shape.key.length > 0 && isThere ? plainUniques(shape) : [];
    const uniques = indexes
      .map((columns) => columns.map((name) => table.columns.indexOf(name)))
      .filter((columns) => !columns.includes(-1));
    const own: readonly KeyUse[] = uses.get(table.id) ?? [];
    return { ...one, table: { ...table, uses: own, uniques } };
  });
}

/** Columns of an item's own table that say when and by whom it was changed. */
function stampsOf(profile: Profile | undefined, table: TableName, columns: readonly string[]): number[] {
  const changed = itemForTable(profile, table)?.changed;
  return [changed?.at, changed?.by].map((name) => columns.indexOf(name ?? '')).filter((at) => at !== -1);
}

/** Where columns stand; none when one of them is not there. */
function positions(columns: readonly string[], names: readonly string[]): number[] {
  const found = names.map((name) => columns.indexOf(name));
  return found.includes(-1) ? [] : found;
}
