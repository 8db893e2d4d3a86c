import {
  addedTable,
  type ByteString,
  calledIn,
  type DatabaseDifference,
  rulesForTable,
  type TableMake,
  tableDifferences,
  tablePath,
} from '@tessarion/core';
import type { DatabaseView, SiteDatabase } from '../ports/database.js';
import type { TableShape } from '../ports/shapes.js';
import type { ComparisonPlan } from './plan.js';

/** How the tables of one database differ between two environments, and what rows hold in columns that they get. */
export interface ComparedSchemas {
  readonly differences: readonly DatabaseDifference[];
  /** What existing rows hold in a column that is added, in the order of writing. */
  fill(table: string, column: string): ByteString | null;
}

/** Compares how the tables of a running source and its destination are made. Only those that differ are looked at closer. */
export async function compareSchemas(
  plan: ComparisonPlan,
  source: { readonly database: SiteDatabase; readonly tables: readonly TableShape[] },
  destination: { readonly database: SiteDatabase; readonly view: DatabaseView },
): Promise<ComparedSchemas> {
  const own = new Map(destination.view.schema.tables.map((table) => [tablePath(table), table]));
  const unlike = source.tables.filter((table) => {
    const other = own.get(tablePath(table));
    return !(other && isMadeAlike(table, other)) && isClassified(plan, table);
  });
  if (unlike.length === 0) return { differences: [], fill: () => null };
  const label = (table: TableShape): string => calledIn(plan.destination.profile, table);
  const { name: database, system } = destination.database;
  const makes = {
    source: await source.database.system.makes(source.database, unlike, label),
    destination: await system.makes(
      destination.database,
      unlike.flatMap((table) => own.get(tablePath(table)) ?? []),
      label,
    ),
  };
  const differences: DatabaseDifference[] = [];
  for (const table of unlike) {
    const [make, other] = [makes.source.get(tablePath(table)) as TableMake, makes.destination.get(tablePath(table))];
    const image = plan.baseline?.source.databases
      .find((one) => one.name === database)
      ?.tables.find((one) => tablePath(one) === tablePath(table));
    const known = image && { columns: new Set(image.columns.map((column) => column.name)) };
    const found = other
      ? tableDifferences(
          make,
          other,
          await destination.view.countRows(own.get(tablePath(table)) as TableShape),
          known,
          system.making,
        )
      : [addedTable(make, known === undefined, system.making)];
    const seen = plan.baseline?.seen;
    differences.push(
      ...found.map((one) => ({
        ...one,
        isNews: one.isNews && seen?.has(one.id) !== true,
        database,
        table: tablePath(table),
      })),
    );
  }
  return {
    differences,
    fill: (table, column) =>
      (makes.source.get(table)?.columns.find((one) => one.name === column)?.fill as ByteString | null | undefined) ??
      null,
  };
}

/** Whether two tables are made alike as far as their descriptions tell: columns, in whatever order, and indexes. */
function isMadeAlike(one: TableShape, other: TableShape): boolean {
  const columnsOf = ({ columns }: TableShape): string =>
    columns
      .map(({ name, type, generated }) => `${name} ${type} ${generated}`)
      .sort()
      .join();
  return columnsOf(one) === columnsOf(other) && one.indexes === other.indexes;
}

const isClassified = (plan: ComparisonPlan, table: TableShape): boolean =>
  rulesForTable(plan.destination.profile, table, []).class !== 'unclassified';
