import { type Misfit, tableLabel } from '@tessarion/core';
import type pg from 'pg';
import type { LimitedColumn } from '../../ports/database.js';
import { misfitsInLength, nameOfRow, shownValue } from '../../ports/misfits-in-length.js';
import { MOST_MISFITS, type WrittenRow } from '../../ports/rows.js';
import { readable, type TableShape } from '../../ports/shapes.js';
import { quoteName, quoteTable } from '../describe.js';
import { breaks, judgedBy, type MakingRoom, type UniqueRule } from '../unique-rules.js';

const BATCH = 2000;

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
          table: tableLabel(shape),
          key: nameOfRow(shape, (batch[n - 1] as WrittenRow).key),
          what: `breaks the constraint "${constraints[number]?.name}": ${constraints[number]?.expression}`,
        });
  }
  return found;
}

/**
 * Written rows that another row stands in the way of under a rule that no two may break: one that stays as it is, one that is
 * written too, or one that leaves only when the same transfer is done with this one.
 */
export async function takenValues(
  client: pg.Client,
  shape: TableShape,
  rules: readonly UniqueRule[],
  rows: readonly WrittenRow[],
  making: MakingRoom,
): Promise<Misfit[]> {
  const found: Misfit[] = [];
  const generated = new Set(shape.columns.filter((column) => column.generated).map((column) => column.name));
  for (const rule of rules) {
    // What the server works out is not known before.
    if (rule.columns.some((name) => generated.has(name))) continue;
    if (!rows.some((row) => rule.columns.some((name) => Object.hasOwn(row.cells, name)))) continue;
    const sameKey = (a: string, b: string): string =>
      shape.key.map((name) => `${a}.${quoteName(name)} = ${b}.${quoteName(name)}`).join(' AND ');
    const key = shape.key.map(quoteName).join(', ');
    const keyOf = (a: string): string => shape.key.map((name) => `${a}.${quoteName(name)}::text`).join(` || ' ' || `);
    const value = `concat_ws(', ', ${rule.elements.map((_one, i) => `w."~e${i}"::text`).join(', ')})`;
    const standing = `SELECT t.* FROM ${quoteTable(shape)} t`;
    const leaving = `SELECT a."~n", a."~op", t.* FROM a JOIN ${quoteTable(shape)} t ON ${sameKey('a', 't')}
      WHERE "~op" = 'update' OR "~op" = 'delete' AND ${making.isReferredTo}`;
    const isInOrder = rule.isImmediate && rule.apart === undefined;
    const result = await client.query<Standing>(
      `WITH a AS MATERIALIZED (${asWritten(shape)}),
         w AS MATERIALIZED (${judgedBy(rule, `SELECT * FROM a WHERE "~op" <> 'delete'`, `"~n", "~op", ${key}`)})
       (SELECT w."~n" AS n, ${value} AS value, ${keyOf('t')} AS holder, 'stays' AS way, NULL::int AS other
       FROM w JOIN (${judgedBy(rule, standing, key)}) t ON ${breaks(rule, 't', 'w')}
       WHERE NOT EXISTS (SELECT 1 FROM a WHERE ${sameKey('a', 't')}) LIMIT ${MOST_MISFITS})
       UNION ALL
       (SELECT w."~n", ${value}, ${keyOf('o')}, 'comes', o."~n" FROM w JOIN w AS o ON ${breaks(rule, 'o', 'w')} AND w."~n" < o."~n"
        LIMIT ${MOST_MISFITS})
       ${
         isInOrder
           ? `UNION ALL
       SELECT w."~n", ${value}, ${keyOf('o')}, CASE WHEN o."~op" = 'delete' THEN 'goes' ELSE 'moves' END, o."~n"
       FROM w JOIN (${judgedBy(rule, leaving, `"~n", "~op", ${key}`)}) o ON ${breaks(rule, 'o', 'w')} AND w."~n" <> o."~n"`
           : ''
       }`,
      parameters(shape, rows, new Set([...rule.columns, ...shape.key])),
    );
    for (const one of inTheWay(result.rows, rows, making).slice(0, MOST_MISFITS))
      found.push({
        table: tableLabel(shape),
        key: nameOfRow(shape, (rows[one.n - 1] as WrittenRow).key),
        what: `wants the ${rule.columns.join(', ')} "${shownValue(one.value)}", which ${one.holder} ${WAYS[one.way]}`,
      });
  }
  return found;
}

/** A row in the way of a written one (`n`): itself written (`other`), or not. */
interface Standing {
  readonly n: number;
  readonly value: string;
  readonly holder: string;
  readonly way: keyof typeof WAYS;
  readonly other: number | null;
}

const BEFORE = 'the database takes the one only after the other, and no exchange';
const WAYS = {
  stays: 'has',
  comes: 'wants too',
  goes: `has until it is deleted by the same transfer: ${BEFORE}`,
  moves: `has until it is changed by the same transfer: ${BEFORE}`,
} as const;

/** Of rows in the way, those that do not leave in time: one after the other, as long as none waits for itself. */
function inTheWay(found: readonly Standing[], rows: readonly WrittenRow[], making: MakingRoom): Standing[] {
  const both = new Set(
    found.flatMap((one) => (one.way === 'comes' ? [`${one.n} ${one.other}`, `${one.other} ${one.n}`] : [])),
  );
  // Of two that want the same it is said once.
  let waiting = found.filter(
    (one) => (one.way === 'moves' && !both.has(`${one.n} ${one.other}`)) || one.way === 'goes',
  );
  const isPinned = (n: number): boolean =>
    Object.keys(rows[n - 1]?.cells ?? {}).some((name) => making.pinned.has(name));
  for (let before = -1; before !== waiting.length; ) {
    before = waiting.length;
    const held = new Set(waiting.map((one) => one.n));
    waiting = waiting.filter(
      ({ way, other }) => way === 'goes' || other === null || held.has(other) || isPinned(other),
    );
  }
  return [...found.filter((one) => one.way === 'stays' || one.way === 'comes'), ...waiting];
}

/** See {@link Questions.crowdedRows}. */
export async function crowdedRows(
  client: pg.Client,
  shape: TableShape,
  limited: readonly LimitedColumn[],
  words: readonly string[],
  growth: number,
  most: number,
): Promise<(string | null)[][]> {
  const conditions = limited.flatMap(({ name, maxLength }) => {
    const value = `lower(${quoteName(name)}::text)`;
    return words.map((_word, i) => {
      const holds = `strpos(${value}, $${i + 1}) > 0`;
      if (maxLength === undefined) return holds;
      const hits = `(length(${value}) - length(replace(${value}, $${i + 1}, ''))) / length($${i + 1})`;
      return `${holds} AND length(${value}) + ${growth} * ${hits} > ${maxLength}`;
    });
  });
  const columns = readable(shape).map((column) => `${quoteName(column.name)}::text`);
  const result = await client.query<(string | null)[]>({
    text: `SELECT ${columns.join(', ')} FROM ONLY ${quoteTable(shape)} WHERE ${conditions.map((one) => `(${one})`).join(' OR ')} LIMIT ${most}`,
    values: [...words],
    rowMode: 'array',
  });
  return result.rows;
}
