import { type ByteString, toBytes, toText } from '@tessarion/core';
import type pg from 'pg';
import type { HeldRows, Mentioning, Referring } from '../../ports/database.js';
import { integerKey, type TableShape } from '../../ports/shapes.js';
import { quoteName, quoteTable } from '../describe.js';
import { textOf } from './rows-where.js';

/** See {@link Questions.countReferring}. */
export async function countReferring(
  client: pg.Client,
  { table, column, keys, when = {}, distinct, without = [] }: Referring,
): Promise<Map<ByteString, number>> {
  const conditions = Object.entries(when);
  const own = without.length === 0 ? [] : table.key;
  const [first, next] = [2, 2 + conditions.length];
  const passed =
    own.length === 0
      ? ''
      : `AND (${own.map((one) => `${quoteName(one)}::text`).join(', ')}) NOT IN
          (SELECT * FROM unnest(${own.map((_one, i) => `$${next + i}::text[]`).join(', ')}))`;
  const found = await client.query<{ key: string; rows: string }>(
    `SELECT ${quoteName(column)}::text AS key, count(${distinct === undefined ? '*' : `DISTINCT ${quoteName(distinct)}`})::text AS rows
      FROM ${quoteTable(table)} WHERE ${quoteName(column)}::text = ANY($1)
      ${conditions.map(([one], i) => `AND ${quoteName(one)}::text = ANY($${first + i})`).join(' ')} ${passed} GROUP BY 1 ORDER BY 1`,
    [
      keys.map(toText),
      ...conditions.map(([, values]) => values),
      ...own.map((_one, i) => without.map((key) => textOf(key[i] ?? null))),
    ],
  );
  return new Map(found.rows.map(({ key, rows }) => [toBytes(key), Number(rows)]));
}

/** See {@link Questions.countMentioning}. */
export async function countMentioning(
  client: pg.Client,
  { table, searches, distinct }: Mentioning,
): Promise<Map<ByteString, number>> {
  const thing = distinct === undefined ? 'ctid' : quoteName(distinct);
  // A row that names a text in two columns mentions it once.
  const each = searches.map(({ column }, i) => {
    const holds = column === undefined ? 'true' : `strpos(t.${quoteName(column)}::text, f.path) > 0`;
    return `SELECT f.path, t.${thing}::text AS thing FROM unnest($${i + 1}::text[]) AS f(path) JOIN ONLY ${quoteTable(table)} t ON ${holds}`;
  });
  const { rows } = await client.query<{ path: string; rows: string }>(
    `SELECT path, count(DISTINCT thing)::text AS rows FROM (${each.join(' UNION ALL ')}) AS found GROUP BY 1`,
    searches.map((one) => one.texts.map(toText)),
  );
  return new Map(rows.map((row) => [toBytes(row.path), Number(row.rows)]));
}

/** See {@link Questions.holders}. */
export async function holders(
  client: pg.Client,
  table: TableShape,
  columns: readonly string[],
  values: readonly (readonly (ByteString | null)[])[],
): Promise<{ at: number; key: ByteString[] }[]> {
  const typeOf = (name: string): string => table.columns.find((column) => column.name === name)?.type ?? 'text';
  const match = columns.map((name, i) => `t.${quoteName(name)} = w.c${i}::${typeOf(name)}`).join(' AND ');
  const keys = table.key.map((name) => `t.${quoteName(name)}::text`).join(', ');
  const { rows } = await client.query<{ at: string; key: string[] }>(
    `SELECT w.at::text, ARRAY[${keys}] AS key FROM unnest(${columns.map((_name, i) => `$${i + 1}::text[]`).join(', ')})
       WITH ORDINALITY AS w(${columns.map((_name, i) => `c${i}`).join(', ')}, at) JOIN ${quoteTable(table)} t ON ${match}`,
    columns.map((_name, i) => values.map((one) => textOf(one[i] ?? null))),
  );
  return rows.map(({ at, key }) => ({ at: Number(at) - 1, key: key.map(toBytes) }));
}

/** See {@link Questions.valuesByKey}. */
export async function valuesByKey(
  client: pg.Client,
  table: TableShape,
  column: string,
  keys: readonly ByteString[],
): Promise<Map<ByteString, ByteString>> {
  const key = quoteName(table.key[0] as string);
  const { rows } = await client.query<{ key: string; value: string | null }>(
    `SELECT ${key}::text AS key, ${quoteName(column)}::text AS value FROM ONLY ${quoteTable(table)} WHERE ${key}::text = ANY($1)`,
    [keys.map(toText)],
  );
  return new Map(rows.flatMap((row) => (row.value === null ? [] : [[toBytes(row.key), toBytes(row.value)] as const])));
}

/** See {@link Questions.cell}. */
export async function cell(
  client: pg.Client,
  table: TableShape,
  row: Readonly<Record<string, string>>,
  column: string,
): Promise<ByteString | null | undefined> {
  const match = Object.keys(row).map((name, i) => `${quoteName(name)}::text = $${i + 1}`);
  const { rows } = await client.query<{ value: string | null }>(
    `SELECT ${quoteName(column)}::text AS value FROM ${quoteTable(table)} WHERE ${match.join(' AND ')}`,
    Object.values(row),
  );
  const [found] = rows;
  return found === undefined || found.value === null ? found && null : toBytes(found.value);
}

/** The sum does not depend on the order of rows, and another set of keys has another one. */
const sumOf = (key: string, condition = ''): string =>
  `(sum(hashint8extended(${key}::int8, 20261123)::numeric)${condition})::text`;

/** See {@link Questions.heldRows}. */
export async function heldRows(client: pg.Client, table: TableShape, upTo: string | undefined): Promise<HeldRows> {
  const name = integerKey(table);
  const key = name === undefined ? undefined : quoteName(name);
  const only = upTo === undefined ? '' : ` FILTER (WHERE ${key} <= $1::int8)`;
  const { rows } = await client.query<{ rows: string; highest: string | null; sum: string | null }>(
    key === undefined
      ? `SELECT count(*)::text AS rows, NULL AS highest, NULL AS sum FROM ${quoteTable(table)}`
      : `SELECT count(*)::text AS rows, (max(${key})${only})::text AS highest, ${sumOf(key, only)} AS sum FROM ${quoteTable(table)}`,
    key === undefined || upTo === undefined ? [] : [upTo],
  );
  const [row] = rows;
  return {
    rows: Number(row?.rows ?? 0),
    keys: row?.highest != null && row.sum !== null ? { highest: row.highest, sum: row.sum } : null,
  };
}

/** See {@link Questions.size}. */
export async function sizeOf(client: pg.Client): Promise<{ rows: number; bytes: number }> {
  const { rows } = await client.query<{ bytes: string; rows: string }>(
    `SELECT pg_database_size(current_database())::text AS bytes,
       (SELECT coalesce(sum(greatest(reltuples, 0)), 0)::bigint::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
        WHERE relkind = 'r' AND nspname NOT LIKE 'pg\\_%' AND nspname <> 'information_schema') AS rows`,
  );
  return { rows: Number(rows[0]?.rows), bytes: Number(rows[0]?.bytes) };
}
