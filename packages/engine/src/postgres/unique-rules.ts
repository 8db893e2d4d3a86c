import { addTo, tablePath } from '@tessarion/core';
import { insertOrder } from '../ports/insert-order.js';
import type { ColumnOfUnique, SchemaShape, TableShape } from '../ports/shapes.js';
import { quoteLiteral, quoteName, quoteTable } from './describe.js';

/** What no two rows of a table may share: a unique index, whole or in part, or an exclusion constraint. */
export interface UniqueRule {
  /** All that it reads. */
  readonly columns: readonly string[];
  /** Two rows break it when all of these hold between them. */
  readonly elements: readonly { readonly expression: string; readonly operator: string }[];
  /** Only rows for which this holds are judged. */
  readonly predicate: string | undefined;
  /** Whether the server judges each row as it is written, so that the order matters. */
  readonly isImmediate: boolean;
  /** A column of it that may hold something else for a moment, and SQL for that. */
  readonly apart: { readonly column: string; readonly value: string } | undefined;
}

/** A table with changes to it that wait in a temporary one. */
export interface Waiting {
  readonly shape: TableShape;
  readonly temporary: string;
  /** The columns of the changes by their numbers: `n` the new values. */
  readonly columns: readonly string[];
  /** SQL that joins rows `t` to changes `s` by key. */
  readonly match: string;
}

/** The rules of a table, but for the one that names its rows. */
export function uniqueRules(shape: TableShape): UniqueRule[] {
  const plain = shape.uniques.map((columns): UniqueRule => {
    const elements = columns.map(({ name }) => ({ expression: quoteName(name), operator: '=' }));
    const names = columns.map(({ name }) => name);
    const apart = momentarily(shape, columns, elements);
    return { columns: names, elements, predicate: undefined, isImmediate: true, apart };
  });
  const others = shape.exclusions.map(({ elements, columns, predicate, isImmediate }): UniqueRule => {
    const written = elements.map((one) => one.column);
    const apart = isImmediate ? momentarily(shape, written, elements) : undefined;
    return { columns, elements, predicate: predicate ?? undefined, isImmediate, apart };
  });
  return [...plain, ...others];
}

/** What one of the columns may hold so that its row is in nobody's way. */
function momentarily(
  { key, references, checks }: TableShape,
  columns: readonly (ColumnOfUnique | null)[],
  elements: UniqueRule['elements'],
): UniqueRule['apart'] {
  const refers = new Set(references.flatMap((one) => one.columns));
  const checked = new Set(checks.flatMap((one) => one.columns));
  // A reference can hold nothing for a moment, and nothing else; what a check reads comes last.
  const fit = columns.flatMap((column, i) => {
    const value = column ? passingValue(column, elements[i]?.operator ?? '') : undefined;
    if (!column || value === undefined || key.includes(column.name)) return [];
    if (!column.nullable && refers.has(column.name)) return [];
    return [{ column: column.name, value, isLast: checked.has(column.name) && !column.nullable }];
  });
  return fit.find((one) => !one.isLast) ?? fit[0];
}

/** SQL for a value that nobody else has, or that meets no other. */
function passingValue({ type, nullable, length, isRange }: ColumnOfUnique, operator: string): string | undefined {
  if (nullable) return 'NULL';
  // An empty range overlaps none (PostgreSQL, *Range Functions and Operators*).
  if (isRange && operator.endsWith('&&)')) return `'empty'`;
  if (operator !== '=' && !operator.endsWith('.=)')) return undefined;
  if (['text', 'varchar', 'bpchar', 'citext'].includes(type))
    return `left(md5(random()::text || clock_timestamp()::text), ${Math.min(32, length)})`;
  // Checks mostly forbid what is below nothing.
  if (type === 'int2') return '(16384 + floor(random() * 16383))::int2';
  if (['int4', 'int8', 'numeric'].includes(type)) return `(1000000000 + floor(random() * 1000000000))::${type}`;
  if (type === 'uuid') return 'gen_random_uuid()';
  return undefined;
}

/** In what way rows may make room for others under a rule by which none can be set apart. */
export interface MakingRoom {
  /** SQL that holds for a row `t` that something still refers to: others may go before what comes. */
  readonly isReferredTo: string;
  /** Columns that refer to tables written together with it: rows that change them may not move before others come. */
  readonly pinned: ReadonlySet<string>;
}

/** @returns by {@link tablePath} */
export function roomMakers({ tables }: SchemaShape): ReadonlyMap<string, MakingRoom> {
  const referrers = new Map<string, string[]>();
  for (const table of tables)
    for (const { table: target, columns, targetColumns } of table.references) {
      const same = columns.map((own, i) => `c.${quoteName(own)} = t.${quoteName(targetColumns[i] as string)}`);
      addTo(referrers, tablePath(target), `EXISTS (SELECT FROM ${quoteTable(table)} c WHERE ${same.join(' AND ')})`);
    }
  const isReferredTo = (name: string): string => `(${referrers.get(name)?.join(' OR ') ?? 'false'})`;
  return new Map(
    insertOrder(tables).flatMap((group) => {
      const together = new Set(group.map(tablePath));
      return group.map((table) => {
        const circling = table.references.filter((one) => together.has(tablePath(one.table)));
        const pinned = new Set(circling.flatMap((one) => one.columns));
        return [tablePath(table), { isReferredTo: isReferredTo(tablePath(table)), pinned }] as const;
      });
    }),
  );
}

/** SQL of the elements and the predicate of a rule over a subquery whose columns are the table's. */
export const judgedBy = ({ elements, predicate }: UniqueRule, rows: string, also: string): string =>
  `SELECT ${also}, ${elements.map((one, i) => `(${one.expression}) AS "~e${i}"`).join(', ')} FROM (${rows}) judged
   ${predicate === undefined ? '' : `WHERE (${predicate})`}`;

/** SQL that holds where a row `a` and a row `b` of {@link judgedBy} break a rule. */
export const breaks = ({ elements }: UniqueRule, a: string, b: string): string =>
  elements.map((one, i) => `${a}."~e${i}" ${one.operator} ${b}."~e${i}"`).join(' AND ');

/** SQL for what the changes make of their rows: `~id` tells them apart. */
const wanted = (rule: UniqueRule, { shape, temporary, columns, match }: Waiting): string =>
  judgedBy(
    rule,
    `SELECT s.ctid AS "~id", t.ctid AS "~at", ${rule.columns
      .map((name) => {
        const after = `s.n${columns.indexOf(name)}`;
        return `CASE WHEN s.op = 'insert' OR ${quoteLiteral(name)} = ANY(s.changed) THEN ${after} ELSE t.${quoteName(name)} END AS ${quoteName(name)}`;
      })
      .join(', ')}
      FROM ${temporary} s LEFT JOIN ${quoteTable(shape)} t ON ${match} WHERE s.op <> 'delete' AND NOT s.done`,
    '"~id", "~at"',
  );

/** SQL for what changed rows hold now that others may want. */
const held = (rule: UniqueRule, { shape, temporary, match }: Waiting): string =>
  judgedBy(
    rule,
    `SELECT s.ctid AS "~id", t.* FROM ${temporary} s JOIN ${quoteTable(shape)} t ON ${match}
      WHERE NOT s.done AND (s.op = 'delete' OR s.op = 'update' AND s.changed && ARRAY[${rule.columns.map(quoteLiteral).join(', ')}]::text[])`,
    '"~id"',
  );

/** SQL for the changes whose rows hold what another change wants. */
export const inTheWay = (rule: UniqueRule, waiting: Waiting): string =>
  `WITH w AS MATERIALIZED (${wanted(rule, waiting)}), h AS MATERIALIZED (${held(rule, waiting)})
   SELECT h."~id" FROM h JOIN w ON ${breaks(rule, 'h', 'w')} AND h."~id" <> w."~id"`;

/**
 * SQL that lets changed rows get back what their column holds by which they may be set apart, where it is another column
 * of the rule that changes.
 */
export function comesBack(rule: UniqueRule, column: string, { shape, temporary, columns, match }: Waiting): string {
  const own = rule.columns.map(quoteLiteral).join(', ');
  return `UPDATE ${temporary} s SET n${columns.indexOf(column)} = t.${quoteName(column)}, changed = array_append(s.changed, ${quoteLiteral(column)})
    FROM ${quoteTable(shape)} t WHERE ${match} AND s.op = 'update' AND s.changed && ARRAY[${own}]::text[] AND NOT ${quoteLiteral(column)} = ANY(s.changed)`;
}

/**
 * SQL that gives a passing value to the rows that hold what is about to go to another row: two pages that swap their
 * addresses, a new page at the address of a deleted one, a booking at the hour of one that moves.
 */
export const setApart = (rule: UniqueRule, { column, value }: NonNullable<UniqueRule['apart']>, to: Waiting): string =>
  `UPDATE ${quoteTable(to.shape)} t SET ${quoteName(column)} = ${value} FROM ${to.temporary} s
    WHERE ${to.match} AND s.ctid IN (${inTheWay(rule, to)})`;

/** SQL that marks the deletions that make room for others, to be done before them. */
export const markGoing = (rule: UniqueRule, { isReferredTo }: MakingRoom, waiting: Waiting): string =>
  `UPDATE ${waiting.temporary} s SET is_first = true FROM ${quoteTable(waiting.shape)} t
    WHERE ${waiting.match} AND s.op = 'delete' AND s.ctid IN (${inTheWay(rule, waiting)}) AND NOT ${isReferredTo}`;

/** SQL that marks the updates under some rules that no row stands in the way of; not those of pinned columns. */
export function markMoving(rules: readonly UniqueRule[], pinned: MakingRoom['pinned'], waiting: Waiting): string {
  const rows = `SELECT t.ctid AS "~at", t.* FROM ${quoteTable(waiting.shape)} t`;
  const blocked = rules.map(
    (rule) => `SELECT w."~id" FROM (${wanted(rule, waiting)}) w JOIN (${judgedBy(rule, rows, '"~at"')}) o
      ON ${breaks(rule, 'o', 'w')} AND o."~at" IS DISTINCT FROM w."~at"`,
  );
  const list = (columns: Iterable<string>): string => `ARRAY[${[...columns].map(quoteLiteral).join(', ')}]::text[]`;
  return `WITH blocked AS MATERIALIZED (${blocked.join(' UNION ALL ')})
    UPDATE ${waiting.temporary} s SET is_first = true
    WHERE s.op = 'update' AND NOT s.done AND s.changed && ${list(rules.flatMap((rule) => rule.columns))}
      AND NOT s.changed && ${list(pinned)} AND s.ctid NOT IN (SELECT "~id" FROM blocked)`;
}
