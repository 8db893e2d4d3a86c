import { join } from 'node:path';
import pg from 'pg';
import { readConfig } from './config.js';

export interface ServerLogin {
  readonly host: string;
  readonly port: number;
  readonly user: string;
  readonly password: string;
}

/** Makes an empty database with a login of its own, as a web host does for a new customer. */
export async function makeDatabase(server: ServerLogin, name: string, password: string): Promise<void> {
  const client = new pg.Client({ ...server, database: 'postgres' });
  await client.connect();
  try {
    await client.query(`CREATE ROLE "${name}" LOGIN PASSWORD '${password}' CONNECTION LIMIT 60`);
    await client.query(`CREATE DATABASE "${name}" OWNER "${name}" TEMPLATE template0`);
    await client.query(`REVOKE ALL ON DATABASE "${name}" FROM PUBLIC`);
  } finally {
    await client.end();
  }
}

/** Runs statements on a site's database, with the login that stands in its settings. */
export async function onDatabase(
  folder: string,
  work: (query: (sql: string, values?: unknown[]) => Promise<Record<string, unknown>[]>) => Promise<void>,
): Promise<void> {
  const { name, ...login } = readConfig(join(folder, 'main')).database;
  const client = new pg.Client({ ...login, database: name });
  await client.connect();
  try {
    await work(async (sql, values) => (await client.query(sql, values)).rows as Record<string, unknown>[]);
  } finally {
    await client.end();
  }
}
