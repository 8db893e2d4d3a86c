import { type ByteString, type KeyRange, Rewriter, tablePath } from '@tessarion/core';
import type { DatabaseView } from '../ports/database.js';
import type { TableShape } from '../ports/shapes.js';
import { canonicalTable } from '../site/canonical-rows.js';
import { readRowImage } from '../store/row-image.js';
import type { ComparisonPlan } from './plan.js';

/** The source of a comparison in one database: running, or as a snapshot holds it. */
export interface SourceSide {
  /** Undefined where the source is a snapshot. */
  readonly view: DatabaseView | undefined;
  tables(): readonly TableShape[];
  rows(table: TableShape, ranges?: readonly KeyRange[]): AsyncIterable<ByteString>;
  count(table: TableShape): Promise<number>;
  close(): Promise<void>;
}

/** Opens a database of the source for reading. */
export async function openSource(plan: ComparisonPlan, database: string): Promise<SourceSide> {
  if ('snapshot' in plan.source) {
    const stored = plan.source.snapshot.databases.find((one) => one.name === database);
    const tables = stored?.tables ?? [];
    const find = (table: TableShape): (typeof tables)[number] | undefined =>
      tables.find((one) => tablePath(one) === tablePath(table));
    return {
      view: undefined,
      tables: () =>
        tables.map((table) => ({
          ...table,
          database,
          columns: table.columns.map((column) => ({
            ...column,
            maxLength: undefined,
            isText: false,
            isRequired: false,
            isFilled: true,
          })),
          references: [],
          rowTriggers: [],
          uniques: [],
          exclusions: [],
          checks: [],
          indexes: '',
          drawsKey: false,
        })),
      rows: (table) => readRowImage(plan.library.store, find(table)),
      count: async (table) => find(table)?.rows ?? 0,
      close: async () => undefined,
    };
  }
  const { environment } = plan.source;
  const own = environment.databases.find((one) => one.name === database);
  if (!own) throw new Error(`${environment.path} has no database "${database}".`);
  const view = await own.system.view(own);
  const rewriter = new Rewriter(environment.place);
  return {
    view,
    tables: () => view.schema.tables,
    rows: (table, ranges) => canonicalTable(environment, view, table, rewriter).rows(ranges),
    count: (table) => view.countRows(table),
    close: () => view.close(),
  };
}
