import {
  type ByteString,
  type ColumnTreatment,
  type KeyRange,
  LineRewriter,
  mapRows,
  type Place,
  type Rewriter,
  rulesForTable,
  type TableName,
  type TableRules,
  toBytes,
} from '@tessarion/core';
import type { DatabaseView } from '../ports/database.js';
import { readable, type TableShape } from '../ports/shapes.js';
import { sortedRows } from '../store/sorted-rows.js';
import { type Environment, rowSettings } from './environment.js';

/** One table of an environment as comparison, snapshots and copies see it. */
export interface CanonicalTable {
  readonly shape: TableShape;
  readonly rules: TableRules;
  readonly columns: readonly string[];
  readonly keyColumns: readonly number[];
  /** Rows in canonical form and order; in some ranges only where the key is one integer column. */
  rows(ranges?: readonly KeyRange[]): AsyncGenerator<ByteString>;
  /** Set where rows need neither sorting nor hiding, so that they can be rewritten in one pass. */
  readonly direct: DirectRows | undefined;
  /** Addresses rewritten and left, by column; complete once the rows were read. */
  readonly rewriter: LineRewriter;
}

/** Rows as the database writes them, in canonical order. */
export interface DirectRows {
  rows(): AsyncIterable<ByteString>;
  readonly rewriter: LineRewriter;
  /** Where they were written, and how their columns are treated. */
  readonly place: Place;
  readonly columns: readonly ColumnTreatment[];
}

/** Prepares a table for reading; the profile's own key is used where the database declares none. */
export function canonicalTable(
  environment: Environment,
  view: DatabaseView,
  shape: TableShape,
  rewriter: Rewriter,
): CanonicalTable {
  const columns = readable(shape).map((column) => column.name);
  const rules = rulesForTable(environment.profile, shape, columns);
  const key = shape.key.length > 0 ? shape.key : (rules.key ?? []);
  const keyColumns = key.map((name) => columns.indexOf(name));
  const lines = new LineRewriter(rewriter, rules.columns);
  const hidden = hideSettings(environment, shape, columns);
  const isTextKey = key.some(
    (name) =>
      shape.columns.find((column) => column.name === name)?.isText &&
      rules.columns.find((column) => column.name === name)?.rewrite,
  );
  const mustSort = key.length === 0 || shape.key.length === 0 || isTextKey;

  async function* canonical(ranges?: readonly KeyRange[]): AsyncGenerator<ByteString> {
    for await (const batch of view.readRows(shape, ranges)) {
      const translated = lines.canonicalise(batch);
      yield hidden ? hidden(translated) : translated;
    }
  }
  const orders = shape.key.length > 0 ? shape.keyOrders : key.map(() => 'bytes' as const);
  return {
    shape: { ...shape, key, keyOrders: orders },
    rules,
    columns,
    keyColumns,
    rewriter: lines,
    direct:
      mustSort || hidden
        ? undefined
        : {
            rows: () => view.readRows(shape),
            rewriter: lines,
            place: environment.place,
            columns: rules.columns.map(({ name, rewrite, reach }) => ({ name, rewrite, reach })),
          },
    rows: (ranges) => (mustSort ? sortedRows(canonical(ranges), { keyColumns, orders }) : canonical(ranges)),
  };
}

/** Replaces the values of settings that stand in rows by their tokens, so that they never travel. */
function hideSettings(
  environment: Environment,
  table: TableName,
  columns: readonly string[],
): ((lines: ByteString) => ByteString) | undefined {
  const settings = rowSettings(environment.profile, table).map((setting) => ({
    name: setting.name,
    value: columns.indexOf(setting.in.column),
    where: Object.entries(setting.in.row).map(([column, value]) => ({
      index: columns.indexOf(column),
      value: toBytes(value),
    })),
  }));
  if (settings.length === 0) return undefined;
  return (lines) =>
    mapRows(lines, (row) => {
      const setting = settings.find((one) => one.where.every((part) => row[part.index] === part.value));
      if (!setting) return row;
      const changed = [...row];
      changed[setting.value] = `~tsr.s.${setting.name}~`;
      return changed;
    });
}
