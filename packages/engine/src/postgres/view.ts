import { type ByteString, type KeyRange, tablePath } from '@tessarion/core';
import { to as copyTo } from 'pg-copy-streams';
import type { DatabaseView, ReadingMoment, SiteDatabase, WrittenSince } from '../ports/database.js';
import { type DatabaseLogin, readable, type SchemaShape, type TableShape } from '../ports/shapes.js';
import { runClient } from './client-program.js';
import { databaseError } from './connect.js';
import { describeSchema, listTables, quoteName, quoteTable } from './describe.js';
import { schemasSql, statementsOf, wantedEntries } from './schema-sql.js';
import { borrowSession, type Session } from './sessions.js';

/** Reads a PostgreSQL database as it is at one moment, without keeping its visitors from writing. */
export class PostgresView implements DatabaseView {
  readonly #client: Session;
  readonly #login: DatabaseLogin;
  readonly #snapshot: string;
  readonly #idle: Session[] = [];
  /** What `pg_dump` says of the schema, asked once: both sections come from the same archive. */
  #archive: Promise<Buffer> | undefined;

  private constructor(
    login: DatabaseLogin,
    client: Session,
    snapshot: string,
    readonly schema: SchemaShape,
    readonly bytes: number,
  ) {
    this.#login = login;
    this.#client = client;
    this.#snapshot = snapshot;
  }

  /**
   * Opens a view. Every table is locked against dropping and truncating first (ACCESS SHARE, which holds up no
   * reader or writer): a table truncated meanwhile would read as empty.
   */
  static async open({ name, login }: Pick<SiteDatabase, 'name' | 'login'>): Promise<PostgresView> {
    const client = await borrowSession(login, 'read', 'read');
    try {
      await client.query("SET lock_timeout = '30s'");
      const tables = await listTables(client);
      await client.query('BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY');
      if (tables.length > 0) await client.query(`LOCK TABLE ${tables.map(quoteTable).join(', ')} IN ACCESS SHARE MODE`);
      const schema = await describeSchema(client, name);
      const size = await client.query<{ bytes: string }>('SELECT pg_database_size(current_database())::text AS bytes');
      const snapshot = await client.query<{ id: string }>('SELECT pg_export_snapshot() AS id');
      return new PostgresView(login, client, snapshot.rows[0]?.id as string, schema, Number(size.rows[0]?.bytes));
    } catch (error) {
      await client.giveBack();
      throw databaseError(error, login);
    }
  }

  async *readRows(table: TableShape, ranges?: readonly KeyRange[]): AsyncGenerator<ByteString> {
    const columns = readable(table)
      .map((column) => quoteName(column.name))
      .join(', ');
    const from = ranges ? `${rangeRows(table, ranges)} AS found` : `ONLY ${quoteTable(table)}`;
    const order = table.key
      .map((name, i) => (table.keyOrders[i] === 'integer' ? quoteName(name) : `${quoteName(name)}::text COLLATE "C"`))
      .join(', ');
    const reader = this.#idle.pop() ?? (await this.#reader());
    let isWhole = false;
    try {
      const stream = reader.query(
        copyTo(`COPY (SELECT ${columns} FROM ${from}${order ? ` ORDER BY ${order}` : ''}) TO STDOUT`),
      );
      yield* wholeLines(stream);
      isWhole = true;
    } catch (error) {
      throw databaseError(error, this.#login);
    } finally {
      // A reader that was left half-way still has rows to send; it cannot be used again.
      if (isWhole) this.#idle.push(reader);
      else await reader.end().catch(() => undefined);
    }
  }

  async countRows(table: TableShape): Promise<number> {
    const result = await this.#client.query<{ count: string }>(
      `SELECT count(*)::text AS count FROM ONLY ${quoteTable(table)}`,
    );
    return Number(result.rows[0]?.count);
  }

  async moment(): Promise<ReadingMoment | undefined> {
    const allowed = await this.#client.query<{ yes: boolean }>(MAY_TELL_MOMENT);
    if (!allowed.rows[0]?.yes) return undefined;
    const moment = await this.#client.query<Omit<ReadingMoment, 'tables'>>(MOMENT);
    const tables = await this.#client.query<{ schema: string; name: string; identity: string }>(TABLE_IDENTITIES);
    return {
      ...(moment.rows[0] as Omit<ReadingMoment, 'tables'>),
      tables: new Map(tables.rows.map((one) => [tablePath(one), one.identity])),
    };
  }

  async writtenSince(table: TableShape, since: string, most: number): Promise<WrittenSince> {
    if (most === 0) return this.#countWritten(table, since);
    const key = table.keyOrders.length === 1 && table.keyOrders[0] === 'integer' ? table.key[0] : undefined;
    const result = await this.#client.query<{ rows: string; written: string; keys: string[] | null }>(
      `SELECT rows, cardinality(written) AS written, CASE WHEN cardinality(written) <= $2 THEN written END AS keys
        FROM (SELECT count(*) AS rows, coalesce(array_agg(${key === undefined ? "''::text" : `${quoteName(key)}::text`}) FILTER (WHERE ${WRITTEN_SINCE}), '{}') AS written
          FROM ONLY ${quoteTable(table)}) AS found`,
      [since, most],
    );
    const { rows, written, keys } = result.rows[0] as { rows: string; written: string; keys: string[] | null };
    return {
      rows: Number(rows),
      written: Number(written),
      keys: key === undefined ? 'too many' : (keys ?? 'too many'),
    };
  }

  async #countWritten(table: TableShape, since: string): Promise<WrittenSince> {
    const result = await this.#client.query<{ rows: string; written: string }>(
      `SELECT count(*) AS rows, count(*) FILTER (WHERE ${WRITTEN_SINCE}) AS written FROM ONLY ${quoteTable(table)}`,
      [since],
    );
    const [rows, written] = [Number(result.rows[0]?.rows), Number(result.rows[0]?.written)];
    return { rows, written, keys: written === 0 ? [] : 'too many' };
  }

  async countStill(table: TableShape, bounds: readonly ByteString[], since: string): Promise<number[]> {
    const counts: number[] = new Array(bounds.length + 1).fill(0);
    const result = await this.#client.query<[number, string]>({
      text: `SELECT width_bucket(${quoteName(table.key[0] as string)}::bigint, $2::bigint[]), count(*)
        FROM ONLY ${quoteTable(table)} WHERE NOT ${WRITTEN_SINCE} GROUP BY 1`,
      values: [since, `{${bounds.join(',')}}`],
      rowMode: 'array',
    });
    for (const [range, rows] of result.rows) counts[range] = Number(rows);
    return counts;
  }

  async heldKeys(table: TableShape, keys: readonly ByteString[]): Promise<ByteString[]> {
    if (keys.length === 0) return [];
    const key = quoteName(table.key[0] as string);
    const result = await this.#client.query<[string]>({
      text: `SELECT ${key}::text FROM ONLY ${quoteTable(table)} WHERE ${key} = ANY ($1::bigint[])`,
      values: [`{${keys.join(',')}}`],
      rowMode: 'array',
    });
    return result.rows.map(([held]) => held);
  }

  async #reader(): Promise<Session> {
    const reader = await borrowSession(this.#login, 'read', 'read rows');
    await reader.query('BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY');
    await reader.query(`SET TRANSACTION SNAPSHOT '${this.#snapshot}'`);
    return reader;
  }

  async dumpSchema(section: 'before' | 'after'): Promise<Buffer> {
    this.#archive ??= runClient(
      'pg_dump',
      [
        '--schema-only',
        '--format=custom',
        '--compress=0',
        '--encoding=UTF8',
        ...NOBODYS,
        `--snapshot=${this.#snapshot}`,
      ],
      this.#login,
    );
    const input = await this.#archive;
    const own = `--section=${section === 'before' ? 'pre-data' : 'post-data'}`;
    const list = wantedEntries((await runClient('pg_restore', [own, '--list'], undefined, { input })).toString());
    const args = [own, ...NOBODYS, '--use-list=/dev/fd/3', '--file=-'];
    const statements = statementsOf(await runClient('pg_restore', args, undefined, { input, list }));
    if (section === 'after') return statements;
    const { rows } = await this.#client.query<{ name: string }>(SCHEMAS);
    return Buffer.concat([schemasSql(rows.map(({ name }) => name)), statements]);
  }

  async close(): Promise<void> {
    await Promise.all([...this.#idle.splice(0), this.#client].map((session) => session.giveBack()));
  }
}

/** Schemas of the site's own; those that an extension makes come with it. */
const SCHEMAS = `SELECT nspname::text AS name FROM pg_catalog.pg_namespace n
  WHERE nspname NOT LIKE 'pg\\_%' AND nspname <> 'information_schema' AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend d
    WHERE d.classid = 'pg_catalog.pg_namespace'::pg_catalog.regclass AND d.objid = n.oid AND d.deptype = 'e')
  ORDER BY 1`;

/** What is made belongs to whoever makes it. */
const NOBODYS = ['--no-owner', '--no-privileges', '--no-subscriptions', '--no-publications'] as const;

/** A row's version is the lower half of its transaction's number. */
const XIDS = 2 ** 32;

/** Whether a row was written since the transaction `$1`. */
const WRITTEN_SINCE = `(age(xmin) <= (SELECT age(($1::bigint % ${XIDS})::text::xid)))`;

const MAY_TELL_MOMENT = `SELECT has_function_privilege('pg_catalog.pg_control_system()', 'EXECUTE')
  AND has_function_privilege('pg_catalog.pg_control_checkpoint()', 'EXECUTE') AS yes`;

/**
 * A cluster set back to an earlier moment counts its transactions anew, on another timeline. One that died may give numbers
 * again that it had not yet written down; it begins its statistics anew then, too.
 */
const MOMENT = `SELECT pg_snapshot_xmin(pg_current_snapshot())::text AS transaction,
  pg_snapshot_xmax(pg_current_snapshot())::text AS next,
  (SELECT system_identifier FROM pg_control_system()) || '/' || (SELECT timeline_id FROM pg_control_checkpoint())
    || '/' || (SELECT oid FROM pg_database WHERE datname = current_database())
    || '/' || coalesce((SELECT stats_reset FROM pg_stat_bgwriter)::text, '') AS database`;

/** Adding a column with a default changes what rows hold and no row's version. */
const TABLE_IDENTITIES = `SELECT n.nspname AS schema, c.relname AS name,
    c.oid || '/' || c.relfilenode || '/' || (SELECT string_agg(a.attnum || ' ' || a.attname || ' ' || a.atttypid || ' ' || a.atttypmod, ',' ORDER BY a.attnum)
      FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped) AS identity
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'r' AND n.nspname NOT LIKE 'pg\\_%'`;

const [LEAST, MOST] = ['-9223372036854775808', '9223372036854775807'];

/**
 * The rows of a table in some ranges of its key, each looked up by the key's index: OFFSET keeps the planner from
 * comparing every row with every range.
 */
function rangeRows(table: TableShape, ranges: readonly KeyRange[]): string {
  const key = quoteName(table.key[0] as string);
  const list = (keys: readonly string[]): string => `'{${keys.join(',')}}'::bigint[]`;
  const from = list(ranges.map((range) => range.from ?? LEAST));
  const to = list(ranges.map((range) => (range.to === undefined ? MOST : (BigInt(range.to) - 1n).toString())));
  return `(SELECT found.* FROM unnest(${from}, ${to}) AS range(first, last)
    CROSS JOIN LATERAL (SELECT * FROM ONLY ${quoteTable(table)} WHERE ${key} BETWEEN range.first AND range.last OFFSET 0) AS found)`;
}

// Strings above 128 KiB are large objects to the engine, whose collection costs more than their work.
const BATCH_BYTES = 64 * 1024;

/** Joins a stream of buffers into batches of whole lines. */
async function* wholeLines(stream: AsyncIterable<Buffer>): AsyncGenerator<ByteString> {
  // A line may be as long as a value: only what comes is searched for its end.
  let parts: ByteString[] = [];
  let length = 0;
  for await (const chunk of stream) {
    const text = chunk.toString('latin1');
    length += text.length;
    const end = length < BATCH_BYTES ? 0 : text.lastIndexOf('\n') + 1;
    if (end === 0) {
      parts.push(text);
      continue;
    }
    yield parts.join('') + text.slice(0, end);
    parts = [text.slice(end)];
    length = text.length - end;
  }
  if (length > 0) yield parts.join('');
}
