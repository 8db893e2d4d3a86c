import { type ByteString, LineRewriter, placeOfRows, type RowChange, readLine, rulesForTable } from '@tessarion/core';
import type pg from 'pg';
import { to as copyTo } from 'pg-copy-streams';
import { rewriterOf } from '../../copy/files.js';
import type { TableShape } from '../../ports/database.js';
import type { Environment } from '../../site/environment.js';
import { quoteLiteral, quoteName, quoteTable } from '../describe.js';

/** What a table made of rows that were written to it, before the commit. */
export interface ReadBack {
  readonly shape: TableShape;
  readonly columns: readonly string[];
  /** As the server writes them: the row's values, the operation, and the columns that were written or have moved. */
  readonly lines: readonly ByteString[];
}

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

/** What was read back as changes, in canonical form: for each row the values of what was written or has moved. */
export function* readBackChanges(environment: Environment, read: readonly ReadBack[]): Generator<RowChange> {
  const rewriter = rewriterOf(environment);
  for (const { shape, columns, lines } of read) {
    const rules = rulesForTable(environment.profile, shape, columns);
    const canonical = new LineRewriter(rewriter, rules.columns);
    for (const line of lines) {
      const values = readLine(line);
      const moved = values[columns.length + 1] ?? null;
      const written = line.split('\t').slice(0, columns.length).join('\t');
      const row = readLine(canonical.canonicalise(`${written}\n`).slice(0, -1));
      const names = moved === null ? columns : columnsIn(moved);
      const readOf = (name: string): ByteString | null => row[columns.indexOf(name)] ?? null;
      yield {
        part: 'row',
        ...placeOfRows(shape),
        key: shape.key.map(readOf),
        op: 'update',
        cells: Object.fromEntries(names.map((name) => [name, { before: null, after: readOf(name) }])),
      };
    }
  }
}

const columnsIn = (list: ByteString): string[] => [
  ...new Set(JSON.parse(Buffer.from(list, 'latin1').toString()) as string[]),
];

/** A change as it turned out: what was read back of a row in place of what was to be written. */
export function asReadBack(change: RowChange, read: RowChange | undefined): RowChange {
  if (read?.op !== 'update' || change.op === 'delete') return change;
  if (change.op === 'insert') {
    const found = Object.entries(read.cells).map(([name, cell]) => [name, cell.after] as const);
    return { ...change, row: { ...change.row, ...Object.fromEntries(found) } };
  }
  const cells = Object.entries(change.cells).map(([name, cell]) => {
    const found = read.cells[name];
    return [name, found ? { ...cell, after: found.after } : cell] as const;
  });
  return { ...change, cells: Object.fromEntries(cells) };
}
