import type { KeyOrder } from '@tessarion/core';
import type { ClientBase, QueryResult } from 'pg';
import { EngineError } from '../errors.js';
import type { ExtensionShape, SchemaShape, SequenceShape, TableShape } from './site-database.js';

const INTEGER_TYPES = new Set(['smallint', 'integer', 'bigint']);

/** Tables and sequences of the site's own: neither the server's, nor an extension's. */
const OWN = `n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'
    AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.deptype = 'e')`;

const namesOf = (columns: string, relation: string): string =>
  `(SELECT json_agg(a.attname ORDER BY k.ord) FROM unnest(${columns}) WITH ORDINALITY AS k(num, ord)
      JOIN pg_attribute a ON a.attrelid = ${relation} AND a.attnum = k.num)`;

/** Columns of a unique index that make it unique; those that it only carries along are none. */
const KEY_OF_INDEX = '(i.indkey::int2[])[0:i.indnkeyatts - 1]';

const OWN_TABLES = `SELECT c.oid, n.nspname AS schema, c.relname AS name
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
    WHERE c.relkind = 'r' AND c.relpersistence <> 't' AND ${OWN}`;

const TABLES = `
  WITH own AS MATERIALIZED (
    ${OWN_TABLES}
  ), columns AS (
    SELECT a.attrelid, json_agg(json_build_object(
        'name', a.attname, 'type', format_type(a.atttypid, a.atttypmod), 'generated', a.attgenerated <> '',
        'category', t.typcategory,
        'length', CASE WHEN b.typname IN ('varchar', 'bpchar') AND coalesce(nullif(t.typtypmod, -1), a.atttypmod) > 4
          THEN coalesce(nullif(t.typtypmod, -1), a.atttypmod) - 4 END) ORDER BY a.attnum) AS columns
    FROM own JOIN pg_attribute a ON a.attrelid = own.oid AND a.attnum > 0 AND NOT a.attisdropped
      JOIN pg_type t ON t.oid = a.atttypid
      JOIN pg_type b ON b.oid = CASE WHEN t.typtype = 'd' THEN t.typbasetype ELSE t.oid END
    GROUP BY a.attrelid
  ), keys AS (
    SELECT DISTINCT ON (i.indrelid) i.indrelid, ${namesOf(KEY_OF_INDEX, 'i.indrelid')} AS key
    FROM own JOIN pg_index i ON i.indrelid = own.oid
    WHERE i.indisunique AND i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL
      AND (i.indisprimary OR NOT EXISTS (SELECT FROM unnest(${KEY_OF_INDEX}) AS u(num)
        JOIN pg_attribute ua ON ua.attrelid = i.indrelid AND ua.attnum = u.num WHERE NOT ua.attnotnull))
    ORDER BY i.indrelid, i.indisprimary DESC, i.indexrelid
  ), refs AS (
    SELECT f.conrelid, json_agg(json_build_object(
        'columns', ${namesOf('f.conkey', 'f.conrelid')},
        'table', fn.nspname || '.' || fc.relname,
        'targetColumns', ${namesOf('f.confkey', 'f.confrelid')}) ORDER BY f.oid) AS refs
    FROM own JOIN pg_constraint f ON f.conrelid = own.oid AND f.contype = 'f'
      JOIN pg_class fc ON fc.oid = f.confrelid JOIN pg_namespace fn ON fn.oid = fc.relnamespace
    GROUP BY f.conrelid
  ), triggers AS (
    SELECT g.tgrelid, json_agg(g.tgname ORDER BY g.tgname) AS triggers
    FROM own JOIN pg_trigger g ON g.tgrelid = own.oid AND NOT g.tgisinternal
    GROUP BY g.tgrelid
  )
  SELECT schema, name, coalesce(columns, '[]') AS columns, key, coalesce(refs, '[]') AS "references",
    coalesce(triggers, '[]') AS triggers
  FROM own LEFT JOIN columns ON attrelid = oid LEFT JOIN keys ON indrelid = oid
    LEFT JOIN refs ON conrelid = oid LEFT JOIN triggers ON tgrelid = oid
  ORDER BY schema COLLATE "C", name COLLATE "C"`;

const SEQUENCES = `
  SELECT n.nspname AS schema, c.relname AS name,
    (SELECT json_build_object('table', tn.nspname || '.' || tc.relname, 'column', a.attname)
      FROM pg_depend d JOIN pg_class tc ON tc.oid = d.refobjid JOIN pg_namespace tn ON tn.oid = tc.relnamespace
      JOIN pg_attribute a ON a.attrelid = tc.oid AND a.attnum = d.refobjsubid
      WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.deptype IN ('a', 'i') LIMIT 1) AS owned
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE c.relkind = 'S' AND ${OWN}
  ORDER BY n.nspname COLLATE "C", c.relname COLLATE "C"`;

export const EXTENSIONS = `SELECT extname AS name, nspname AS schema FROM pg_extension JOIN pg_namespace n ON n.oid = extnamespace
  WHERE extname <> 'plpgsql' ORDER BY extname`;

/** All that is asked in one round: a session that has just begun answers each question slowly. */
const QUESTIONS = [
  'SHOW server_version',
  'SELECT FROM pg_largeobject_metadata LIMIT 1',
  "SELECT relname AS name FROM pg_class WHERE relkind = 'f' LIMIT 1",
  TABLES,
  SEQUENCES,
  EXTENSIONS,
].join(';');

interface TableRow {
  schema: string;
  name: string;
  columns: {
    name: string;
    type: string;
    generated: boolean;
    category: string;
    length: number | null;
  }[];
  key: string[] | null;
  references: { columns: string[]; table: string; targetColumns: string[] }[];
  triggers: string[];
}

interface SequenceRow {
  schema: string;
  name: string;
  owned: { table: string; column: string } | null;
}

/** Quotes an identifier for PostgreSQL. */
export const quoteName = (name: string): string => `"${name.replaceAll('"', '""')}"`;

export const quoteLiteral = (text: string): string => `'${text.replaceAll("'", "''")}'`;

export const quoteTable = (table: { readonly schema: string; readonly name: string }): string =>
  `${quoteName(table.schema)}.${quoteName(table.name)}`;

/** Names the tables of a database, those of extensions left out. */
export async function listTables(client: ClientBase): Promise<{ schema: string; name: string }[]> {
  return (await client.query<{ schema: string; name: string }>(OWN_TABLES)).rows;
}

/**
 * Describes the tables and sequences of a database, those of extensions left out.
 *
 * @throws {EngineError} `schema-unsupported` for what cannot be read faithfully
 */
export async function describeSchema(client: ClientBase): Promise<SchemaShape> {
  const [version, largeObjects, foreign, tables, sequences, extensions] = (await client.query(
    QUESTIONS,
  )) as unknown as [
    QueryResult<{ server_version: string }>,
    QueryResult,
    QueryResult<{ name: string }>,
    QueryResult<TableRow>,
    QueryResult<SequenceRow>,
    QueryResult<ExtensionShape>,
  ];
  if (largeObjects.rows.length > 0) {
    throw new EngineError(
      'schema-unsupported',
      'The database holds large objects, which cannot be copied faithfully.',
      'Move them into bytea columns or files.',
    );
  }
  if (foreign.rows[0]) {
    throw new EngineError(
      'schema-unsupported',
      `"${foreign.rows[0].name}" is a foreign table: its rows lie in another database.`,
      'Drop the foreign table, or leave it out of the site.',
    );
  }
  return {
    server: `PostgreSQL ${version.rows[0]?.server_version.split(' ')[0]}`,
    tables: tables.rows.map(shapeOf),
    sequences: await statesOf(client, sequences.rows),
    extensions: extensions.rows,
  };
}

async function statesOf(client: ClientBase, sequences: readonly SequenceRow[]): Promise<SequenceShape[]> {
  if (sequences.length === 0) return [];
  const states = await client.query<{ i: number; last: string; called: boolean }>(
    sequences
      .map((one, i) => `SELECT ${i} AS i, last_value::text AS last, is_called AS called FROM ${quoteTable(one)}`)
      .join(' UNION ALL '),
  );
  const byPlace = new Map(states.rows.map((row) => [row.i, row]));
  return sequences.map(({ schema, name, owned }, i) => {
    const { last, called } = byPlace.get(i) as { last: string; called: boolean };
    return { schema, name, ownedBy: owned ?? undefined, last, called };
  });
}

function shapeOf(row: TableRow): TableShape {
  const typeOf = (column: string): string => row.columns.find((one) => one.name === column)?.type ?? '';
  const key = row.key ?? [];
  return {
    schema: row.schema,
    name: row.name,
    columns: row.columns.map((column) => ({
      name: column.name,
      type: column.type,
      generated: column.generated,
      maxLength: column.length ?? undefined,
      isText: column.category === 'S',
    })),
    key,
    keyOrders: key.map((name): KeyOrder => (INTEGER_TYPES.has(typeOf(name)) ? 'integer' : 'bytes')),
    references: row.references,
    rowTriggers: row.triggers,
  };
}
