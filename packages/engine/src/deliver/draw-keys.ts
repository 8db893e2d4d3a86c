import { type ByteString, type FreshKey, toText } from '@tessarion/core';
import type { Environment } from '../site/environment.js';

/**
 * Draws keys for new rows from the counters of their own tables, as the site itself would.
 *
 * @returns a key for every placeholder
 * @throws {EngineError} `outdated` when a table has no counter any more
 */
export async function drawKeys(
  environment: Environment,
  wanted: readonly FreshKey[],
): Promise<ReadonlyMap<ByteString, ByteString>> {
  const drawn = new Map<ByteString, ByteString>();
  for (const table of new Set(wanted.map((one) => one.table))) {
    const database = environment.databases.find((one) => one.name === table.name.database);
    const own = wanted.filter((one) => one.table === table);
    const avoid = new Set(own.flatMap((one) => [...one.avoid]));
    const column = toText(table.key[0] as string);
    const keys = await database?.system.drawKeys(database, table.name, column, own.length, avoid);
    for (const [i, { placeholder }] of own.entries()) drawn.set(placeholder, keys?.[i] as ByteString);
  }
  return drawn;
}
