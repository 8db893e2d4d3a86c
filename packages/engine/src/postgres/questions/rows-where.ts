import {
  type ByteString,
  LineRewriter,
  materialiseLines,
  readLine,
  rulesForTable,
  type Values,
  writeLine,
} from '@tessarion/core';
import type pg from 'pg';
import { to as copyTo } from 'pg-copy-streams';
import { rewriterOf } from '../../copy/files.js';
import type { TableShape } from '../../ports/database.js';
import type { Environment } from '../../site/environment.js';
import { quoteName, quoteTable } from '../describe.js';
import { readable } from '../view.js';

/**
 * Rows of a table whose columns hold one of some combinations of values, in canonical form and with all readable
 * columns.
 *
 * @param columns columns that are compared by the server, in its own way
 * @param wanted values in canonical form, in the order of `columns`; what holds a null is found nowhere
 */
export async function rowsWhere(
  client: pg.Client,
  environment: Environment,
  shape: TableShape,
  columns: readonly string[],
  wanted: readonly (readonly (ByteString | null)[])[],
): Promise<Values[]> {
  if (wanted.length === 0) return [];
  const rewriter = rewriterOf(environment);
  const written = materialiseLines(wanted.map((values) => `${writeLine(values)}\n`).join(''), rewriter);
  const values = written.slice(0, -1).split('\n').map(readLine);
  // A copy takes no parameters, and nothing of a site is written into a statement: settings of the session hold them.
  const arrays: string[] = [];
  for (const [i, name] of columns.entries()) {
    const wanted = values.map((one) => textOf(one[i] ?? null));
    await client.query(`SELECT pg_catalog.set_config('tessarion.wanted_${i}', ($1::text[])::text, false)`, [wanted]);
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
  const rules = rulesForTable(environment.profile, shape, names);
  const canonical = new LineRewriter(rewriter, rules.columns).canonicalise(content);
  return canonical === '' ? [] : canonical.slice(0, -1).split('\n').map(readLine);
}

const textOf = (value: ByteString | null): string | null =>
  value === null ? null : Buffer.from(value, 'latin1').toString();
