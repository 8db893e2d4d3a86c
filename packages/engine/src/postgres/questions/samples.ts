import { tablePath } from '@tessarion/core';
import type pg from 'pg';
import type { Samples, TableCounts } from '../../ports/database.js';
import type { TableShape } from '../../ports/shapes.js';
import { quoteName, quoteTable } from '../describe.js';

/** A statement that takes longer tells too little for what it costs. */
const STATEMENT_MS = 20_000;

/** See {@link Questions.samples}. */
export async function samplesOf(client: pg.Client, table: TableShape, most: number, length: number): Promise<Samples> {
  await client.query(`BEGIN; SET LOCAL statement_timeout = ${STATEMENT_MS}`);
  try {
    return await readSamples(client, table, most, length);
  } finally {
    await client.query('ROLLBACK');
  }
}

async function readSamples(client: pg.Client, table: TableShape, most: number, length: number): Promise<Samples> {
  const columns = table.columns.filter((column) => column.type !== 'bytea');
  const nullable = await client.query<{ name: string }>(
    'SELECT attname::text AS name FROM pg_catalog.pg_attribute WHERE attrelid = $1::regclass AND attnum > 0 AND NOT attnotnull',
    [quoteTable(table)],
  );
  const values = new Map<string, string[]>(columns.map((column) => [column.name, []]));
  // The first rows are often an installation's own; the last ones are what people made lately.
  const order = table.key.length === 1 ? [`ORDER BY ${quoteName(table.key[0] as string)} DESC`, ''] : [''];
  let rows = 0;
  for (const one of columns.length === 0 ? [] : order) {
    const found = await client.query<Record<string, string | null>>(
      `SELECT ${columns.map((column, i) => `left(${quoteName(column.name)}::text, ${length}) AS c${i}`).join(', ')}
        FROM ONLY ${quoteTable(table)} ${one} LIMIT ${most}`,
    );
    rows = Math.max(rows, found.rows.length);
    for (const row of found.rows)
      for (const [i, column] of columns.entries()) {
        const value = row[`c${i}`];
        if (value !== null && value !== undefined) values.get(column.name)?.push(value);
      }
  }
  return { rows, values, nullable: new Set(nullable.rows.map((row) => row.name)) };
}

/** See {@link Questions.differentValues}; zero and empty stand for nothing. */
export async function differentValues(
  client: pg.Client,
  table: TableShape,
  column: string,
  when: { readonly column: string; readonly value: string } | undefined,
  most: number,
): Promise<string[] | undefined> {
  const name = quoteName(column);
  const found = await ask(client, async () =>
    client.query<{ value: string }>(
      `SELECT DISTINCT ${name}::text AS value FROM ONLY ${quoteTable(table)}
        WHERE ${name} IS NOT NULL AND ${name}::text NOT IN ('', '0') ${when ? `AND ${quoteName(when.column)}::text = $1` : ''} LIMIT ${most}`,
      when ? [when.value] : [],
    ),
  );
  return found?.rows.map((row) => row.value);
}

/** See {@link Questions.countKeys}. */
export async function countKeys(
  client: pg.Client,
  table: TableShape,
  values: readonly string[],
): Promise<number | undefined> {
  const name = table.key[0] as string;
  const type = table.columns.find((one) => one.name === name)?.type ?? '';
  const fitting = /^(smallint|integer|bigint|int\d|numeric)/.test(type)
    ? values.filter((one) => /^-?\d{1,18}$/.test(one))
    : values;
  const found = await ask(client, async () =>
    client.query<{ found: string }>(
      `SELECT count(*)::text AS found FROM ${quoteTable(table)} WHERE ${quoteName(name)} = ANY($1::text[]::${type}[])`,
      [fitting],
    ),
  );
  return found && Number(found.rows[0]?.found ?? 0);
}

/** What takes too long, or cannot be compared, is not known. */
async function ask<T>(client: pg.Client, question: () => Promise<T>): Promise<T | undefined> {
  await client.query(`BEGIN; SET LOCAL statement_timeout = ${STATEMENT_MS}`);
  try {
    return await question();
  } catch (error) {
    const { code } = error as { code?: string };
    if (code === undefined || !['57014', '42883', '22P02', '22003', '42804'].includes(code)) throw error;
    return undefined;
  } finally {
    await client.query('ROLLBACK');
  }
}

/** See {@link Questions.counts}. */
export async function countsOf(client: pg.Client): Promise<Map<string, TableCounts>> {
  const { rows } = await client.query<{ schema: string; name: string } & Record<keyof TableCounts, string>>(
    `SELECT schemaname AS schema, relname AS name, n_live_tup::text AS rows, n_tup_ins::text AS inserted,
       n_tup_upd::text AS updated, n_tup_del::text AS deleted FROM pg_catalog.pg_stat_user_tables`,
  );
  return new Map(
    rows.map((row) => [
      tablePath(row),
      {
        rows: Number(row.rows),
        inserted: Number(row.inserted),
        updated: Number(row.updated),
        deleted: Number(row.deleted),
      },
    ]),
  );
}
