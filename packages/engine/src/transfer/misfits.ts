import {
  type ByteString,
  LineRewriter,
  type Location,
  type Place,
  Rewriter,
  type RowChange,
  rulesForTable,
  type TableRules,
  toBytes,
  toText,
} from '@tessarion/core';
import type pg from 'pg';
import { connectTo, databaseError } from '../database/connect.js';
import { describeSchema, quoteName, quoteTable } from '../database/describe.js';
import { readable } from '../database/postgres-view.js';
import {
  type ColumnShape,
  type DatabaseLogin,
  fullName,
  profileName,
  type TableShape,
} from '../database/site-database.js';
import type { Environment } from '../environment/environment.js';
import type { LeftOut } from './build-copy.js';
import { rewriterOf } from './copy-files.js';
import { uniqueIndexes } from './unique-values.js';

/** A row that its table would not take, and why, in words that follow its name. */
export interface Misfit {
  readonly table: string;
  readonly key: string;
  readonly what: string;
}

/** What was found; `untried` rows were passed over because there are too many. */
export interface Misfits {
  readonly found: readonly Misfit[];
  readonly tried: number;
  readonly untried: number;
}

/** A row as it would be written: only the cells that change; all of them for a new one. */
interface WrittenRow {
  readonly key: readonly (string | null)[];
  readonly cells: Readonly<Record<string, string | null>>;
  readonly op: 'insert' | 'update' | 'delete';
}

const MOST = 200;
const BATCH = 2000;
/** How many rows of one table are tried before a copy is made; the database tries the others while they are loaded. */
const CANDIDATES = 20_000;

/**
 * Tries the values that a copy would get against the lengths and check constraints of their columns. Only rows that
 * hold one of the source's addresses, in columns that have a limit, are read.
 */
export async function misfitsInCopy(
  database: string,
  login: DatabaseLogin,
  source: Environment,
  destination: Environment,
  leftOut: LeftOut,
): Promise<Misfits> {
  const client = await connectTo(login, 'read', 'check');
  try {
    const found: Misfit[] = [];
    let [tried, untried] = [0, 0];
    for (const shape of await tablesOf(client)) {
      const columns = readable(shape).map((column) => column.name);
      const rules = rulesForTable(source.profile, database, profileName(shape), columns);
      if (leftOut.tables.includes(profileName(shape)) || !mayTravel(rules)) continue;
      const constraints = await checkConstraints(client, shape);
      const limited = limitedColumns(shape, rules, constraints);
      if (limited.length === 0) continue;
      const rows = await candidates(client, shape, limited, source.place, destination.place);
      untried += Math.max(0, rows.length - CANDIDATES);
      const written = rewritten(rows.slice(0, CANDIDATES), shape, rules, source, destination);
      tried += written.length;
      found.push(...(await misfitsIn(client, shape, constraints, written)));
    }
    return { found: found.slice(0, MOST), tried, untried };
  } catch (error) {
    throw databaseError(error, login);
  } finally {
    await client.end().catch(() => undefined);
  }
}

/**
 * Tries the rows that a push would write against lengths, check constraints and unique indexes of its destination.
 *
 * @param changes those of one database
 * @param rewriter writes with the destination's addresses
 */
export async function misfitsOfChanges(
  login: DatabaseLogin,
  changes: readonly RowChange[],
  rewriter: Rewriter,
): Promise<Misfits> {
  if (changes.length === 0) return { found: [], tried: 0, untried: 0 };
  const client = await connectTo(login, 'read', 'check');
  try {
    const found: Misfit[] = [];
    const text = (value: ByteString | null): string | null =>
      value === null ? null : toText(rewriter.materialise(value));
    for (const shape of await tablesOf(client)) {
      if (shape.key.length === 0) continue;
      const rows = changes
        .filter((change) => change.table === fullName(shape))
        .map((change): WrittenRow => ({ op: change.op, key: change.key.map(text), cells: cellsOf(change, text) }));
      if (rows.length === 0) continue;
      const tooLong = misfitsInLength(shape, rows);
      found.push(...(await misfitsIn(client, shape, await checkConstraints(client, shape), rows)));
      // A value that is too long cannot be compared with others.
      if (tooLong.size === 0) found.push(...(await takenValues(client, shape, rows)));
    }
    return { found: found.slice(0, MOST), tried: changes.length, untried: 0 };
  } catch (error) {
    throw databaseError(error, login);
  } finally {
    await client.end().catch(() => undefined);
  }
}

/** The cells that a change writes. */
function cellsOf(
  change: RowChange,
  text: (value: ByteString | null) => string | null,
): Readonly<Record<string, string | null>> {
  switch (change.op) {
    case 'insert':
      return Object.fromEntries(Object.entries(change.row).map(([name, value]) => [name, text(value)]));
    case 'update':
      return Object.fromEntries(Object.entries(change.cells).map(([name, cell]) => [name, text(cell.after)]));
    case 'delete':
      return {};
  }
}

/** Describes the tables; from then on the session finds functions and operators as the site's own sessions do. */
async function tablesOf(client: pg.Client): Promise<readonly TableShape[]> {
  const { tables } = await describeSchema(client);
  await client.query('SET search_path TO DEFAULT');
  return tables;
}

const mayTravel = (rules: TableRules): boolean =>
  rules.hasRowGroups || rules.class === 'authored' || rules.class === 'collected';

interface CheckConstraint {
  readonly name: string;
  readonly expression: string;
  readonly columns: readonly string[];
}

async function checkConstraints(client: pg.Client, shape: TableShape): Promise<CheckConstraint[]> {
  const result = await client.query<{ name: string; expression: string; columns: string[] }>(
    `SELECT conname AS name, pg_catalog.pg_get_expr(conbin, conrelid) AS expression,
       (SELECT coalesce(array_agg(attname::text), '{}') FROM pg_catalog.pg_attribute
        WHERE attrelid = conrelid AND attnum = ANY(conkey)) AS columns
     FROM pg_catalog.pg_constraint WHERE conrelid = $1::regclass AND contype = 'c' ORDER BY conname`,
    [quoteTable(shape)],
  );
  return result.rows;
}

/** Text columns that are rewritten on the way down and cannot hold everything. */
function limitedColumns(
  shape: TableShape,
  rules: TableRules,
  constraints: readonly CheckConstraint[],
): (ColumnShape & { readonly isChecked: boolean })[] {
  return shape.columns.flatMap((column) => {
    const treatment = rules.columns.find((one) => one.name === column.name);
    const isMasked = treatment?.mask !== undefined && treatment.mask !== 'keep';
    const isChecked = constraints.some((one) => one.columns.includes(column.name));
    if (!column.isText || column.generated || !treatment?.rewrite || isMasked) return [];
    return column.maxLength === undefined && !isChecked ? [] : [{ ...column, isChecked }];
  });
}

const locations = (place: Place): Location[] => place.addresses.flatMap((one) => [one, ...one.aliases]);

/** A scheme with an `s`, and the longest port, where there was none. */
const MORE_AROUND_HOST = 's:65535'.length;

/** How many characters an address or a path may grow by when it is written elsewhere, at the most. */
function growth(from: Place, to: Place): number {
  const hosts = (place: Place): number[] => locations(place).map(({ host, path }) => host.length + path.length);
  const roots = (place: Place): number[] => place.roots.map((root) => root.path.length);
  return Math.max(
    0,
    Math.max(...hosts(to)) - Math.min(...hosts(from)) + MORE_AROUND_HOST,
    Math.max(...roots(to)) - Math.min(...roots(from)),
  );
}

/** Rows that hold one of the source's addresses or paths where it may not fit once rewritten. */
async function candidates(
  client: pg.Client,
  shape: TableShape,
  limited: readonly (ColumnShape & { readonly isChecked: boolean })[],
  from: Place,
  to: Place,
): Promise<(string | null)[][]> {
  const words = [
    ...new Set([
      ...locations(from).map((one) => one.host),
      ...from.roots.map((root) => toText(root.path).split('/').at(-1)?.toLowerCase() ?? ''),
    ]),
  ].filter((word) => word !== '');
  const more = growth(from, to);
  const conditions = limited.flatMap(({ name, maxLength, isChecked }) => {
    const value = `lower(${quoteName(name)}::text)`;
    return words.map((_word, i) => {
      const holds = `strpos(${value}, $${i + 1}) > 0`;
      if (isChecked || maxLength === undefined) return holds;
      const hits = `(length(${value}) - length(replace(${value}, $${i + 1}, ''))) / length($${i + 1})`;
      return `${holds} AND length(${value}) + ${more} * ${hits} > ${maxLength}`;
    });
  });
  const columns = readable(shape).map((column) => `${quoteName(column.name)}::text`);
  const result = await client.query<(string | null)[]>({
    text: `SELECT ${columns.join(', ')} FROM ONLY ${quoteTable(shape)} WHERE ${conditions.map((one) => `(${one})`).join(' OR ')} LIMIT ${CANDIDATES + 1}`,
    values: words,
    rowMode: 'array',
  });
  return result.rows;
}

/** What the rows of a copy would hold, as far as it differs. */
function rewritten(
  rows: readonly (string | null)[][],
  shape: TableShape,
  rules: TableRules,
  source: Environment,
  destination: Environment,
): WrittenRow[] {
  const columns = readable(shape).map((column) => column.name);
  const lines = new LineRewriter(new Rewriter(source.place), rules.columns);
  const there = rewriterOf(destination);
  return rows.flatMap((row): WrittenRow[] => {
    const before = row.map((value) => (value === null ? null : toBytes(value)));
    const rowClass = rules.classOf(before);
    if (rowClass !== 'authored' && rowClass !== 'collected') return [];
    const after = lines.rewriteRow(before, there);
    const changed = columns.flatMap((name, i) =>
      after[i] === before[i] ? [] : [[name, after[i] === null ? null : toText(after[i] as ByteString)] as const],
    );
    if (changed.length === 0) return [];
    const key = shape.key.map((name) => row[columns.indexOf(name)] ?? null);
    return [{ op: 'update', key, cells: Object.fromEntries(changed) }];
  });
}

/** How a row is named in messages. */
const nameOf = (shape: TableShape, key: readonly (string | null)[]): string =>
  shape.key.length === 0 ? 'a row' : key.map((value) => value ?? 'null').join(' ');

const shown = (value: string): string => (value.length > 60 ? `${value.slice(0, 57)}…` : value);

/** Cells that are longer than their columns, by the position of their row. */
function misfitsInLength(shape: TableShape, rows: readonly WrittenRow[]): Map<number, Misfit[]> {
  const limits = new Map(
    shape.columns.flatMap((column) => (column.maxLength === undefined ? [] : [[column.name, column.maxLength]])),
  );
  const found = new Map<number, Misfit[]>();
  for (const [i, row] of rows.entries()) {
    for (const [name, value] of Object.entries(row.cells)) {
      const limit = limits.get(name);
      if (limit === undefined || value === null) continue;
      // The server counts characters, and drops spaces at the end that do not fit.
      const length = [...value.trimEnd()].length;
      if (length <= limit) continue;
      const misfit = {
        table: profileName(shape),
        key: nameOf(shape, row.key),
        what: `${name} would be ${length} characters long and has room for ${limit}: "${shown(value)}"`,
      };
      found.set(i, [...(found.get(i) ?? []), misfit]);
    }
  }
  return found;
}

/** SQL for the rows as they would be: `~n` and `~op` tell them apart, and the other columns are the table's. */
const asWritten = (shape: TableShape): string => `
  SELECT s.n::int AS "~n", s.op AS "~op", (jsonb_populate_record(t, s.cells)).*
  FROM unnest($1::text[], $2::jsonb[], $3::jsonb[]) WITH ORDINALITY AS s(op, key, cells, n)
    CROSS JOIN LATERAL jsonb_populate_record(NULL::${quoteTable(shape)}, s.key) AS k
    LEFT JOIN ${quoteTable(shape)} t ON ${shape.key.map((name) => `t.${quoteName(name)} = k.${quoteName(name)}`).join(' AND ') || 'false'}`;

function parameters(shape: TableShape, rows: readonly WrittenRow[], columns: ReadonlySet<string>): unknown[] {
  const types = new Map(shape.columns.map((column) => [column.name, column.type]));
  const json = (cells: Iterable<readonly [string, string | null]>): string =>
    `{${[...cells]
      .map(([name, value]) => {
        const isJson = value !== null && /^jsonb?$/.test(types.get(name) ?? '');
        return `${JSON.stringify(name)}:${isJson ? value : JSON.stringify(value)}`;
      })
      .join(',')}}`;
  return [
    rows.map((row) => row.op),
    rows.map((row) => json(shape.key.map((name, i) => [name, row.key[i] ?? null]))),
    rows.map((row) => json(Object.entries(row.cells).filter(([name]) => columns.has(name)))),
  ];
}

/** Rows that are too long or break a check constraint. */
async function misfitsIn(
  client: pg.Client,
  shape: TableShape,
  constraints: readonly CheckConstraint[],
  rows: readonly WrittenRow[],
): Promise<Misfit[]> {
  const tooLong = misfitsInLength(shape, rows);
  const found = [...tooLong.values()].flat();
  const written = rows.filter((row, i) => row.op !== 'delete' && !tooLong.has(i));
  if (constraints.length === 0 || shape.key.length === 0) return found;
  const columns = new Set(constraints.flatMap((one) => one.columns));
  const broken = constraints.map((one, i) => `CASE WHEN NOT (${one.expression}) THEN ${i} END`).join(', ');
  for (let at = 0; at < written.length && found.length < MOST; at += BATCH) {
    const batch = written.slice(at, at + BATCH);
    const result = await client.query<{ n: number; broken: number[] }>(
      `SELECT "~n" AS n, array_remove(ARRAY[${broken}], NULL) AS broken FROM (${asWritten(shape)}) w
       WHERE cardinality(array_remove(ARRAY[${broken}], NULL)) > 0 LIMIT ${MOST}`,
      parameters(shape, batch, columns),
    );
    for (const { n, broken: numbers } of result.rows)
      for (const number of numbers)
        found.push({
          table: profileName(shape),
          key: nameOf(shape, (batch[n - 1] as WrittenRow).key),
          what: `breaks the constraint "${constraints[number]?.name}": ${constraints[number]?.expression}`,
        });
  }
  return found;
}

/** Written rows whose unique values another row has, or another written row gets. */
async function takenValues(client: pg.Client, shape: TableShape, rows: readonly WrittenRow[]): Promise<Misfit[]> {
  const found: Misfit[] = [];
  for (const { columns } of await uniqueIndexes(client, shape)) {
    const mayCollide = rows.some((row) => columns.some((name) => name in row.cells));
    if (!mayCollide) continue;
    const same = (a: string, b: string): string =>
      columns.map((name) => `${a}.${quoteName(name)} = ${b}.${quoteName(name)}`).join(' AND ');
    const sameKey = (a: string, b: string): string =>
      shape.key.map((name) => `${a}.${quoteName(name)} = ${b}.${quoteName(name)}`).join(' AND ');
    const keyOf = (a: string): string => shape.key.map((name) => `${a}.${quoteName(name)}::text`).join(` || ' ' || `);
    const value = columns.map((name) => `w.${quoteName(name)}::text`).join(` || ', ' || `);
    const result = await client.query<{ n: number; value: string; holder: string; own: boolean }>(
      `WITH w AS MATERIALIZED (${asWritten(shape)})
       SELECT w."~n" AS n, ${value} AS value, ${keyOf('t')} AS holder, false AS own
       FROM w JOIN ${quoteTable(shape)} t ON ${same('t', 'w')}
       WHERE w."~op" <> 'delete' AND NOT EXISTS (SELECT 1 FROM w AS o WHERE ${sameKey('o', 't')})
       UNION ALL
       SELECT w."~n", ${value}, ${keyOf('o')}, true FROM w JOIN w AS o ON ${same('o', 'w')} AND w."~n" < o."~n"
       WHERE w."~op" <> 'delete' AND o."~op" <> 'delete' LIMIT ${MOST}`,
      parameters(shape, rows, new Set([...columns, ...shape.key])),
    );
    for (const { n, value: taken, holder, own } of result.rows)
      found.push({
        table: profileName(shape),
        key: nameOf(shape, (rows[n - 1] as WrittenRow).key),
        what: `wants the ${columns.join(', ')} "${shown(taken)}", which ${own ? `${holder} wants too` : `${holder} has`}`,
      });
  }
  return found;
}

/** A misfit as a sentence. */
export const misfitText = ({ table, key, what }: Misfit): string => `${table} ${key}: ${what}`;
