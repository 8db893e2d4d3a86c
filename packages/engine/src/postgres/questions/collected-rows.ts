import { rulesForTable, tableLabel } from '@tessarion/core';
import type { Environment } from '../../site/environment.js';
import { describeSchema, quoteName, quoteTable } from '../describe.js';
import { borrowSession } from '../sessions.js';

/** What a collected table holds at one moment: enough to tell later whether each of its rows is still there. */
export interface CollectedRows {
  readonly database: string;
  readonly table: string;
  readonly rows: number;
  /** The highest key and a sum over the keys' hashes; null where the key is not one integer column. */
  readonly keys: { readonly highest: string; readonly sum: string } | null;
}

/** How a collected table compares with what it held before. */
export interface CollectedProof {
  readonly table: string;
  readonly before: number;
  readonly now: number;
  /** `each`: every single row of before is there; `count`: there are no fewer; `fewer`: some are gone. */
  readonly holds: 'each' | 'count' | 'fewer';
}

/** The sum does not depend on the order of rows, and another set of keys has another one. */
const sumOf = (key: string, condition = ''): string =>
  `(sum(hashint8extended(${key}::int8, 20261123)::numeric)${condition})::text`;

/** Counts the collected tables of an environment, and takes down which rows they hold. */
export async function collectedRows(environment: Environment): Promise<CollectedRows[]> {
  const found: CollectedRows[] = [];
  for (const { name: database, login } of environment.databases) {
    const client = await borrowSession(login, 'read', 'proof');
    try {
      for (const shape of (await describeSchema(client, database)).tables) {
        const table = tableLabel(shape);
        if (rulesForTable(environment.profile, shape, []).class !== 'collected') continue;
        const key =
          shape.key.length === 1 && shape.keyOrders[0] === 'integer' ? quoteName(shape.key[0] as string) : undefined;
        const counted = await client.query<{ rows: string; highest: string | null; sum: string | null }>(
          key === undefined
            ? `SELECT count(*)::text AS rows, NULL AS highest, NULL AS sum FROM ${quoteTable(shape)}`
            : `SELECT count(*)::text AS rows, max(${key})::text AS highest, ${sumOf(key)} AS sum FROM ${quoteTable(shape)}`,
        );
        const [row] = counted.rows;
        found.push({
          database,
          table,
          rows: Number(row?.rows ?? 0),
          keys: row?.highest != null && row.sum !== null ? { highest: row.highest, sum: row.sum } : null,
        });
      }
    } finally {
      await client.giveBack();
    }
  }
  return found;
}

/** Looks at the collected tables again: whether each row of before is there, whatever came meanwhile. */
export async function proveCollected(
  environment: Environment,
  before: readonly CollectedRows[],
): Promise<CollectedProof[]> {
  const found: CollectedProof[] = [];
  for (const { name: database, login } of environment.databases) {
    const own = before.filter((one) => one.database === database);
    if (own.length === 0) continue;
    const client = await borrowSession(login, 'read', 'proof');
    try {
      const { tables } = await describeSchema(client, database);
      for (const { table, rows, keys } of own) {
        const shape = tables.find((one) => tableLabel(one) === table);
        const key = keys && shape ? quoteName(shape.key[0] as string) : undefined;
        if (!shape) {
          found.push({ table, before: rows, now: 0, holds: 'fewer' });
          continue;
        }
        const counted = await client.query<{ now: string; former: string | null; sum: string | null }>(
          key === undefined
            ? `SELECT count(*)::text AS now, NULL AS former, NULL AS sum FROM ${quoteTable(shape)}`
            : `SELECT count(*)::text AS now, (count(*) FILTER (WHERE ${key} <= $1::int8))::text AS former,
                ${sumOf(key, ` FILTER (WHERE ${key} <= $1::int8)`)} AS sum FROM ${quoteTable(shape)}`,
          key === undefined ? [] : [keys?.highest],
        );
        const now = Number(counted.rows[0]?.now ?? 0);
        const isEach = keys !== null && counted.rows[0]?.sum === keys.sum;
        const holds = rows === 0 || isEach ? 'each' : now < rows || keys !== null ? 'fewer' : 'count';
        found.push({ table, before: rows, now, holds });
      }
    } finally {
      await client.giveBack();
    }
  }
  return found;
}
