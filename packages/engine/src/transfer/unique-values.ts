import { quoteLiteral, quoteName, quoteTable } from '../database/describe.js';
import type { TableShape } from '../database/site-database.js';

/** A unique index over plain columns that the server checks row by row. */
export interface UniqueIndex {
  readonly columns: readonly string[];
  /** A column of it that may hold something else for a moment, and SQL for that. */
  readonly apart: { readonly column: string; readonly value: string } | undefined;
}

/** The unique indexes of a table, but for the one that names its rows. */
export function uniqueIndexes({ uniques, key, references, checks }: TableShape): UniqueIndex[] {
  const refers = new Set(references.flatMap((one) => one.columns));
  const checked = new Set(checks.flatMap((one) => one.columns));
  return uniques.map((columns) => {
    // A reference can hold nothing for a moment, and nothing else; what a check reads comes last.
    const fit = columns.flatMap(({ name, type, nullable, length }) => {
      const value = passingValue(type, nullable, length);
      const isFit = value !== undefined && !key.includes(name) && (nullable || !refers.has(name));
      return isFit ? [{ column: name, value, isLast: checked.has(name) && !nullable }] : [];
    });
    return {
      columns: columns.map(({ name }) => name),
      apart: fit.find((one) => !one.isLast) ?? fit[0],
    };
  });
}

/** SQL for a value that nobody else has. */
function passingValue(type: string, isNullable: boolean, length: number): string | undefined {
  if (isNullable) return 'NULL';
  if (['text', 'varchar', 'bpchar', 'citext'].includes(type))
    return `left(md5(random()::text || clock_timestamp()::text), ${Math.min(32, length)})`;
  // Checks mostly forbid what is below nothing.
  if (type === 'int2') return '(16384 + floor(random() * 16383))::int2';
  if (['int4', 'int8', 'numeric'].includes(type)) return `(1000000000 + floor(random() * 1000000000))::${type}`;
  if (type === 'uuid') return 'gen_random_uuid()';
  return undefined;
}

/**
 * SQL that lets changed rows get back what their column holds by which they may be set apart, where it is another column
 * of the index that changes.
 */
export function comesBack(
  table: TableShape,
  index: UniqueIndex & { readonly apart: NonNullable<UniqueIndex['apart']> },
  staged: string,
  columns: readonly string[],
  match: string,
): string {
  const { column } = index.apart;
  const own = index.columns.map(quoteLiteral).join(', ');
  return `UPDATE ${staged} s SET n${columns.indexOf(column)} = t.${quoteName(column)}, changed = array_append(s.changed, ${quoteLiteral(column)})
    FROM ${quoteTable(table)} t WHERE ${match} AND s.op = 'update' AND s.changed && ARRAY[${own}]::text[] AND NOT ${quoteLiteral(column)} = ANY(s.changed)`;
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
