import { type ByteString, type TableName, tableLabel, toBytes } from '@tessarion/core';
import type { SiteDatabase } from '../../ports/database.js';
import { EngineError } from '../../ports/errors.js';
import { databaseError } from '../connect.js';
import { quoteName, quoteTable } from '../describe.js';
import { borrowSession } from '../sessions.js';

/** See {@link DatabaseSystem.drawKeys}. */
export async function drawKeys(
  { login }: SiteDatabase,
  table: TableName,
  column: string,
  many: number,
  avoid: ReadonlySet<string>,
): Promise<ByteString[]> {
  const client = await borrowSession(login, 'write', 'keys');
  try {
    const quoted = quoteTable(table);
    const sequence = await client.query<{ name: string | null }>(
      'SELECT pg_catalog.pg_get_serial_sequence($1, $2) AS name',
      [quoted, column],
    );
    const counter = sequence.rows[0]?.name;
    if (!counter)
      throw new EngineError(
        'outdated',
        `${tableLabel(table)}.${column} has no counter any more.`,
        'Make a new forecast.',
      );
    const drawn: ByteString[] = [];
    while (drawn.length < many) {
      const next = await client.query<{ key: string; taken: boolean }>(
        `SELECT n.key::text, EXISTS (SELECT 1 FROM ${quoted} t WHERE t.${quoteName(column)} = n.key) AS taken FROM nextval($1::regclass) AS n(key)`,
        [counter],
      );
      const [one] = next.rows;
      if (one && !one.taken && !avoid.has(one.key)) drawn.push(toBytes(one.key));
    }
    return drawn;
  } catch (error) {
    throw databaseError(error, login);
  } finally {
    await client.giveBack();
  }
}
