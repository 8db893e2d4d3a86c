import { finished } from 'node:stream/promises';
import type { ByteString } from '@tessarion/core';
import type pg from 'pg';
import { from as copyFrom } from 'pg-copy-streams';
import type { DatabaseLogin, SequenceShape } from '../ports/shapes.js';
import { connectTo, databaseError } from './connect.js';
import { quoteName, quoteTable } from './describe.js';

/** Fills a fresh database: tables, then rows, then what hangs on them. */
export class PostgresLoader {
  readonly #login: DatabaseLogin;
  readonly #client: pg.Client;

  private constructor(login: DatabaseLogin, client: pg.Client) {
    this.#login = login;
    this.#client = client;
  }

  static async open(login: DatabaseLogin): Promise<PostgresLoader> {
    const client = await connectTo(login, 'write', 'load');
    // Constraints find their functions as they do when the site writes; everything of ours is named in full.
    await client.query(
      'SET synchronous_commit = off; SET idle_in_transaction_session_timeout = 0; SET search_path TO DEFAULT',
    );
    return new PostgresLoader(login, client);
  }

  /**
   * Runs statements as `pg_dump` writes them, all or none: over the protocol, where nothing but SQL means anything. What
   * they set is gone with the session that they have for themselves.
   */
  async runSchema(sql: Buffer): Promise<void> {
    const client = await connectTo(this.#login, 'write', 'schema');
    try {
      await client.query("SET client_min_messages = 'warning'; SET maintenance_work_mem = '256MB'");
      await client.query(new TextDecoder('utf-8', { fatal: true }).decode(sql));
    } catch (error) {
      throw databaseError(error, this.#login);
    } finally {
      await client.end().catch(() => undefined);
    }
  }

  /** Loads rows given as batches of COPY lines. @returns rows loaded */
  async loadRows(
    table: { schema: string; name: string },
    columns: readonly string[],
    batches: AsyncIterable<ByteString>,
  ): Promise<number> {
    if (columns.length === 0) return 0;
    const stream = this.#client.query(
      copyFrom(`COPY ${quoteTable(table)} (${columns.map(quoteName).join(', ')}) FROM STDIN`),
    );
    const done = finished(stream);
    done.catch(() => undefined);
    try {
      for await (const batch of batches) {
        if (!stream.write(Buffer.from(batch, 'latin1')))
          await Promise.race([new Promise<void>((resolve) => stream.once('drain', resolve)), done]);
      }
      stream.end();
      await done;
      return stream.rowCount;
    } catch (error) {
      stream.destroy();
      throw databaseError(error, this.#login);
    }
  }

  async setSequences(sequences: readonly Pick<SequenceShape, 'schema' | 'name' | 'last' | 'called'>[]): Promise<void> {
    for (const one of sequences)
      await this.#client.query('SELECT setval($1::regclass, $2::bigint, $3)', [quoteTable(one), one.last, one.called]);
  }

  async close(): Promise<void> {
    await this.#client.end().catch(() => undefined);
  }
}

/** Tables of the site's own, parted ones and stored views among them; the server's come with statistics. */
const TO_ANALYZE = `SELECT string_agg(format('%I.%I', nspname, relname), ', ') AS tables
  FROM pg_class c JOIN pg_namespace n ON n.oid = relnamespace
  WHERE relkind IN ('r', 'p', 'm') AND relpersistence <> 't' AND pg_has_role(relowner, 'USAGE')
    AND nspname NOT LIKE 'pg\\_%' AND nspname <> 'information_schema'`;

/** Refreshes the planner's statistics of a site's tables, without which a fresh database is slow. */
export async function refreshStatistics(login: DatabaseLogin): Promise<void> {
  const client = await connectTo(login, 'write', 'statistics');
  try {
    const { rows } = await client.query<{ tables: string | null }>(TO_ANALYZE);
    if (rows[0]?.tables) await client.query(`ANALYZE ${rows[0].tables}`);
  } catch (error) {
    throw databaseError(error, login);
  } finally {
    await client.end().catch(() => undefined);
  }
}
