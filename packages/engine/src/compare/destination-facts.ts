import {
  type ByteString,
  type DestinationFacts,
  type MergeTable,
  type Referrer,
  type RowKey,
  tableId,
  type Values,
} from '@tessarion/core';
import type { Questions } from '../ports/database.js';
import type { SchemaShape, TableShape } from '../ports/shapes.js';
import type { Environment } from '../site/environment.js';
import { rewriterOf } from '../site/environment.js';
import { protectingReferences } from '../site/protecting-references.js';

/**
 * Answers from the destination's databases what a merge must know of rows that it does not compare.
 *
 * @param going rows that do not protect what they refer to, since they go themselves: keys by {@link tableId}
 */
export function askDestination(
  destination: Environment,
  schemas: ReadonlyMap<string, SchemaShape>,
  direction: 'up' | 'down',
  going: ReadonlyMap<string, readonly RowKey[]> = new Map(),
): DestinationFacts {
  const rewriter = rewriterOf(destination);
  const tables = [...schemas.values()].flatMap((one) => one.tables);
  const byId = new Map(tables.map((one) => [tableId(one), one]));
  const shapeOf = (table: MergeTable): TableShape => byId.get(table.id) as TableShape;
  const asking = async <R>(database: string, question: (questions: Questions) => Promise<R>): Promise<R> => {
    const own = destination.databases.find((one) => one.name === database);
    if (!own) throw new Error(`${destination.path} has no database "${database}".`);
    const questions = await own.system.ask(own, 'compare');
    try {
      return await question(questions);
    } finally {
      await questions.close();
    }
  };
  const written = (value: ByteString | null): ByteString | null =>
    value === null ? null : rewriter.materialise(value);
  return {
    async referrers(table, keys) {
      // Downward, collected rows are compared themselves.
      if (direction === 'down') return [];
      const wanted = keys.map((key) => written(key) as ByteString);
      const found: Referrer[] = [];
      for (const { table: by, column } of protectingReferences(destination.profile, tables, shapeOf(table))) {
        const without = (going.get(tableId(by)) ?? []).map((key) => key.map((one) => written(one ?? null)));
        const counts = await asking(by.database, (questions) =>
          questions.countReferring({ table: by, column, keys: wanted, without }),
        );
        for (const [key, rows] of counts) found.push({ key, table: by, rows });
      }
      return found;
    },
    async holders(table, columns, values) {
      const names = columns.map((i) => table.columns[i] as string);
      const wanted = values.map((one) => columns.map((_column, i) => written(one[i] ?? null)));
      const rows = await asking(table.name.database, (questions) => questions.holders(shapeOf(table), names, wanted));
      return rows.map(({ at, key }) => {
        const row: (ByteString | null)[] = table.columns.map(() => null);
        for (const [i, name] of table.key.entries()) row[table.columns.indexOf(name)] = key[i] as string;
        return { values: values[at] as Values, row };
      });
    },
  };
}
