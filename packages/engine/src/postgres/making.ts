import type { ColumnMake, Making, SchemaMaking, TableMake } from '@tessarion/core';
import { quoteName } from './describe.js';

/** Types whose values are written alike in all of them, whatever fits (PostgreSQL, *Character Types*, *Integer Types*). */
const WRITTEN_ALIKE = [/^(text|character varying(\(\d+\))?|citext|name)$/, /^(smallint|integer|bigint)$/];

/** Changes of tables in PostgreSQL's language. */
export const postgresMaking: SchemaMaking = {
  isWrittenAlike: (type, other) => WRITTEN_ALIKE.some((one) => one.test(type) && one.test(other)),

  addColumn(source, column, { quoted }): Making {
    const name = quoteName(column.name);
    const constraints = source.constraints.filter(
      (one) => one.columns.includes(column.name) && one.columns.every((each) => each === column.name),
    );
    const kind =
      column.generated === null
        ? `${column.hasConstantDefault ? ` DEFAULT ${column.default}` : ''}${column.isRequired ? ' NOT NULL' : ''}`
        : ` GENERATED ALWAYS AS (${column.generated}) STORED`;
    const later =
      column.default !== null && !column.hasConstantDefault && column.generated === null
        ? [`ALTER TABLE ${quoted} ALTER COLUMN ${name} SET DEFAULT ${column.default}`]
        : [];
    return {
      statements: [
        `ALTER TABLE ${quoted} ADD COLUMN IF NOT EXISTS ${name} ${column.type}${kind}`,
        ...later,
        ...constraints.map((one) => `ALTER TABLE ${quoted} ADD CONSTRAINT ${quoteName(one.name)} ${one.definition}`),
      ],
      revert: [`ALTER TABLE ${quoted} DROP COLUMN IF EXISTS ${name}`],
    };
  },

  addIndex: (index, { quoted }): Making => ({
    statements: [index.definition.replace(/^CREATE (UNIQUE )?INDEX /, 'CREATE $1INDEX CONCURRENTLY IF NOT EXISTS ')],
    revert: [`DROP INDEX CONCURRENTLY IF EXISTS ${quoted.split('.')[0]}.${quoteName(index.name)}`],
  }),

  addTable({ quoted, columns, constraints, indexes }: TableMake): Making {
    const counters = columns.filter((column) => column.counter !== null);
    // Keys first: foreign keys of tables made together may lead either way.
    const order = [...constraints].sort((a, b) => Number(a.refersTo !== null) - Number(b.refersTo !== null));
    return {
      statements: [
        ...counters.map((column) => column.counter as string),
        `CREATE TABLE IF NOT EXISTS ${quoted} (${columns.map(columnText).join(', ')})`,
        ...counters.map(
          (column) => `ALTER SEQUENCE ${sequenceOf(column)} OWNED BY ${quoted}.${quoteName(column.name)}`,
        ),
        ...order.map((one) => `ALTER TABLE ${quoted} ADD CONSTRAINT ${quoteName(one.name)} ${one.definition}`),
        ...indexes.map((one) => one.definition),
      ],
      revert: [
        `DROP TABLE IF EXISTS ${quoted}`,
        ...counters.map((column) => `DROP SEQUENCE IF EXISTS ${sequenceOf(column)}`),
      ],
    };
  },
};

const columnText = (column: ColumnMake): string =>
  [
    quoteName(column.name),
    column.type,
    ...(column.generated !== null
      ? [`GENERATED ALWAYS AS (${column.generated}) STORED`]
      : column.identity !== null
        ? [`GENERATED ${column.identity.toUpperCase()} AS IDENTITY`]
        : column.default !== null
          ? [`DEFAULT ${column.default}`]
          : []),
    ...(column.isRequired ? ['NOT NULL'] : []),
  ].join(' ');

/** The counter's name as its own statement says it: `CREATE SEQUENCE IF NOT EXISTS NAME …`. */
const sequenceOf = (column: ColumnMake): string =>
  /^CREATE SEQUENCE IF NOT EXISTS ((?:"(?:[^"]|"")*"|[^\s".]+)(?:\.(?:"(?:[^"]|"")*"|[^\s".]+))?)/.exec(
    column.counter ?? '',
  )?.[1] ?? '';
