import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { PrivateCluster } from '@tessarion/cluster';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { startCluster } from '../../../tests/support/clusters.js';
import { migrate } from '../src/ground/migrations.js';
import { openRecords, type Records } from '../src/ground/open.js';

const SCHEMA = new URL('../src/ground/schema.sql', import.meta.url);
const HEAD = `-- The records' tables as all migrations make them. Written by TESSARION_WRITE_SCHEMA=1 npx vitest run
-- packages/service/test/schema.test.ts, which holds this file to the migrations; nothing reads it.
`;

let folder: string;
let cluster: PrivateCluster;
let records: Records;

beforeAll(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-schema-'));
  await fs.chmod(folder, 0o711);
  const started = await startCluster(join(folder, 'cluster'));
  cluster = started.cluster;
  const { host, port, user, password } = started.access;
  records = openRecords(`postgres://${user}:${password}@${host}:${port}/postgres`);
  await migrate(records);
});
afterAll(async () => {
  await records?.destroy();
  await cluster?.stop('immediate');
  await fs.rm(cluster.folder, { recursive: true, force: true });
  await fs.rm(folder, { recursive: true, force: true });
});

/** The tables as SQL, each with its columns, constraints and indexes, in one order whatever made them. */
async function schemaOf(on: Records): Promise<string> {
  const { rows } = await on.raw<{
    rows: { name: string; columns: string[]; constraints: string[]; indexes: string[] }[];
  }>(`
    SELECT c.relname AS name,
      ARRAY(SELECT quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod)
          || CASE a.attidentity WHEN 'a' THEN ' GENERATED ALWAYS AS IDENTITY' ELSE '' END
          || coalesce(' DEFAULT ' || pg_get_expr(d.adbin, d.adrelid), '') || CASE WHEN a.attnotnull THEN ' NOT NULL' ELSE '' END
        FROM pg_attribute a LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
        WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum) AS columns,
      ARRAY(SELECT 'CONSTRAINT ' || quote_ident(conname) || ' ' || pg_get_constraintdef(k.oid)
        FROM pg_constraint k WHERE k.conrelid = c.oid AND k.contype IN ('p', 'u', 'c', 'f') ORDER BY k.contype <> 'p', conname) AS constraints,
      ARRAY(SELECT pg_get_indexdef(i.indexrelid) || ';' FROM pg_index i WHERE i.indrelid = c.oid
          AND NOT EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.conrelid = c.oid) ORDER BY 1) AS indexes
    FROM pg_class c WHERE c.relkind = 'r' AND c.relnamespace = 'public'::regnamespace AND c.relname NOT LIKE 'knex%' ORDER BY c.relname`);
  const table = ({ name, columns, constraints, indexes }: (typeof rows)[0]): string =>
    [`CREATE TABLE ${name} (\n  ${[...columns, ...constraints].join(',\n  ')}\n);`, ...indexes].join('\n');
  return `${HEAD}\n${rows.map(table).join('\n\n')}\n`;
}

it('is told by schema.sql', async () => {
  const made = await schemaOf(records);
  if (process.env.TESSARION_WRITE_SCHEMA) await fs.writeFile(SCHEMA, made);
  expect(await fs.readFile(SCHEMA, 'utf8')).toBe(made);
});

it('is made by migrations whose files go by their numbers', async () => {
  const files = await fs.readdir(new URL('../src/ground/migrations/', import.meta.url));
  const numbers = files.map((file) => Number(/^(\d{3})-[a-z-]+\.ts$/.exec(file)?.[1]));
  expect(numbers.every(Number.isInteger)).toBe(true);
  expect(new Set(numbers).size).toBe(numbers.length);
  const { rows } = await records.raw<{ rows: { name: string }[] }>('SELECT name FROM knex_migrations ORDER BY id');
  expect(rows.map(({ name }) => Number(name.slice(0, 3)))).toEqual(rows.map((_row, i) => i + 1));
});
