import type pg from 'pg';
import { to as copyTo } from 'pg-copy-streams';
import type { ReadBack } from '../../ports/rows.js';
import type { TableShape } from '../../ports/shapes.js';
import { quoteLiteral, quoteName, quoteTable } from '../describe.js';

/** A table that is written, as the reading back needs it. */
export interface WrittenTable {
  readonly shape: TableShape;
  readonly columns: readonly string[];
  readonly temporary: string;
  readonly keyMatch: string;
  /** The value of a column of `alias` as text, whatever its type. */
  readonly text: (alias: string, column: string) => string;
}

const formerOf = (table: WrittenTable): string => `${table.temporary}_former`;

/** Keeps rows as they are before they are written, so that what triggers do to them can be told. */
export async function keepFormer(client: pg.Client, table: WrittenTable): Promise<void> {
  const name = formerOf(table).replace('pg_temp.', '');
  await client.query(
    `CREATE TEMP TABLE ${name} ON COMMIT DROP AS SELECT t.* FROM ${quoteTable(table.shape)} t
      JOIN ${table.temporary} s ON s.op = 'update' AND ${table.keyMatch}`,
  );
}

/** Reads the inserted and updated rows of a table, in the transaction that wrote them. */
export async function readBack(client: pg.Client, table: WrittenTable): Promise<ReadBack> {
  const { shape, columns, temporary, keyMatch, text } = table;
  const key = shape.key.map((name) => `b.${quoteName(name)} = t.${quoteName(name)}`).join(' AND ');
  const moved = columns.map(
    (name) => `CASE WHEN ${text('t', name)} IS DISTINCT FROM ${text('b', name)} THEN ${quoteLiteral(name)} END`,
  );
  const stream = client.query(
    copyTo(`COPY (SELECT ${columns.map((name) => `t.${quoteName(name)}`).join(', ')}, s.op,
      array_to_json(CASE WHEN s.op = 'update' THEN s.changed || array_remove(ARRAY[${moved.join(', ')}]::text[], NULL) END)
      FROM ${temporary} s JOIN ${quoteTable(shape)} t ON ${keyMatch} LEFT JOIN ${formerOf(table)} b ON ${key}
      WHERE s.op <> 'delete') TO STDOUT`),
  );
  let content = '';
  for await (const chunk of stream as AsyncIterable<Buffer>) content += chunk.toString('latin1');
  return { shape, columns, lines: content === '' ? [] : content.slice(0, -1).split('\n') };
}
