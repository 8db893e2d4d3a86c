import { tableLabel, tablePath } from '@tessarion/core';
import type pg from 'pg';
import { EngineError } from '../../ports/errors.js';
import type { Mode, Protection, Remain } from '../../ports/rows.js';
import { quoteLiteral, quoteName, quoteTable } from '../describe.js';
import { keyMatch, outputText, type StagedChanges, type StagedTable } from './staged-changes.js';

/**
 * Locks the rows that are changed or deleted, in the order of their keys.
 *
 * @returns whether every row is there and as it was compared, as far as that can be told at once: then {@link checkRows} has
 *   nothing to find
 */
export async function lockRows(client: pg.Client, table: StagedTable, mode: Mode): Promise<boolean> {
  const { insert, update, delete: deleted } = table.counts;
  if (update + deleted === 0) return insert === 0;
  const isKeyed = table.shape.key.length > 0;
  const order = isKeyed ? table.shape.key.map((name) => `t.${quoteName(name)}`).join(', ') : 't.ctid';
  const isOther = comparedCells(table, mode).map(({ differs }) => differs);
  const { rows } = await client.query<{ locked: number; other: number }>(
    `SELECT count(*)::int AS locked, count(*) FILTER (WHERE is_other)::int AS other
     FROM (SELECT ${isOther.join(' OR ') || 'false'} AS is_other FROM ${quoteTable(table.shape)} t
       JOIN ${table.temporary} s ON s.op <> 'insert' AND ${keyMatch(table)} ORDER BY ${order} FOR UPDATE OF t) locked`,
  );
  const isWhole = rows[0]?.locked === update + deleted && rows[0].other === 0;
  return isWhole && isKeyed && insert === 0 && mode !== 'lenient';
}

/** The columns in which rows must be as they were compared, each with SQL that holds where one is not. */
function comparedCells(table: StagedTable, mode: Mode): { readonly name: string; readonly differs: string }[] {
  if (mode === 'over') return [];
  return table.columns.flatMap((name, i) => {
    if (!table.touched.has(name) && !(table.counts.delete > 0 && isMeant(table, name))) return [];
    const isCompared = `(s.op = 'delete' AND ${isMeant(table, name)} OR ${quoteLiteral(name)} = ANY(s.changed))`;
    return [{ name, differs: `${isCompared} AND ${outputText('t', name)} IS DISTINCT FROM s.o${i}` }];
  });
}

/** Finds what is not as it was compared. Strict: an error naming it. Lenient: set aside and named. */
export async function checkRows(client: pg.Client, table: StagedTable, mode: Mode): Promise<Remain[]> {
  if (table.shape.key.length === 0) return [];
  const key = table.shape.key.map((name) => `s.n${table.columns.indexOf(name)}::text`).join(` || ' ' || `);
  const cells = comparedCells(table, mode).map(
    ({ name, differs }) => `CASE WHEN ${differs} THEN ${quoteLiteral(name)} END`,
  );
  const first = quoteName(table.shape.key[0] as string);
  const result = await client.query<{ op: string; key: string; gone: boolean; cells: string[] }>(
    `SELECT s.op, ${key} AS key, t.${first} IS NULL AS gone, array_remove(ARRAY[${cells.join(', ') || 'NULL'}]::text[], NULL) AS cells
     FROM ${table.temporary} s LEFT JOIN ${quoteTable(table.shape)} t ON ${keyMatch(table)}
     WHERE CASE WHEN s.op = 'insert' THEN t.${first} IS NOT NULL
       ELSE t.${first} IS NULL OR cardinality(array_remove(ARRAY[${cells.join(', ') || 'NULL'}]::text[], NULL)) > 0 END LIMIT 1000`,
  );
  const remains = result.rows.map(
    (row): Remain => ({ table: tableLabel(table.shape), key: row.key, what: remainText(row) }),
  );
  const [one] = remains;
  if (one && mode !== 'lenient') {
    throw new EngineError(
      'outdated',
      `${one.table} ${one.key}: ${one.what}${remains.length > 1 ? ` (and ${remains.length - 1} more)` : ''}.`,
      'Make a new forecast: the destination has changed since this one.',
    );
  }
  if (one) await setAside(client, table, cells);
  return remains;
}

/** What must not lose what it refers to keeps it: an order line keeps the product that it sold. */
export async function spareReferred(
  staged: StagedChanges,
  table: StagedTable,
  mode: Mode,
  protections: readonly Protection[],
): Promise<Remain[]> {
  if (table.counts.delete === 0) return [];
  const remains: Remain[] = [];
  const key = `s.n${table.columns.indexOf(table.shape.key[0] as string)}`;
  const label = tableLabel(table.shape);
  for (const { by, called } of protections) {
    const isAsked = typeof by === 'function';
    const spared = await staged.client.query<{ key: string }>(
      `DELETE FROM ${table.temporary} s WHERE s.op = 'delete' AND ${isAsked ? `${key}::text = ANY($1)` : isReferred(staged, key, by)} RETURNING ${key}::text AS key`,
      isAsked ? [await by(await keysOf(staged, table, key))] : [],
    );
    for (const row of spared.rows)
      remains.push({ table: label, key: row.key, what: `stays, since ${called} refers to it` });
  }
  const [one] = remains;
  if (one && mode !== 'lenient')
    throw new EngineError('outdated', `${one.table} ${one.key} ${one.what} meanwhile.`, 'Make a new forecast.');
  return remains;
}

type Referring = Exclude<Protection['by'], (...args: never[]) => unknown>;

/** SQL that holds where a row of this database refers to a key. */
const isReferred = (staged: StagedChanges, key: string, by: Referring): string =>
  `EXISTS (SELECT 1 FROM ${quoteTable(by.table)} t WHERE t.${quoteName(by.column)} = ${key}${unlessLetGo(staged, by)})`;

/** The keys of the rows that are about to go. */
async function keysOf(staged: StagedChanges, table: StagedTable, key: string): Promise<string[]> {
  const { rows } = await staged.client.query<{ key: string }>(
    `SELECT ${key}::text AS key FROM ${table.temporary} s WHERE s.op = 'delete'`,
  );
  return rows.map((one) => one.key);
}

/** SQL that passes over rows `t` which this very change deletes, or lets refer to something else. */
function unlessLetGo(staged: StagedChanges, { table: by, column }: Referring): string {
  const table = staged.get(tablePath(by));
  if (!table || table.shape.key.length === 0) return '';
  const match = keyMatch(table).replaceAll(/\bs\./g, 'o.');
  return ` AND NOT EXISTS (SELECT 1 FROM ${table.temporary} o WHERE ${match} AND (o.op = 'delete' OR ${quoteLiteral(column)} = ANY(o.changed)))`;
}

async function setAside(client: pg.Client, table: StagedTable, cells: readonly string[]): Promise<void> {
  const first = quoteName(table.shape.key[0] as string);
  const mismatched = `array_remove(ARRAY[${cells.join(', ') || 'NULL'}]::text[], NULL)`;
  const join = `FROM ${quoteTable(table.shape)} t WHERE ${keyMatch(table)}`;
  await client.query(`DELETE FROM ${table.temporary} s WHERE s.op <> 'insert' AND NOT EXISTS (SELECT 1 ${join})`);
  await client.query(
    `DELETE FROM ${table.temporary} s USING ${quoteTable(table.shape)} t WHERE ${keyMatch(table)} AND (s.op = 'insert' AND t.${first} IS NOT NULL OR s.op = 'delete' AND cardinality(${mismatched}) > 0)`,
  );
  await client.query(
    `UPDATE ${table.temporary} s SET changed = ARRAY(SELECT c FROM unnest(s.changed) c WHERE c <> ALL(${mismatched})) ${join} AND s.op = 'update'`,
  );
  await client.query(`DELETE FROM ${table.temporary} s WHERE s.op = 'update' AND cardinality(s.changed) = 0`);
}

function remainText(row: { op: string; gone: boolean; cells: string[] }): string {
  if (row.op === 'insert') return 'is there already';
  return row.gone ? 'is gone' : `was changed meanwhile (${row.cells.join(', ')})`;
}

/** Whether a deleted row must hold in a column what it was compared with. */
const isMeant = ({ authored, spoken }: StagedTable, column: string): boolean =>
  authored.has(column) && spoken.has(column);
