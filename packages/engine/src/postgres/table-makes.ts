import { type TableMake, tableLabel, tablePath } from '@tessarion/core';
import type pg from 'pg';
import { to as copyTo } from 'pg-copy-streams';
import type { TableShape } from '../ports/shapes.js';
import { quoteTable } from './describe.js';

const COLUMNS = `
  SELECT a.attname::text AS name, format_type(a.atttypid, a.atttypmod) AS type, a.attnotnull AS required,
    CASE WHEN a.attgenerated = '' THEN pg_get_expr(d.adbin, d.adrelid) END AS "default",
    CASE WHEN a.attgenerated <> '' THEN pg_get_expr(d.adbin, d.adrelid) END AS generated,
    CASE a.attidentity WHEN 'a' THEN 'always' WHEN 'd' THEN 'by default' END AS identity,
    (SELECT 'CREATE SEQUENCE IF NOT EXISTS ' || quote_ident(sn.nspname) || '.' || quote_ident(s.relname) || ' AS ' || format_type(q.seqtypid, NULL)
        || ' INCREMENT ' || q.seqincrement || ' MINVALUE ' || q.seqmin || ' MAXVALUE ' || q.seqmax || ' START ' || q.seqstart
      FROM pg_depend p JOIN pg_class s ON s.oid = p.objid AND s.relkind = 'S' JOIN pg_namespace sn ON sn.oid = s.relnamespace
        JOIN pg_sequence q ON q.seqrelid = s.oid
      WHERE p.classid = 'pg_class'::regclass AND p.refobjid = a.attrelid AND p.refobjsubid = a.attnum AND p.deptype = 'a' LIMIT 1) AS counter
  FROM pg_attribute a LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
  WHERE a.attrelid = $1::regclass AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`;

const CONSTRAINTS = `
  SELECT c.conname::text AS name, pg_get_constraintdef(c.oid) AS definition,
    coalesce((SELECT array_agg(a.attname::text) FROM pg_attribute a WHERE a.attrelid = c.conrelid AND a.attnum = ANY(c.conkey)), '{}') AS columns,
    n.nspname::text AS refers_schema, f.relname::text AS refers_name
  FROM pg_constraint c LEFT JOIN pg_class f ON f.oid = nullif(c.confrelid, 0) LEFT JOIN pg_namespace n ON n.oid = f.relnamespace
  WHERE c.conrelid = $1::regclass AND c.contype IN ('p', 'u', 'c', 'f', 'x') ORDER BY c.contype <> 'p', c.conname`;

const INDEXES = `
  SELECT i.relname::text AS name, pg_get_indexdef(x.indexrelid) AS definition, x.indisunique AS is_unique
  FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid
  WHERE x.indrelid = $1::regclass AND x.indisvalid
    AND NOT EXISTS (SELECT 1 FROM pg_constraint c WHERE c.conindid = x.indexrelid) ORDER BY i.relname`;

/** Defaults that are another one for each row or moment. */
const VOLATILE =
  /\b(nextval|now|random|gen_random_uuid|uuid_generate\w*|clock_timestamp|statement_timestamp|timeofday)\s*\(|CURRENT_|LOCALTIME/i;

/**
 * How tables are made, in SQL as the server writes it.
 *
 * @param label what people call a table
 */
export async function describeMakes(
  client: pg.Client,
  tables: readonly TableShape[],
  label: (table: TableShape) => string,
): Promise<Map<string, TableMake>> {
  const makes = new Map<string, TableMake>();
  for (const table of tables) {
    const quoted = quoteTable(table);
    const columns = await client.query<{
      name: string;
      type: string;
      required: boolean;
      default: string | null;
      generated: string | null;
      identity: 'always' | 'by default' | null;
      counter: string | null;
    }>(COLUMNS, [quoted]);
    const constraints = await client.query<{
      name: string;
      definition: string;
      columns: string[];
      refers_schema: string | null;
      refers_name: string | null;
    }>(CONSTRAINTS, [quoted]);
    const indexes = await client.query<{ name: string; definition: string; is_unique: boolean }>(INDEXES, [quoted]);
    const described = [];
    for (const { name, type, required, generated, identity, counter, ...column } of columns.rows) {
      const isConstant = column.default !== null && !VOLATILE.test(column.default);
      described.push({
        name,
        type,
        isRequired: required,
        default: column.default,
        fill: isConstant ? await written(client, `(${column.default})::${type}`) : null,
        hasConstantDefault: isConstant,
        counter,
        identity,
        generated,
      });
    }
    makes.set(tablePath(table), {
      quoted,
      label: label(table),
      columns: described,
      constraints: constraints.rows.map(
        ({ name, definition, columns: of, refers_schema: schema, refers_name: refers }) => ({
          name,
          definition,
          columns: of,
          refersTo: schema === null || refers === null ? null : tableLabel({ schema, name: refers }),
        }),
      ),
      indexes: indexes.rows.map(({ name, definition, is_unique }) => ({ name, definition, isUnique: is_unique })),
    });
  }
  return makes;
}

/** A value as the server writes it in rows. */
async function written(client: pg.Client, expression: string): Promise<string | null> {
  const stream = client.query(copyTo(`COPY (SELECT ${expression}) TO STDOUT`));
  let text = '';
  for await (const chunk of stream as AsyncIterable<Buffer>) text += chunk.toString('latin1');
  const line = text.replace(/\n$/, '');
  return line === '\\N' ? null : line;
}
