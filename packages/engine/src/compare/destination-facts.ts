import {
  type ByteString,
  type DestinationFacts,
  type MergeTable,
  type RowKey,
  tableId,
  toBytes,
  toText,
  type Values,
} from '@tessarion/core';
import { rewriterOf } from '../copy/files.js';
import type { SchemaShape, TableShape } from '../ports/database.js';
import { quoteName, quoteTable } from '../postgres/describe.js';
import { borrowSession } from '../postgres/sessions.js';
import type { Environment } from '../site/environment.js';
import { protectingReferences } from './protecting-references.js';

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
  const ask = async <R extends object>(database: string, sql: string, values: unknown[]): Promise<R[]> => {
    const login = destination.databases.find((one) => one.name === database)?.login;
    if (!login) throw new Error(`${destination.path} has no database "${database}".`);
    const client = await borrowSession(login, 'read', 'compare');
    try {
      return (await client.query<R>(sql, values)).rows;
    } finally {
      await client.giveBack();
    }
  };
  const written = (value: ByteString | null): string | null =>
    value === null ? null : toText(rewriter.materialise(value));
  return {
    async referrers(table, keys) {
      // Downward, collected rows are compared themselves.
      if (direction === 'down') return [];
      const wanted = keys.map(written);
      const found = [];
      for (const { table: by, column } of protectingReferences(destination.profile, tables, shapeOf(table))) {
        const leaving = going.get(tableId(by)) ?? [];
        const { key } = by;
        const others =
          leaving.length === 0 || key.length === 0
            ? ''
            : `AND (${key.map((one) => `${quoteName(one)}::text`).join(', ')}) NOT IN
                (SELECT * FROM unnest(${key.map((_one, i) => `$${i + 2}::text[]`).join(', ')}))`;
        const rows = await ask<{ key: string; count: string }>(
          by.database,
          `SELECT ${quoteName(column)}::text AS key, count(*)::text AS count FROM ${quoteTable(by)}
            WHERE ${quoteName(column)}::text = ANY($1) ${others} GROUP BY 1 ORDER BY 1`,
          [wanted, ...(others === '' ? [] : key.map((_one, i) => leaving.map((at) => written(at[i] ?? null))))],
        );
        for (const row of rows) found.push({ key: toBytes(row.key), table: by, rows: Number(row.count) });
      }
      return found;
    },
    async holders(table, columns, values) {
      const shape = shapeOf(table);
      const typeOf = (name: string): string => shape.columns.find((column) => column.name === name)?.type ?? 'text';
      const names = columns.map((i) => table.columns[i] as string);
      const match = names.map((name, i) => `t.${quoteName(name)} = w.c${i}::${typeOf(name)}`).join(' AND ');
      const keys = table.key.map((name) => `t.${quoteName(name)}::text`).join(', ');
      const rows = await ask<{ at: string; key: string[] }>(
        table.name.database,
        `SELECT w.at::text, ARRAY[${keys}] AS key FROM unnest(${names.map((_name, i) => `$${i + 1}::text[]`).join(', ')})
           WITH ORDINALITY AS w(${names.map((_name, i) => `c${i}`).join(', ')}, at) JOIN ${quoteTable(shape)} t ON ${match}`,
        names.map((_name, i) => values.map((one) => written(one[i] ?? null))),
      );
      return rows.map(({ at, key }) => {
        const row: (ByteString | null)[] = table.columns.map(() => null);
        for (const [i, name] of table.key.entries()) row[table.columns.indexOf(name)] = toBytes(key[i] as string);
        return { values: values[Number(at) - 1] as Values, row };
      });
    },
  };
}
