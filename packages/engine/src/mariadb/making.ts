import { type ColumnMake, type Making, type SchemaMaking, type TableMake, tablePath } from '@tessarion/core';
import type { TableShape } from '../ports/shapes.js';
import type { Session } from './connect.js';
import { quoteName } from './sql.js';

/** Types whose values are written alike in all of them, whatever fits. */
const WRITTEN_ALIKE = [
  /^(?:varchar\(\d+\)|(?:tiny|medium|long)?text)( CHARACTER SET \S+)?( COLLATE \S+)?$/,
  /^(?:tiny|small|medium|big)?int(\(\d+\))?( unsigned)?$/,
];

function columnText(column: ColumnMake): string {
  const how =
    column.generated !== null
      ? ` GENERATED ALWAYS AS (${column.generated}) STORED`
      : column.identity !== null
        ? ' AUTO_INCREMENT'
        : column.default !== null
          ? ` DEFAULT ${column.default}`
          : '';
  return `${quoteName(column.name)} ${column.type}${column.generated === null && column.isRequired ? ' NOT NULL' : ''}${how}`;
}

/** Changes of tables in MariaDB's language. */
export const mariaMaking: SchemaMaking = {
  isWrittenAlike: (type, other) => WRITTEN_ALIKE.some((one) => one.test(type) && one.test(other)),

  addColumn(source, column, { quoted }): Making {
    const constraints = source.constraints.filter(
      (one) => one.columns.includes(column.name) && one.columns.every((each) => each === column.name),
    );
    return {
      statements: [
        `ALTER TABLE ${quoted} ADD COLUMN IF NOT EXISTS ${columnText(column)}`,
        ...constraints.map((one) => `ALTER TABLE ${quoted} ADD ${one.definition}`),
      ],
      revert: [`ALTER TABLE ${quoted} DROP COLUMN IF EXISTS ${quoteName(column.name)}`],
    };
  },

  addIndex: (index, { quoted }): Making => ({
    statements: [`ALTER TABLE ${quoted} ADD ${index.definition}`],
    revert: [`ALTER TABLE ${quoted} DROP INDEX IF EXISTS ${quoteName(index.name)}`],
  }),

  addTable({ quoted, columns, constraints, indexes }: TableMake): Making {
    const parts = [
      ...columns.map(columnText),
      ...constraints.map((one) => one.definition),
      ...indexes.map((one) => one.definition),
    ];
    return {
      statements: [`CREATE TABLE IF NOT EXISTS ${quoted} (${parts.join(', ')}) ENGINE=InnoDB`],
      revert: [`DROP TABLE IF EXISTS ${quoted}`],
    };
  },
};

/** A line of SHOW CREATE TABLE that makes a key or a constraint, without its indent and comma. */
const KEY_LINE = /^\s+((?:PRIMARY|UNIQUE|FULLTEXT|SPATIAL)? ?KEY .*?|CONSTRAINT .*?),?$/;
const REFERS = /REFERENCES `((?:[^`]|``)+)`/;

/** How tables are made, as far as two environments can differ in it. */
export async function describeMakes(
  session: Session,
  tables: readonly TableShape[],
  called: (table: TableShape) => string,
): Promise<Map<string, TableMake>> {
  const all = new Map<string, TableMake>();
  const labels = new Map(tables.map((table) => [table.name, called(table)]));
  for (const table of tables) {
    const [made] = await session.texts(`SHOW CREATE TABLE ${quoteName(table.name)}`);
    const lines = (made?.[1] ?? '').split('\n').flatMap((line) => KEY_LINE.exec(line)?.[1] ?? []);
    const columns = (await session.texts(`SHOW FULL COLUMNS FROM ${quoteName(table.name)}`)).map(columnMake);
    const names = (line: string): string[] =>
      table.columns.map((one) => one.name).filter((name) => line.split(' REFERENCES ')[0]?.includes(quoteName(name)));
    const isConstraint = (line: string): boolean => /^(PRIMARY|CONSTRAINT)/.test(line);
    all.set(tablePath(table), {
      quoted: quoteName(table.name),
      label: called(table),
      columns,
      constraints: lines.filter(isConstraint).map((definition) => {
        const target = REFERS.exec(definition)?.[1];
        return {
          name: /^CONSTRAINT `((?:[^`]|``)+)`/.exec(definition)?.[1] ?? 'PRIMARY',
          definition,
          columns: names(definition),
          refersTo: target === undefined ? null : (labels.get(target) ?? target),
        };
      }),
      indexes: lines
        .filter((line) => !isConstraint(line))
        .map((definition) => ({
          name: /KEY `((?:[^`]|``)+)`/.exec(definition)?.[1] ?? '',
          definition,
          isUnique: definition.startsWith('UNIQUE'),
        })),
    });
  }
  return all;
}

/** Of a line of SHOW FULL COLUMNS: name, type, collation, whether it takes null, key, default, and what else. */
function columnMake([name, type, collation, nullable, , value, extra]: (string | null)[]): ColumnMake {
  const generated = /(?:VIRTUAL|STORED|PERSISTENT) GENERATED/i.test(extra ?? '');
  const isNumber = /^-?\d+(\.\d+)?$/.test(value ?? '');
  const isFunction = /^(?:current_timestamp|uuid|curdate|curtime)/i.test(value ?? '');
  const text = value == null ? null : isNumber || isFunction ? value : `'${value.replaceAll("'", "''")}'`;
  return {
    name: name as string,
    type: collation === null ? (type as string) : `${type} COLLATE ${collation}`,
    isRequired: nullable === 'NO',
    default: text,
    fill: isFunction ? null : (value ?? null),
    hasConstantDefault: text !== null && !isFunction,
    counter: null,
    identity: (extra ?? '').includes('auto_increment') ? 'by default' : null,
    generated: generated ? '' : null,
  };
}
