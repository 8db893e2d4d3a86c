import { quoteLiteral, quoteName, quoteTable } from '../database/describe.js';
import type { TableShape } from '../database/site-database.js';

/** A unique index over plain columns that the server checks row by row. */
export interface UniqueIndex {
  readonly columns: readonly string[];
  /** A column of it that may hold something else for a moment, and SQL for that. */
  readonly apart: { readonly column: string; readonly value: string } | undefined;
}

/** The unique indexes of a table, but for the one that names its rows. */
export const uniqueIndexes = ({ uniques, key }: TableShape): UniqueIndex[] =>
  uniques.map((columns) => ({
    columns: columns.map(({ name }) => name),
    apart: columns
      .map(({ name, type, nullable, length }) => {
        const value = passingValue(type, nullable, length);
        return value === undefined || key.includes(name) ? undefined : { column: name, value };
      })
      .find((one) => one !== undefined),
  }));

/** SQL for a value that nobody else has. */
function passingValue(type: string, isNullable: boolean, length: number): string | undefined {
  if (isNullable) return 'NULL';
  if (['text', 'varchar', 'bpchar', 'citext'].includes(type))
    return `left(md5(random()::text || clock_timestamp()::text), ${Math.min(32, length)})`;
  if (type === 'int2') return '(-1 - floor(random() * 32000))::int2';
  if (['int4', 'int8', 'numeric'].includes(type)) return `(-1 - floor(random() * 2000000000))::${type}`;
  if (type === 'uuid') return 'gen_random_uuid()';
  return undefined;
}

/**
 * SQL that gives a passing value to the rows whose unique value is about to go to another row: two pages that swap
 * their addresses, or a new page at the address of a deleted one.
 *
 * @param staged temporary table of the changes; columns by number, `n` the new values
 * @param match SQL that joins rows `t` to changes `s` by key
 */
export function setApart(
  table: TableShape,
  index: UniqueIndex & { readonly apart: NonNullable<UniqueIndex['apart']> },
  staged: string,
  columns: readonly string[],
  match: string,
): string {
  const taken = index.columns.map((name) => {
    const number = columns.indexOf(name);
    return `CASE WHEN s2.op = 'insert' OR ${quoteLiteral(name)} = ANY(s2.changed) THEN s2.n${number} ELSE t2.${quoteName(name)} END = t.${quoteName(name)}`;
  });
  const own = index.columns.map(quoteLiteral).join(', ');
  const otherMatch = match.replaceAll(/\bt\./g, 't2.').replaceAll(/\bs\./g, 's2.');
  return `UPDATE ${quoteTable(table)} t SET ${quoteName(index.apart.column)} = ${index.apart.value} FROM ${staged} s
    WHERE ${match} AND (s.op = 'delete' OR s.op = 'update' AND s.changed && ARRAY[${own}]::text[])
      AND EXISTS (SELECT 1 FROM ${staged} s2 LEFT JOIN ${quoteTable(table)} t2 ON ${otherMatch}
        WHERE s2.op <> 'delete' AND s2.ctid <> s.ctid AND ${taken.join(' AND ')})`;
}
