import type { NameInDatabase } from '@tessarion/core';
import { EngineError } from '../ports/errors.js';
import type { ColumnShape, SchemaShape, SequenceShape, TableShape } from '../ports/shapes.js';
import type { Session } from './connect.js';
import { familyOf, isInteger, quoteText, readExpression } from './sql.js';

/** Tables of ours in a site's database; no comparison shows them. */
export const RESERVED = 'tessarion_';

/** Texts that have a limit in characters; those of the other types have one in bytes, which few ever meet. */
const LIMITED = /^(?:var)?char/;

type Cells = (string | null)[];

/** A foreign key, and what becomes of rows that refer to one that goes. */
export interface ForeignKey {
  readonly name: string;
  readonly table: string;
  readonly columns: readonly string[];
  readonly target: string;
  readonly targetColumns: readonly string[];
  /** Whether the server itself writes to rows that refer: `CASCADE`, `SET NULL`. */
  readonly cascades: boolean;
}

/** What is known of a database beside its shape. */
export interface Described {
  readonly schema: SchemaShape;
  readonly foreignKeys: readonly ForeignKey[];
  /** By table and column: the expression that reads it exactly. */
  readonly reads: ReadonlyMap<string, ReadonlyMap<string, string>>;
  /** By table: columns that the server sets whenever a row is written, unless it is told otherwise. */
  readonly stamped: ReadonlyMap<string, readonly string[]>;
  /** Tables of an engine without transactions. */
  readonly loose: readonly string[];
  readonly bytes: number;
}

const HERE = 'TABLE_SCHEMA = DATABASE()';

const QUESTIONS = {
  tables: `SELECT TABLE_NAME, TABLE_TYPE, ENGINE, AUTO_INCREMENT, DATA_LENGTH + INDEX_LENGTH FROM information_schema.TABLES
    WHERE ${HERE} AND LEFT(TABLE_NAME, ${RESERVED.length}) <> ${quoteText(RESERVED)} ORDER BY CAST(TABLE_NAME AS BINARY)`,
  columns: `SELECT TABLE_NAME, COLUMN_NAME, COLUMN_TYPE, CHARACTER_SET_NAME, CHARACTER_MAXIMUM_LENGTH, IS_NULLABLE, COLUMN_DEFAULT,
    EXTRA, IS_GENERATED FROM information_schema.COLUMNS WHERE ${HERE} ORDER BY TABLE_NAME, ORDINAL_POSITION`,
  indexes: `SELECT TABLE_NAME, INDEX_NAME, NON_UNIQUE, COLUMN_NAME, SUB_PART, INDEX_TYPE FROM information_schema.STATISTICS
    WHERE ${HERE} ORDER BY TABLE_NAME, INDEX_NAME, SEQ_IN_INDEX`,
  keys: `SELECT k.TABLE_NAME, k.CONSTRAINT_NAME, k.COLUMN_NAME, k.REFERENCED_TABLE_NAME, k.REFERENCED_COLUMN_NAME,
      r.DELETE_RULE, r.UPDATE_RULE
    FROM information_schema.KEY_COLUMN_USAGE k JOIN information_schema.REFERENTIAL_CONSTRAINTS r
      ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME AND r.TABLE_NAME = k.TABLE_NAME
    WHERE k.${HERE} AND k.REFERENCED_TABLE_SCHEMA = DATABASE() ORDER BY 1, 2, k.ORDINAL_POSITION`,
  checks: `SELECT TABLE_NAME, CONSTRAINT_NAME, CHECK_CLAUSE FROM information_schema.CHECK_CONSTRAINTS
    WHERE CONSTRAINT_SCHEMA = DATABASE() ORDER BY 1, 2`,
  triggers: `SELECT EVENT_OBJECT_TABLE, TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()
    ORDER BY 1, 2`,
  version: 'SELECT VERSION()',
} as const;

function grouped(rows: readonly Cells[]): Map<string, Cells[]> {
  const all = new Map<string, Cells[]>();
  for (const [table, ...rest] of rows) {
    const own = all.get(table as string);
    if (own) own.push(rest);
    else all.set(table as string, [rest]);
  }
  return all;
}

function columnOf(cells: Cells): ColumnShape {
  const [name, type, , length, nullable, value, extra, generated] = cells as string[];
  return {
    name: name as string,
    type: type as string,
    generated: generated === 'ALWAYS',
    maxLength: LIMITED.test(type as string) ? Number(length) : undefined,
    isText: familyOf(type as string) === 'text',
    isRequired: nullable === 'NO',
    isFilled: (extra ?? '').includes('auto_increment') || (value != null && value !== 'NULL'),
  };
}

/** What only its parts tell of a table. */
interface Parts {
  readonly columns: readonly Cells[];
  readonly indexes: readonly Cells[];
  readonly checks: readonly Cells[];
  readonly triggers: readonly Cells[];
  readonly foreignKeys: readonly ForeignKey[];
}

const here = (name: string): NameInDatabase => ({ schema: '', name });

function tableOf(database: string, name: string, parts: Parts): TableShape {
  const columns = parts.columns.map(columnOf);
  const typeOf = (column: string): string => columns.find((one) => one.name === column)?.type ?? '';
  const indexes = new Map<string, Cells[]>();
  for (const [index, ...rest] of parts.indexes)
    indexes.set(index as string, [...(indexes.get(index as string) ?? []), rest]);
  const namesIn = (index: readonly Cells[]): string[] => index.map(([, column]) => column as string);
  const key = namesIn(indexes.get('PRIMARY') ?? []);
  const isPlain = (index: readonly Cells[]): boolean => index.every(([, , part]) => part === null);
  const uniques = [...indexes].flatMap(([index, cells]) =>
    index !== 'PRIMARY' && cells[0]?.[0] === '0' && isPlain(cells) ? [namesIn(cells)] : [],
  );
  const extra = (column: string): string => parts.columns.find(([one]) => one === column)?.[6] ?? '';
  return {
    database,
    ...here(name),
    columns,
    key,
    keyOrders: key.map((column) => (isInteger(typeOf(column)) ? 'integer' : 'bytes')),
    references: parts.foreignKeys.map((one) => ({
      columns: one.columns,
      table: here(one.target),
      targetColumns: one.targetColumns,
    })),
    rowTriggers: parts.triggers.map(([trigger]) => trigger as string),
    uniques: uniques.map((names) =>
      names.map((column) => {
        const shape = columns.find((one) => one.name === column) as ColumnShape;
        return {
          name: column,
          type: shape.type,
          isRange: false,
          nullable: !shape.isRequired,
          length: shape.maxLength ?? 32,
        };
      }),
    ),
    exclusions: [],
    checks: parts.checks.map(([constraint, clause]) => ({
      name: constraint as string,
      expression: clause as string,
      columns: columns.map((one) => one.name).filter((column) => (clause as string).includes(`\`${column}\``)),
    })),
    indexes: [...indexes]
      .map(([index, cells]) => `${index} ${cells.map((one) => one.join(' ')).join(', ')}`)
      .sort()
      .join('\n'),
    drawsKey: key.length === 1 && extra(key[0] as string).includes('auto_increment'),
  };
}

function foreignKeysOf(rows: readonly Cells[]): ForeignKey[] {
  const all = new Map<string, ForeignKey & { columns: string[]; targetColumns: string[] }>();
  for (const [table, name, column, target, targetColumn, onDelete, onUpdate] of rows as string[][]) {
    const id = `${table}\0${name}`;
    const known = all.get(id);
    if (known) {
      known.columns.push(column as string);
      known.targetColumns.push(targetColumn as string);
    } else
      all.set(id, {
        name: name as string,
        table: table as string,
        columns: [column as string],
        target: target as string,
        targetColumns: [targetColumn as string],
        cascades: [onDelete, onUpdate].some((rule) => rule === 'CASCADE' || rule === 'SET NULL'),
      });
  }
  return [...all.values()];
}

/**
 * Reads how a database is made.
 *
 * @param database as the profile calls it
 * @throws {EngineError} `schema-unsupported` for what cannot be read faithfully
 */
export async function describe(session: Session, database: string): Promise<Described> {
  const tables = await session.texts(QUESTIONS.tables);
  const strange = tables.find(([, type]) => type === 'SYSTEM VERSIONED' || type === 'SEQUENCE');
  if (strange)
    throw new EngineError(
      'schema-unsupported',
      `${strange[0]} is ${strange[1] === 'SEQUENCE' ? 'a sequence' : 'a table that keeps its history'}, which cannot be copied faithfully yet.`,
      'Leave the database out, or move what it holds into a plain table.',
    );
  const parts = {
    columns: grouped(await session.texts(QUESTIONS.columns)),
    indexes: grouped(await session.texts(QUESTIONS.indexes)),
    checks: grouped(await session.texts(QUESTIONS.checks)),
    triggers: grouped(await session.texts(QUESTIONS.triggers)),
  };
  const foreignKeys = foreignKeysOf(await session.texts(QUESTIONS.keys));
  const base = tables.filter(([, type]) => type === 'BASE TABLE');
  const shapes = base.map(([name]) =>
    tableOf(database, name as string, {
      columns: parts.columns.get(name as string) ?? [],
      indexes: parts.indexes.get(name as string) ?? [],
      checks: parts.checks.get(name as string) ?? [],
      triggers: parts.triggers.get(name as string) ?? [],
      foreignKeys: foreignKeys.filter((one) => one.table === name),
    }),
  );
  const reads = shapes.map(({ name }) => {
    const columns = (parts.columns.get(name) ?? []) as [string, string, string | null][];
    return [
      name,
      new Map(columns.map(([column, type, charset]) => [column, readExpression(column, type, charset)])),
    ] as const;
  });
  return {
    schema: {
      server: `MariaDB ${(await session.value(QUESTIONS.version))?.split('-')[0]}`,
      tables: shapes,
      sequences: base.flatMap(([name, , , next]) => sequenceOf(shapes, name as string, next as string | null)),
      extensions: [],
    },
    foreignKeys,
    reads: new Map(reads),
    stamped: new Map(
      [...parts.columns].map(([table, columns]) => [
        table,
        columns.flatMap(([column, , , , , , extra]) => (/on update/i.test(extra ?? '') ? [column as string] : [])),
      ]),
    ),
    loose: base.flatMap(([name, , engine]) => (engine === 'InnoDB' ? [] : [name as string])),
    bytes: base.reduce((sum, one) => sum + Number(one[4] ?? 0), 0),
  };
}

/** A table's own counter: `next` is the number that comes next. */
function sequenceOf(shapes: readonly TableShape[], name: string, next: string | null): SequenceShape[] {
  const shape = shapes.find((one) => one.name === name);
  if (next === null || !shape?.drawsKey) return [];
  return [{ ...here(name), ownedBy: { table: here(name), column: shape.key[0] as string }, last: next, called: false }];
}
