import {
  type Comparison,
  columnPlace,
  compareTables,
  type MergeRules,
  meansTable,
  type Note,
  type Profile,
  tableId,
} from '@tessarion/core';
import type { SiteDatabase } from '../ports/database.js';
import type { SchemaShape } from '../ports/shapes.js';
import { masksThatBreak } from './broken-masks.js';
import { databaseStandings } from './database-standings.js';
import { askDestination } from './destination-facts.js';
import { type DescribedTable, describeUses } from './merge-tables.js';
import type { ComparisonPlan, EnvironmentComparison } from './plan.js';
import { type ComparedRoot, compareRoot } from './root.js';
import { compareSchemas } from './schemas.js';
import { openSource } from './source-side.js';
import { type DatabaseEnds, type FoundTable, type ReadTable, rulesOf, tablesToCompare } from './tables.js';
import { newRecord } from './unlike-records.js';

/** Compares two environments three ways: database by database, then root by root. Read only. */
export async function compareEnvironments(plan: ComparisonPlan): Promise<EnvironmentComparison> {
  const { method, direction, mask, destination } = plan;
  const merge: MergeRules = { method, direction, mask, keepsMasked: plan.baseline?.isDerived === true };
  const notes: Note[] = [];
  const ends: DatabaseEnds[] = [];
  try {
    for (const database of destination.databases) ends.push(await openEnds(plan, database));
    notes.push(...lostReferences(destination.profile, ends));
    if (direction === 'down')
      for (const { view } of ends) {
        const broken = masksThatBreak(view.schema, destination.profile);
        notes.push(...broken.map((one) => ({ type: 'mask', broken: one }) as const));
      }
    // Files are listed after the databases' views are open, so that what rows name is there; and while servers count.
    const work = [compareDatabases(plan, merge, ends, notes), compareRoots(plan)] as const;
    await Promise.allSettled(work);
    const [{ rows, read }, { files, standing: roots }] = await Promise.all(work);
    const schemas = new Map(ends.map(({ name, view }) => [name, view.schema]));
    const schema = ends.flatMap((one) => one.schema?.differences ?? []);
    const reshaped = ends.flatMap((one) => one.reshaped);
    const triggers = triggersOf(schemas);
    const facts = askDestination(destination, schemas, direction);
    const standing = { databases: databaseStandings(plan, ends, read, rows), roots };
    return { merge, rows, files, notes, facts, schema, reshaped, triggers, standing };
  } finally {
    for (const { view, source } of ends) await Promise.all([view.close(), source.close()]);
  }
}

/** Triggers that fire by row, by {@link tableId}. */
export const triggersOf = (schemas: ReadonlyMap<string, SchemaShape>): Map<string, readonly string[]> =>
  new Map([...schemas.values()].flatMap(({ tables }) => tables.map((one) => [tableId(one), one.rowTriggers] as const)));

/** All tables of the destination, and those that it gets. */
const shapesOf = (ends: readonly DatabaseEnds[]): DescribedTable[] =>
  ends.flatMap(({ view, added }) => [
    ...view.schema.tables.map((shape) => ({ shape, isThere: true })),
    ...added.map((shape) => ({ shape, isThere: false })),
  ]);

/** References of the profile from tables that are there, out of or into columns that are not. */
function lostReferences(profile: Profile | undefined, ends: readonly DatabaseEnds[]): Note[] {
  const tables = ends.flatMap(({ view }) => view.schema.tables);
  const isThere = (text: string, beside: string): boolean => {
    const { table, column } = columnPlace(text);
    return tables.some((one) => meansTable(table, one, beside) && one.columns.some(({ name }) => name === column));
  };
  return (profile?.references ?? []).flatMap(({ from, to }): Note[] => {
    if (!tables.some((one) => meansTable(columnPlace(from).table, one, columnPlace(to).table))) return [];
    const missing = isThere(from, to) ? (isThere(to, from) ? undefined : to) : from;
    return missing === undefined ? [] : [{ type: 'reference', from, to, missing }];
  });
}

async function openEnds(plan: ComparisonPlan, database: SiteDatabase): Promise<DatabaseEnds> {
  const { name } = database;
  const [view, source] = await Promise.allSettled([database.system.view(database), openSource(plan, name)]);
  if (view.status === 'fulfilled' && source.status === 'fulfilled') {
    const { environment } = 'environment' in plan.source ? plan.source : { environment: undefined };
    const theirs = environment?.databases.find((one) => one.name === name);
    const schema =
      theirs &&
      (await compareSchemas(plan, { database: theirs, tables: source.value.tables() }, { database, view: view.value }));
    const [own, ofSource] = await Promise.all([view.value.moment(), source.value.view?.moment()]);
    const moments = { own, source: ofSource };
    return { name, view: view.value, source: source.value, moments, schema, reshaped: [], counted: [], added: [] };
  }
  for (const one of [view, source]) if (one.status === 'fulfilled') await one.value.close();
  throw view.status === 'rejected' ? view.reason : (source as PromiseRejectedResult).reason;
}

async function compareDatabases(
  plan: ComparisonPlan,
  merge: MergeRules,
  ends: readonly DatabaseEnds[],
  notes: Note[],
): Promise<{ readonly rows: Comparison; readonly read: readonly ReadTable[] }> {
  const found: FoundTable[] = [];
  for (const one of ends) found.push(...(await tablesToCompare(plan, one, notes)));
  const tables = describeUses(plan.destination, shapesOf(ends), found);
  const rows = await compareTables(tables, merge, plan.baseline?.keys ?? []);
  const all: ReadTable[] = [];
  for (const { table, ends, read } of tables) {
    const counted = await Promise.all(read.map(withRows));
    all.push(...counted);
    const rowsOf = counted.map((one) => one.rows);
    const record = ends && newRecord(ends, rowsOf, rulesOf(plan, table), rows.unlike.get(table.id) ?? 'too many');
    if (record) plan.changes?.tables.set(table.id, record);
    else plan.changes?.tables.delete(table.id);
  }
  return { rows, read: all };
}

/** A count tells later that nothing has gone. */
const withRows = async (table: ReadTable): Promise<ReadTable> => ({
  ...table,
  rows: table.rows ?? (await table.view.countRows(table.shape)),
});

async function compareRoots(plan: ComparisonPlan): Promise<ComparedRoot> {
  const all: ComparedRoot = { files: [], standing: [] };
  for (const root of plan.destination.place.roots) {
    const { files, standing } = await compareRoot(plan, root.name);
    for (const one of files) all.files.push(one);
    all.standing.push(...standing);
  }
  return all;
}
