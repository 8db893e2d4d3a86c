import {
  addedTable,
  type ByteString,
  rulesForTable,
  type SchemaDifference,
  type TableMake,
  tableDifferences,
} from '@tessarion/core';
import type pg from 'pg';
import { borrowSession, type Session } from '../database/sessions.js';
import {
  type DatabaseLogin,
  type DatabaseView,
  fullName,
  profileName,
  type TableShape,
} from '../database/site-database.js';
import { describeMakes } from '../database/table-makes.js';
import type { ComparisonPlan } from './comparison-plan.js';

/** A difference, and the database that it stands in. */
export type DatabaseDifference = SchemaDifference & {
  readonly database: string;
  /** `schema.table`. */
  readonly table: string;
};

/** How the tables of one database differ between two environments, and what rows hold in columns that they get. */
export interface ComparedSchemas {
  readonly differences: readonly DatabaseDifference[];
  /** What existing rows hold in a column that is added, in the order of writing. */
  fill(table: string, column: string): ByteString | null;
}

const INDEXES = `
  SELECT n.nspname || '.' || c.relname AS name, string_agg(i.relname || ' ' || pg_get_indexdef(x.indexrelid), E'\\n' ORDER BY i.relname) AS indexes
  FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid JOIN pg_class c ON c.oid = x.indrelid JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE x.indisvalid AND NOT EXISTS (SELECT 1 FROM pg_constraint k WHERE k.conindid = x.indexrelid)
    AND n.nspname NOT LIKE 'pg\\_%' GROUP BY 1`;

/** Compares how the tables of a running source and its destination are made. Only those that differ are looked at closer. */
export async function compareSchemas(
  plan: ComparisonPlan,
  database: string,
  source: { readonly login: DatabaseLogin; readonly tables: readonly TableShape[] },
  destination: { readonly login: DatabaseLogin; readonly view: DatabaseView },
): Promise<ComparedSchemas> {
  const open: Session[] = [];
  const connect = async (login: DatabaseLogin): Promise<pg.Client> => {
    const client = await borrowSession(login, 'read', 'compare');
    open.push(client);
    return client;
  };
  try {
    const [theirs, ours] = [await connect(source.login), await connect(destination.login)];
    const own = new Map(destination.view.schema.tables.map((table) => [fullName(table), table]));
    const [theirIndexes, ourIndexes] = [await indexesOf(theirs), await indexesOf(ours)];
    const isAlike = (table: TableShape): boolean => {
      const other = own.get(fullName(table));
      const make = (one: TableShape): string =>
        one.columns
          .map(({ name, type, generated }) => `${name} ${type} ${generated}`)
          .sort()
          .join();
      return (
        other !== undefined &&
        make(table) === make(other) &&
        theirIndexes.get(fullName(table)) === ourIndexes.get(fullName(table))
      );
    };
    const unlike = source.tables.filter((table) => !isAlike(table) && isClassified(plan, database, table));
    const makes = {
      source: await describeMakes(theirs, unlike),
      destination: await describeMakes(
        ours,
        unlike.flatMap((table) => own.get(fullName(table)) ?? []),
      ),
    };
    const differences: DatabaseDifference[] = [];
    for (const table of unlike) {
      const [make, other] = [makes.source.get(fullName(table)) as TableMake, makes.destination.get(fullName(table))];
      const image = plan.baseline?.source.databases
        .find((one) => one.name === database)
        ?.tables.find((one) => fullName(one) === fullName(table));
      const known = image && { columns: new Set(image.columns.map((column) => column.name)) };
      const found = other
        ? tableDifferences(make, other, await destination.view.countRows(own.get(fullName(table)) as TableShape), known)
        : [addedTable(make, known === undefined)];
      const seen = plan.baseline?.seen;
      differences.push(
        ...found.map((one) => ({
          ...one,
          isNews: one.isNews && seen?.has(one.id) !== true,
          database,
          table: fullName(table),
        })),
      );
    }
    return {
      differences,
      fill: (table, column) =>
        (makes.source.get(table)?.columns.find((one) => one.name === column)?.fill as ByteString | null | undefined) ??
        null,
    };
  } finally {
    for (const client of open) await client.giveBack();
  }
}

const isClassified = (plan: ComparisonPlan, database: string, table: TableShape): boolean =>
  rulesForTable(plan.destination.profile, database, profileName(table), []).class !== 'unclassified';

async function indexesOf(client: pg.Client): Promise<Map<string, string>> {
  const found = await client.query<{ name: string; indexes: string }>(INDEXES);
  return new Map(found.rows.map((row) => [row.name, row.indexes]));
}
