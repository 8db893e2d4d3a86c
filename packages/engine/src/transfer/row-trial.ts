import { addTo } from '@tessarion/core';
import type pg from 'pg';
import { quoteName, quoteTable } from '../database/describe.js';
import { profileName, type TableShape } from '../database/site-database.js';
import type { UniqueIndex } from './unique-values.js';

/** A row that its table would not take, and why, in words that follow its name. */
export interface Misfit {
  readonly table: string;
  readonly key: string;
  readonly what: string;
}

/** A row as it would be written: only the cells that change; all of them for a new one. */
export interface WrittenRow {
  readonly key: readonly (string | null)[];
  readonly cells: Readonly<Record<string, string | null>>;
  readonly op: 'insert' | 'update' | 'delete';
}

export const MOST_MISFITS = 200;
const BATCH = 2000;

/** How a row is named in messages. */
const nameOf = (shape: TableShape, key: readonly (string | null)[]): string =>
  shape.key.length === 0 ? 'a row' : key.map((value) => value ?? 'null').join(' ');

const shown = (value: string): string => (value.length > 60 ? `${value.slice(0, 57)}…` : value);

/** Cells that are longer than their columns, by the position of their row. */
export function misfitsInLength(shape: TableShape, rows: readonly WrittenRow[]): Map<number, Misfit[]> {
  const limits = new Map(
    shape.columns.flatMap((column) => (column.maxLength === undefined ? [] : [[column.name, column.maxLength]])),
  );
  const found = new Map<number, Misfit[]>();
  for (const [i, row] of rows.entries()) {
    for (const [name, value] of Object.entries(row.cells)) {
      const limit = limits.get(name);
      if (limit === undefined || value === null) continue;
      // The server counts characters, and drops spaces at the end that do not fit.
      const length = [...value.trimEnd()].length;
      if (length <= limit) continue;
      const misfit = {
        table: profileName(shape),
        key: nameOf(shape, row.key),
        what: `${name} would be ${length} characters long and has room for ${limit}: "${shown(value)}"`,
      };
      addTo(found, i, misfit);
    }
  }
  return found;
}

/** SQL for the rows as they would be: `~n` and `~op` tell them apart, and the other columns are the table's. */
const asWritten = (shape: TableShape): string => `
  SELECT s.n::int AS "~n", s.op AS "~op", (jsonb_populate_record(t, s.cells)).*
  FROM unnest($1::text[], $2::jsonb[], $3::jsonb[]) WITH ORDINALITY AS s(op, key, cells, n)
    CROSS JOIN LATERAL jsonb_populate_record(NULL::${quoteTable(shape)}, s.key) AS k
    LEFT JOIN ${quoteTable(shape)} t ON ${shape.key.map((name) => `t.${quoteName(name)} = k.${quoteName(name)}`).join(' AND ') || 'false'}`;

function parameters(shape: TableShape, rows: readonly WrittenRow[], columns: ReadonlySet<string>): unknown[] {
  const types = new Map(shape.columns.map((column) => [column.name, column.type]));
  const json = (cells: Iterable<readonly [string, string | null]>): string =>
    `{${[...cells]
      .map(([name, value]) => {
        const isJson = value !== null && /^jsonb?$/.test(types.get(name) ?? '');
        return `${JSON.stringify(name)}:${isJson ? value : JSON.stringify(value)}`;
      })
      .join(',')}}`;
  return [
    rows.map((row) => row.op),
    rows.map((row) => json(shape.key.map((name, i) => [name, row.key[i] ?? null]))),
    rows.map((row) => json(Object.entries(row.cells).filter(([name]) => columns.has(name)))),
  ];
}

/** Rows that are too long or break a check constraint. */
export async function misfitsIn(client: pg.Client, shape: TableShape, rows: readonly WrittenRow[]): Promise<Misfit[]> {
  const constraints = shape.checks;
  const tooLong = misfitsInLength(shape, rows);
  const found = [...tooLong.values()].flat();
  const written = rows.filter((row, i) => row.op !== 'delete' && !tooLong.has(i));
  if (constraints.length === 0 || shape.key.length === 0) return found;
  const columns = new Set(constraints.flatMap((one) => one.columns));
  const broken = constraints.map((one, i) => `CASE WHEN NOT (${one.expression}) THEN ${i} END`).join(', ');
  for (let at = 0; at < written.length && found.length < MOST_MISFITS; at += BATCH) {
    const batch = written.slice(at, at + BATCH);
    const result = await client.query<{ n: number; broken: number[] }>(
      `SELECT "~n" AS n, array_remove(ARRAY[${broken}], NULL) AS broken FROM (${asWritten(shape)}) w
       WHERE cardinality(array_remove(ARRAY[${broken}], NULL)) > 0 LIMIT ${MOST_MISFITS}`,
      parameters(shape, batch, columns),
    );
    for (const { n, broken: numbers } of result.rows)
      for (const number of numbers)
        found.push({
          table: profileName(shape),
          key: nameOf(shape, (batch[n - 1] as WrittenRow).key),
          what: `breaks the constraint "${constraints[number]?.name}": ${constraints[number]?.expression}`,
        });
  }
  return found;
}

/** Written rows whose unique values another row has, or another written row gets. */
export async function takenValues(
  client: pg.Client,
  shape: TableShape,
  uniques: readonly UniqueIndex[],
  rows: readonly WrittenRow[],
): Promise<Misfit[]> {
  const found: Misfit[] = [];
  for (const { columns } of uniques) {
    const mayCollide = rows.some((row) => columns.some((name) => name in row.cells));
    if (!mayCollide) continue;
    const same = (a: string, b: string): string =>
      columns.map((name) => `${a}.${quoteName(name)} = ${b}.${quoteName(name)}`).join(' AND ');
    const sameKey = (a: string, b: string): string =>
      shape.key.map((name) => `${a}.${quoteName(name)} = ${b}.${quoteName(name)}`).join(' AND ');
    const keyOf = (a: string): string => shape.key.map((name) => `${a}.${quoteName(name)}::text`).join(` || ' ' || `);
    const value = columns.map((name) => `w.${quoteName(name)}::text`).join(` || ', ' || `);
    const result = await client.query<{ n: number; value: string; holder: string; own: boolean }>(
      `WITH w AS MATERIALIZED (${asWritten(shape)})
       SELECT w."~n" AS n, ${value} AS value, ${keyOf('t')} AS holder, false AS own
       FROM w JOIN ${quoteTable(shape)} t ON ${same('t', 'w')}
       WHERE w."~op" <> 'delete' AND NOT EXISTS (SELECT 1 FROM w AS o WHERE ${sameKey('o', 't')})
       UNION ALL
       SELECT w."~n", ${value}, ${keyOf('o')}, true FROM w JOIN w AS o ON ${same('o', 'w')} AND w."~n" < o."~n"
       WHERE w."~op" <> 'delete' AND o."~op" <> 'delete' LIMIT ${MOST_MISFITS}`,
      parameters(shape, rows, new Set([...columns, ...shape.key])),
    );
    for (const { n, value: taken, holder, own } of result.rows)
      found.push({
        table: profileName(shape),
        key: nameOf(shape, (rows[n - 1] as WrittenRow).key),
        what: `wants the ${columns.join(', ')} "${shown(taken)}", which ${own ? `${holder} wants too` : `${holder} has`}`,
      });
  }
  return found;
}

/** A misfit as a sentence. */
export const misfitText = ({ table, key, what }: Misfit): string => `${table} ${key}: ${what}`;
