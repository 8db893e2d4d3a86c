import type { KeyOrder } from '@tessarion/core';
import type { ClientBase } from 'pg';
import { EngineError } from '../errors.js';
import type { ExtensionShape, SchemaShape, SequenceShape, TableShape } from './site-database.js';

const INTEGER_TYPES = new Set(['smallint', 'integer', 'bigint']);

const TABLES = `
  SELECT c.oid::int AS oid, n.nspname AS schema, c.relname AS name,
    coalesce((SELECT json_agg(json_build_object(
        'name', a.attname, 'type', format_type(a.atttypid, a.atttypmod), 'generated', a.attgenerated <> '',
        'category', t.typcategory,
        'length', CASE WHEN b.typname IN ('varchar', 'bpchar') AND coalesce(nullif(t.typtypmod, -1), a.atttypmod) > 4
          THEN coalesce(nullif(t.typtypmod, -1), a.atttypmod) - 4 END, 'notnull', a.attnotnull, 'num', a.attnum) ORDER BY a.attnum)
      FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid
        JOIN pg_type b ON b.oid = CASE WHEN t.typtype = 'd' THEN t.typbasetype ELSE t.oid END
      WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped), '[]') AS columns,
    (SELECT json_agg(a.attname ORDER BY k.ord)
      FROM pg_index i CROSS JOIN LATERAL unnest(i.indkey) WITH ORDINALITY AS k(num, ord)
      JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.num
      WHERE i.indexrelid = (SELECT i2.indexrelid FROM pg_index i2
        WHERE i2.indrelid = c.oid AND i2.indisunique AND i2.indisvalid AND i2.indpred IS NULL AND i2.indexprs IS NULL
          AND (i2.indisprimary OR NOT EXISTS (SELECT 1 FROM unnest(i2.indkey) AS u(num)
            JOIN pg_attribute ua ON ua.attrelid = c.oid AND ua.attnum = u.num WHERE NOT ua.attnotnull))
        ORDER BY i2.indisprimary DESC, i2.indexrelid LIMIT 1)) AS key,
    coalesce((SELECT json_agg(json_build_object(
        'columns', (SELECT json_agg(a.attname ORDER BY k.ord) FROM unnest(f.conkey) WITH ORDINALITY AS k(num, ord)
          JOIN pg_attribute a ON a.attrelid = f.conrelid AND a.attnum = k.num),
        'table', fn.nspname || '.' || fc.relname,
        'targetColumns', (SELECT json_agg(a.attname ORDER BY k.ord) FROM unnest(f.confkey) WITH ORDINALITY AS k(num, ord)
          JOIN pg_attribute a ON a.attrelid = f.confrelid AND a.attnum = k.num)))
      FROM pg_constraint f JOIN pg_class fc ON fc.oid = f.confrelid JOIN pg_namespace fn ON fn.oid = fc.relnamespace
      WHERE f.conrelid = c.oid AND f.contype = 'f'), '[]') AS "references",
    coalesce((SELECT json_agg(g.tgname) FROM pg_trigger g WHERE g.tgrelid = c.oid AND NOT g.tgisinternal), '[]') AS triggers
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE c.relkind = 'r' AND c.relpersistence <> 't'
    AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'
    AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = c.oid AND d.deptype = 'e')
  ORDER BY n.nspname COLLATE "C", c.relname COLLATE "C"`;

const SEQUENCES = `
  SELECT n.nspname AS schema, c.relname AS name,
    (SELECT json_build_object('table', tn.nspname || '.' || tc.relname, 'column', a.attname)
      FROM pg_depend d JOIN pg_class tc ON tc.oid = d.refobjid JOIN pg_namespace tn ON tn.oid = tc.relnamespace
      JOIN pg_attribute a ON a.attrelid = tc.oid AND a.attnum = d.refobjsubid
      WHERE d.objid = c.oid AND d.classid = 'pg_class'::regclass AND d.deptype IN ('a', 'i') LIMIT 1) AS owned
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE c.relkind = 'S' AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'
    AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = c.oid AND d.deptype = 'e')
  ORDER BY n.nspname COLLATE "C", c.relname COLLATE "C"`;

interface TableRow {
  schema: string;
  name: string;
  columns: {
    name: string;
    type: string;
    generated: boolean;
    category: string;
    length: number | null;
    notnull: boolean;
  }[];
  key: string[] | null;
  references: { columns: string[]; table: string; targetColumns: string[] }[];
  triggers: string[];
}

/** Quotes an identifier for PostgreSQL. */
export const quoteName = (name: string): string => `"${name.replaceAll('"', '""')}"`;

export const quoteTable = (table: { readonly schema: string; readonly name: string }): string =>
  `${quoteName(table.schema)}.${quoteName(table.name)}`;

/**
 * Describes the tables and sequences of a database, those of extensions left out.
 *
 * @throws {EngineError} `schema-unsupported` for what cannot be read faithfully
 */
export async function describeSchema(client: ClientBase): Promise<SchemaShape> {
  const version = await client.query<{ server_version: string }>('SHOW server_version');
  const largeObjects = await client.query('SELECT 1 FROM pg_largeobject_metadata LIMIT 1');
  if (largeObjects.rows.length > 0) {
    throw new EngineError(
      'schema-unsupported',
      'The database holds large objects, which cannot be copied faithfully.',
      'Move them into bytea columns or files.',
    );
  }
  const partitioned = await client.query<{ name: string }>(
    "SELECT relname AS name FROM pg_class WHERE relkind = 'f' LIMIT 1",
  );
  if (partitioned.rows[0]) {
    throw new EngineError(
      'schema-unsupported',
      `"${partitioned.rows[0].name}" is a foreign table: its rows lie in another database.`,
      'Drop the foreign table, or leave it out of the site.',
    );
  }
  const tables = await client.query<TableRow>(TABLES);
  const sequences = await client.query<{
    schema: string;
    name: string;
    owned: { table: string; column: string } | null;
  }>(SEQUENCES);
  const extensions = await client.query<ExtensionShape>(
    "SELECT extname AS name, nspname AS schema FROM pg_extension JOIN pg_namespace n ON n.oid = extnamespace WHERE extname <> 'plpgsql' ORDER BY extname",
  );
  const sequenceShapes: SequenceShape[] = [];
  for (const one of sequences.rows) {
    const state = await client.query<{ last: string; called: boolean }>(
      `SELECT last_value::text AS last, is_called AS called FROM ${quoteTable(one)}`,
    );
    const { last, called } = state.rows[0] as { last: string; called: boolean };
    sequenceShapes.push({ schema: one.schema, name: one.name, ownedBy: one.owned ?? undefined, last, called });
  }
  return {
    server: `PostgreSQL ${version.rows[0]?.server_version.split(' ')[0]}`,
    tables: tables.rows.map(shapeOf),
    sequences: sequenceShapes,
    extensions: extensions.rows,
  };
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
