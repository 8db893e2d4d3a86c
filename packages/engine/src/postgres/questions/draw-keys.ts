import { type ByteString, type FreshKey, tableLabel, toBytes, toText } from '@tessarion/core';
import { EngineError } from '../../ports/errors.js';
import type { Environment } from '../../site/environment.js';
import { quoteName, quoteTable } from '../describe.js';
import { borrowSession } from '../sessions.js';

/**
 * Draws keys for new rows from the counters of their own tables, as the site itself would. Keys that rows have, or
 * that others bring along, are passed over.
 *
 * @returns a key for every placeholder
 * @throws {EngineError} `outdated` when a table has no counter any more
 */
export async function drawKeys(
  environment: Environment,
  wanted: readonly FreshKey[],
): Promise<ReadonlyMap<ByteString, ByteString>> {
  const drawn = new Map<ByteString, ByteString>();
  for (const { name, login } of environment.databases) {
    const own = wanted.filter((one) => one.table.name.database === name);
    if (own.length === 0) continue;
    const client = await borrowSession(login, 'write', 'keys');
    try {
      for (const table of new Set(own.map((one) => one.table))) {
        const quoted = quoteTable(table.name);
        const column = toText(table.key[0] as string);
        const sequence = await client.query<{ name: string | null }>(
          'SELECT pg_catalog.pg_get_serial_sequence($1, $2) AS name',
          [quoted, column],
        );
        const counter = sequence.rows[0]?.name;
        if (!counter)
          throw new EngineError(
            'outdated',
            `${tableLabel(table.name)}.${column} has no counter any more.`,
            'Make a new forecast.',
          );
        for (const { placeholder, avoid } of own.filter((one) => one.table === table)) {
          let key: string | undefined;
          while (key === undefined) {
            const next = await client.query<{ key: string; taken: boolean }>(
              `SELECT n.key::text, EXISTS (SELECT 1 FROM ${quoted} t WHERE t.${quoteName(column)} = n.key) AS taken FROM nextval($1::regclass) AS n(key)`,
              [counter],
            );
            const one = next.rows[0];
            if (one && !one.taken && !avoid.has(one.key)) key = one.key;
          }
          drawn.set(placeholder, toBytes(key));
        }
      }
    } finally {
      await client.giveBack();
    }
  }
  return drawn;
}
