import { isCalledAlike, type KeyOrder, type NameInDatabase } from '@tessarion/core';
import { LRUCache } from 'lru-cache';
import pg, { type Client, type QueryResult } from 'pg';
import { EngineError } from '../ports/errors.js';
import type {
  CheckConstraint,
  ExclusionShape,
  ExtensionShape,
  SchemaShape,
  SequenceShape,
  TableShape,
  UniqueShape,
} from '../ports/shapes.js';

const INTEGER_TYPES = new Set(['smallint', 'integer', 'bigint']);

/** Tables and sequences of the site's own: neither the server's, nor an extension's. */
const OWN = `n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'
    AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.deptype = 'e')`;

const namesOf = (columns: string, relation: string): string =>
  `(SELECT json_agg(a.attname ORDER BY k.ord) FROM unnest(${columns}) WITH ORDINALITY AS k(num, ord)
      JOIN pg_attribute a ON a.attrelid = ${relation} AND a.attnum = k.num)`;

/** Columns of a unique index that make it unique; those that it only carries along are none. */
const KEY_OF_INDEX = '(i.indkey::int2[])[0:i.indnkeyatts - 1]';

/** A column `a` of type `t` of a unique index, as {@link ColumnOfUnique}. */
const COLUMN_OF_UNIQUE = `json_build_object('name', a.attname, 'type', t.typname, 'isRange', t.typtype = 'r',
  'nullable', NOT a.attnotnull,
  'length', CASE WHEN t.typname IN ('varchar', 'bpchar') AND a.atttypmod > 4 THEN a.atttypmod - 4 ELSE 32 END)`;

/** Elements of an index `i`: by which operators two rows are compared that it keeps apart. */
const ELEMENTS = `(
  SELECT json_agg(json_build_object('expression', pg_get_indexdef(i.indexrelid, k.ord::int, false),
      'operator', format('OPERATOR(%I.%s)', opn.nspname, op.oprname),
      'column', CASE WHEN k.num <> 0 THEN ${COLUMN_OF_UNIQUE} END) ORDER BY k.ord)
  FROM unnest(${KEY_OF_INDEX}, i.indclass::oid[], x.conexclop) WITH ORDINALITY AS k(num, class, operator, ord)
    JOIN pg_opclass oc ON oc.oid = k.class
    JOIN pg_operator op ON op.oid = coalesce(k.operator, (SELECT ao.amopopr FROM pg_amop ao
      WHERE ao.amopfamily = oc.opcfamily AND ao.amoplefttype = oc.opcintype AND ao.amoprighttype = oc.opcintype
        AND ao.amopstrategy = 3))
    JOIN pg_namespace opn ON opn.oid = op.oprnamespace
    LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.num AND k.num <> 0
    LEFT JOIN pg_type t ON t.oid = a.atttypid)`;

const OWN_TABLES = `SELECT c.oid, n.nspname AS schema, c.relname AS name
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
    WHERE c.relkind = 'r' AND c.relpersistence <> 't' AND ${OWN}`;

const TABLES = `
  WITH own AS MATERIALIZED (
    ${OWN_TABLES}
  ), columns AS (
    SELECT a.attrelid, json_agg(json_build_object(
        'name', a.attname, 'type', format_type(a.atttypid, a.atttypmod), 'generated', a.attgenerated <> '',
        'category', t.typcategory, 'required', a.attnotnull OR t.typnotnull,
        'filled', a.atthasdef OR a.attidentity <> '' OR t.typdefault IS NOT NULL,
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
        'table', json_build_object('schema', fn.nspname, 'name', fc.relname),
        'targetColumns', ${namesOf('f.confkey', 'f.confrelid')}) ORDER BY f.oid) AS refs
    FROM own JOIN pg_constraint f ON f.conrelid = own.oid AND f.contype = 'f'
      JOIN pg_class fc ON fc.oid = f.confrelid JOIN pg_namespace fn ON fn.oid = fc.relnamespace
    GROUP BY f.conrelid
  ), triggers AS (
    SELECT g.tgrelid, json_agg(g.tgname ORDER BY g.tgname) AS triggers
    FROM own JOIN pg_trigger g ON g.tgrelid = own.oid AND NOT g.tgisinternal
    GROUP BY g.tgrelid
  ), uniques AS (
    SELECT i.indrelid AS unique_of, json_agg((
      SELECT json_agg(${COLUMN_OF_UNIQUE} ORDER BY k.ord)
      FROM unnest(${KEY_OF_INDEX}) WITH ORDINALITY AS k(num, ord)
        JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.num JOIN pg_type t ON t.oid = a.atttypid
      ) ORDER BY i.indexrelid) AS uniques
    FROM own JOIN pg_index i ON i.indrelid = own.oid
    WHERE i.indisunique AND i.indimmediate AND NOT i.indisprimary AND i.indpred IS NULL AND i.indexprs IS NULL
    GROUP BY i.indrelid
  ), exclusions AS (
    SELECT i.indrelid AS exclusions_of, json_agg(json_build_object(
        'elements', ${ELEMENTS}, 'predicate', pg_get_expr(i.indpred, i.indrelid), 'isImmediate', NOT coalesce(x.condeferrable, false),
        'columns', (SELECT json_agg(a.attname ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = i.indrelid AND a.attnum > 0
          AND (a.attnum = ANY(i.indkey::int2[]) OR EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_class'::regclass
            AND d.objid = i.indexrelid AND d.refclassid = 'pg_class'::regclass AND d.refobjid = i.indrelid AND d.refobjsubid = a.attnum)))
        ) ORDER BY i.indexrelid) AS exclusions
    FROM own JOIN pg_index i ON i.indrelid = own.oid
      LEFT JOIN pg_constraint x ON x.conindid = i.indexrelid AND x.contype IN ('u', 'x')
    WHERE i.indisvalid AND NOT i.indisprimary
      AND (i.indisexclusion OR i.indisunique AND (i.indpred IS NOT NULL OR i.indexprs IS NOT NULL OR NOT i.indimmediate))
    GROUP BY i.indrelid
  ), checks AS (
    SELECT c.conrelid AS checks_of, json_agg(json_build_object(
        'name', c.conname, 'expression', pg_get_expr(c.conbin, c.conrelid),
        'columns', coalesce(${namesOf('c.conkey', 'c.conrelid')}, '[]')) ORDER BY c.conname) AS checks
    FROM own JOIN pg_constraint c ON c.conrelid = own.oid AND c.contype = 'c'
    GROUP BY c.conrelid
  ), indexes AS (
    SELECT i.indrelid AS index_of,
      string_agg(ic.relname || ' ' || pg_get_indexdef(i.indexrelid), E'\n' ORDER BY ic.relname) AS indexes
    FROM own JOIN pg_index i ON i.indrelid = own.oid JOIN pg_class ic ON ic.oid = i.indexrelid
    WHERE i.indisvalid AND NOT EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid)
    GROUP BY i.indrelid
  )
  SELECT schema, name, coalesce(columns, '[]') AS columns, key, coalesce(refs, '[]') AS "references",
    coalesce(triggers, '[]') AS triggers, coalesce(uniques, '[]') AS uniques, coalesce(exclusions, '[]') AS exclusions,
    coalesce(checks, '[]') AS checks,
    coalesce(indexes, '') AS indexes
  FROM own LEFT JOIN columns ON attrelid = oid LEFT JOIN keys ON indrelid = oid
    LEFT JOIN refs ON conrelid = oid LEFT JOIN triggers ON tgrelid = oid
    LEFT JOIN uniques ON unique_of = oid LEFT JOIN exclusions ON exclusions_of = oid LEFT JOIN checks ON checks_of = oid
    LEFT JOIN indexes ON index_of = oid
  ORDER BY schema COLLATE "C", name COLLATE "C"`;

const SEQUENCES = `
  SELECT n.nspname AS schema, c.relname AS name,
    (SELECT json_build_object('table', json_build_object('schema', tn.nspname, 'name', tc.relname), 'column', a.attname)
      FROM pg_depend d JOIN pg_class tc ON tc.oid = d.refobjid JOIN pg_namespace tn ON tn.oid = tc.relnamespace
      JOIN pg_attribute a ON a.attrelid = tc.oid AND a.attnum = d.refobjsubid
      WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.deptype IN ('a', 'i') LIMIT 1) AS owned
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE c.relkind = 'S' AND ${OWN}
  ORDER BY n.nspname COLLATE "C", c.relname COLLATE "C"`;

/** Asks for the extensions of a database, without the one that every database has. */
export const EXTENSIONS = `SELECT extname AS name, nspname AS schema FROM pg_extension JOIN pg_namespace n ON n.oid = extnamespace
  WHERE extname <> 'plpgsql' ORDER BY extname`;

/** Of rows of a catalog, something that changes whenever one of them is added, changed or removed. */
const versionOf = (catalog: string, identity: string, which: string): string =>
  `(SELECT count(*) || ' ' || coalesce(sum(hashtextextended(concat_ws(' ', ${identity}, xmin, cmin), 0)), 0) FROM ${catalog} WHERE ${which})`;

/** Objects that do not come with the server have numbers from here on (`FirstNormalObjectId`). */
const MADE = '>= 16384';

/**
 * What changes whenever somebody changes how the tables are made, and where nothing else does: to compare it costs a tenth of
 * describing them. Temporary tables of any session count too.
 */
const VERSION = `SELECT current_setting('server_version') AS server,
  EXISTS (SELECT FROM pg_largeobject_metadata) AS "hasLargeObjects",
  concat_ws(' | ', pg_postmaster_start_time(), (SELECT oid FROM pg_database WHERE datname = current_database()),
    ${versionOf('pg_namespace', 'oid', "nspname NOT LIKE 'pg\\_%'")}, ${versionOf('pg_class', 'oid', `oid ${MADE}`)},
    ${versionOf('pg_attribute', 'attrelid, attnum', `attrelid ${MADE}`)}, ${versionOf('pg_type', 'oid', `oid ${MADE}`)},
    ${versionOf('pg_index', 'indexrelid', `indexrelid ${MADE}`)}, ${versionOf('pg_constraint', 'oid', `oid ${MADE}`)},
    ${versionOf('pg_trigger', 'oid', `oid ${MADE}`)}, ${versionOf('pg_extension', 'oid', 'true')},
    ${versionOf('pg_depend', 'classid, objid, refobjid, refobjsubid', `objid ${MADE}`)}) AS version`;

/** All that is asked in one round: a session that has just begun answers each question slowly. */
const QUESTIONS = [
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
    required: boolean;
    filled: boolean;
    length: number | null;
  }[];
  key: string[] | null;
  references: { columns: string[]; table: NameInDatabase; targetColumns: string[] }[];
  triggers: string[];
  uniques: UniqueShape[];
  exclusions: Omit<ExclusionShape, 'isPlain'>[];
  checks: CheckConstraint[];
  indexes: string;
}

interface SequenceRow {
  schema: string;
  name: string;
  owned: { table: NameInDatabase; column: string } | null;
}

/** Quotes an identifier for PostgreSQL. */
export const quoteName = (name: string): string => `"${name.replaceAll('"', '""')}"`;

/** Means the same whatever a session's settings say of backslashes. */
export const quoteLiteral = (text: string): string => pg.escapeLiteral(text);

/** A table's name as it stands in statements. */
export const quoteTable = (table: NameInDatabase): string => `${quoteName(table.schema)}.${quoteName(table.name)}`;

/** Names the tables of a database, those of extensions left out. */
export async function listTables(client: Client): Promise<NameInDatabase[]> {
  return (await client.query<{ schema: string; name: string }>(OWN_TABLES)).rows;
}

/** How a database is made, without what its counters stand at. */
interface Made {
  readonly version: string;
  readonly tables: readonly TableShape[];
  readonly sequences: readonly SequenceRow[];
  readonly extensions: readonly ExtensionShape[];
}

/** The last description of each database, by where it is. */
const described = new LRUCache<string, Made>({ max: 100 });

/**
 * Describes the tables and sequences of a database, those of extensions left out.
 *
 * @param database as the profile calls it
 * @throws {EngineError} `schema-unsupported` for what cannot be read faithfully
 */
export async function describeSchema(client: Client, database: string): Promise<SchemaShape> {
  const asked = await client.query<{ server: string; hasLargeObjects: boolean; version: string }>(VERSION);
  const { server, hasLargeObjects, version } = asked.rows[0] as (typeof asked.rows)[number];
  if (hasLargeObjects)
    throw new EngineError(
      'schema-unsupported',
      'The database holds large objects, which cannot be copied faithfully.',
      'Move them into bytea columns or files.',
    );
  const at = `${client.host}:${client.port}/${client.database} ${database}`;
  const known = described.get(at);
  const made = known?.version === version ? known : { version, ...(await describeMade(client, database)) };
  described.set(at, made);
  return {
    server: `PostgreSQL ${server.split(' ')[0]}`,
    tables: made.tables,
    sequences: await statesOf(client, made.sequences),
    extensions: made.extensions,
  };
}

async function describeMade(client: Client, database: string): Promise<Omit<Made, 'version'>> {
  const [foreign, tables, sequences, extensions] = (await client.query(QUESTIONS)) as unknown as [
    QueryResult<{ name: string }>,
    QueryResult<TableRow>,
    QueryResult<SequenceRow>,
    QueryResult<ExtensionShape>,
  ];
  if (foreign.rows[0])
    throw new EngineError(
      'schema-unsupported',
      `"${foreign.rows[0].name}" is a foreign table: its rows lie in another database.`,
      'Drop the foreign table, or leave it out of the site.',
    );
  return {
    tables: tables.rows.map((row) => shapeOf(row, database, sequences.rows)),
    sequences: sequences.rows,
    extensions: extensions.rows,
  };
}

async function statesOf(client: Client, sequences: readonly SequenceRow[]): Promise<SequenceShape[]> {
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

const isPlain = ({ predicate, elements }: Omit<ExclusionShape, 'isPlain'>): boolean =>
  predicate === null && elements.every(({ column, operator }) => column && operator.endsWith('.=)'));

const isSameSet = (columns: UniqueShape, key: readonly string[]): boolean =>
  columns.length === key.length && columns.every(({ name }) => key.includes(name));

function shapeOf(row: TableRow, database: string, sequences: readonly SequenceRow[]): TableShape {
  const typeOf = (column: string): string => row.columns.find((one) => one.name === column)?.type ?? '';
  const key = row.key ?? [];
  return {
    database,
    schema: row.schema,
    name: row.name,
    columns: row.columns.map((column) => ({
      name: column.name,
      type: column.type,
      generated: column.generated,
      maxLength: column.length ?? undefined,
      isText: column.category === 'S',
      isRequired: column.required,
      isFilled: column.filled,
    })),
    key,
    keyOrders: key.map((name): KeyOrder => (INTEGER_TYPES.has(typeOf(name)) ? 'integer' : 'bytes')),
    references: row.references,
    rowTriggers: row.triggers,
    uniques: row.uniques.filter((columns) => !isSameSet(columns, key)),
    exclusions: row.exclusions.map((one) => ({ ...one, isPlain: isPlain(one) })),
    checks: row.checks,
    indexes: row.indexes,
    drawsKey:
      key.length === 1 &&
      sequences.some(({ owned }) => owned !== null && isCalledAlike(owned.table, row) && owned.column === key[0]),
  };
}
