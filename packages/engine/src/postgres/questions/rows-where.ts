import { type ByteString, toText } from '@tessarion/core';
import type pg from 'pg';
import { to as copyTo } from 'pg-copy-streams';
import { readable, type TableShape } from '../../ports/shapes.js';
import { quoteName, quoteTable } from '../describe.js';

/** See {@link Questions.rowsWhere}. */
export async function rowsWhere(
  client: pg.Client,
  shape: TableShape,
  columns: readonly string[],
  wanted: readonly (readonly (ByteString | null)[])[],
): Promise<ByteString> {
  // A copy takes no parameters, and nothing of a site is written into a statement: settings of the session hold them.
  const arrays: string[] = [];
  for (const [i, name] of columns.entries()) {
    const own = wanted.map((one) => textOf(one[i] ?? null));
    await client.query(`SELECT pg_catalog.set_config('tessarion.wanted_${i}', ($1::text[])::text, false)`, [own]);
    const type = shape.columns.find((column) => column.name === name)?.type as string;
    arrays.push(`pg_catalog.current_setting('tessarion.wanted_${i}')::text[]::${type}[]`);
  }
  const names = readable(shape).map((column) => column.name);
  const match = columns.map((name, i) => `t.${quoteName(name)} = w.k${i}`).join(' AND ');
  const stream = client.query(
    copyTo(
      `COPY (SELECT ${names.map((name) => `t.${quoteName(name)}`).join(', ')} FROM ONLY ${quoteTable(shape)} t
        JOIN (SELECT DISTINCT * FROM unnest(${arrays.join(', ')})) AS w(${columns.map((_name, i) => `k${i}`).join(', ')})
          ON ${match}) TO STDOUT`,
    ),
  );
  let content = '';
  for await (const chunk of stream as AsyncIterable<Buffer>) content += chunk.toString('latin1');
  return content;
}

/** A value as a parameter; null stays so. */
export const textOf = (value: ByteString | null): string | null => (value === null ? null : toText(value));
