import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { PrivateCluster } from '@tessarion/cluster';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { tried } from '../../../tests/attacks/tried.js';
import { startCluster } from '../../../tests/support/clusters.js';
import type { DatabaseLogin } from '../src/ports/shapes.js';
import { PostgresAdmin } from '../src/postgres/administration.js';
import { databaseError } from '../src/postgres/connect.js';
import { PostgresLoader } from '../src/postgres/loader.js';
import { statementsOf, wantedEntries } from '../src/postgres/schema-sql.js';
import { PostgresView } from '../src/postgres/view.js';

let folder: string;
let cluster: PrivateCluster;
let admin: PostgresAdmin;
let server: { host: string; port: number; user: string; password: string };
let number = 0;

beforeAll(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-hostile-'));
  await fs.chmod(folder, 0o711);
  ({ cluster, access: server } = await startCluster(join(folder, 'cluster')));
  admin = new PostgresAdmin({ ...server, database: 'postgres' });
}, 60_000);
afterAll(async () => {
  await cluster?.stop('immediate');
  await fs.rm(cluster.folder, { recursive: true, force: true });
  await fs.rm(folder, { recursive: true, force: true });
});

async function fresh(): Promise<DatabaseLogin> {
  const name = `site_${number++}`;
  const login = { host: server.host, port: server.port, database: name, user: name, password: 'a password' };
  await admin.create(login);
  return login;
}

async function on<T>(login: DatabaseLogin, work: (client: pg.Client) => Promise<T>): Promise<T> {
  const client = new pg.Client(login);
  await client.connect();
  try {
    return await work(client);
  } finally {
    await client.end();
  }
}

/** Everything that a site's own login can say of its tables, as the server keeps it. */
const SAID = `SELECT coalesce(obj_description(c.oid), '') AS about, c.relname AS name, n.nspname AS schema,
    (SELECT json_agg(json_build_array(attname, col_description(c.oid, attnum)) ORDER BY attnum) FROM pg_attribute
      WHERE attrelid = c.oid AND attnum > 0) AS columns
  FROM pg_class c JOIN pg_namespace n ON n.oid = relnamespace
  WHERE relkind = 'r' AND nspname NOT LIKE 'pg\\_%' AND nspname <> 'information_schema' ORDER BY 2, 3`;
const FUNCTIONS = `SELECT proname AS name, prosrc AS body, obj_description(p.oid) AS about FROM pg_proc p
  JOIN pg_namespace n ON n.oid = pronamespace WHERE nspname NOT LIKE 'pg\\_%' AND nspname <> 'information_schema' ORDER BY 1`;

describe('what a hostile site says of itself', () => {
  it('is copied word for word, and runs nothing', async () => {
    const ran = join(folder, 'ran');
    const shell = (i: number): string => `\\! touch ${ran}-${i}`;
    // Lines that a program which reads text by lines would take for its own.
    const lines = [
      `hours\nCOMMENT ON EXTENSION plpgsql`,
      `;\n${shell(1)}`,
      `';\n${shell(2)}\n'`,
      `\n\\unrestrict x\n${shell(3)}`,
      `\n\\restrict x\n${shell(4)}\n\\unrestrict x\n`,
      `\n-- Dumped from database version 15\n${shell(5)}`,
      `\nCREATE SCHEMA more;\n${shell(6)}`,
      `\n\\connect postgres\n\\copy (SELECT 1) TO PROGRAM 'touch ${ran}-7'\n`,
      `\\\\\n$$\n$tag$\n*/\n--\n${shell(8)}`,
      `\n\\.\n${shell(9)}\n`,
      `:name :'name' :"name" \\set x 1`,
    ];
    const source = await fresh();
    await on(source, async (client) => {
      await client.query('CREATE SCHEMA more');
      for (const [i, text] of lines.entries()) {
        tried('schemas');
        const name = client.escapeIdentifier(i % 2 ? `t${i}` : `t${i}${text}`.slice(0, 60));
        const schema = i % 3 === 0 ? 'more' : 'public';
        await client.query(`CREATE TABLE ${schema}.${name} (${client.escapeIdentifier(`c${text}`.slice(0, 60))} text)`);
        await client.query(`COMMENT ON TABLE ${schema}.${name} IS ${client.escapeLiteral(text)}`);
        await client.query(
          `COMMENT ON COLUMN ${schema}.${name}.${client.escapeIdentifier(`c${text}`.slice(0, 60))} IS ${client.escapeLiteral(text)}`,
        );
        await client.query(
          `CREATE FUNCTION f${i}() RETURNS text LANGUAGE sql AS ${client.escapeLiteral(`SELECT ${client.escapeLiteral(text)}`)}`,
        );
        await client.query(`COMMENT ON FUNCTION f${i}() IS ${client.escapeLiteral(text)}`);
      }
    });
    const copy = await fresh();
    const view = await PostgresView.open({ name: 'main', login: source });
    const loader = await PostgresLoader.open(copy);
    await loader.runSchema(await view.dumpSchema('before'));
    await loader.runSchema(await view.dumpSchema('after'));
    await loader.close();
    await view.close();
    for (const question of [SAID, FUNCTIONS]) {
      const [there, here] = [await on(source, (c) => c.query(question)), await on(copy, (c) => c.query(question))];
      expect(there.rows.length).toBe(lines.length);
      expect(here.rows).toEqual(there.rows);
    }
    expect((await fs.readdir(folder)).filter((name) => name.startsWith('ran'))).toEqual([]);
  });

  it('is the same text each time, so that it is stored once', async () => {
    const source = await fresh();
    await on(source, (client) => client.query('CREATE TABLE a (id int PRIMARY KEY)'));
    const texts: string[] = [];
    for (let i = 0; i < 2; i++) {
      const view = await PostgresView.open({ name: 'main', login: source });
      texts.push((await view.dumpSchema('before')).toString() + (await view.dumpSchema('after')));
      await view.close();
    }
    expect(texts[0]).toBe(texts[1]);
    expect(texts[0]).not.toContain('restrict');
  });

  it('is read by settings of ours, not by those of its database', async () => {
    const source = await fresh();
    await on(source, async (client) => {
      await client.query(`ALTER DATABASE ${source.database} SET standard_conforming_strings = off`);
      await client.query(`CREATE TABLE a (id int, word text DEFAULT E'it\\\\''s')`);
    });
    const copy = await fresh();
    await on(copy, (client) => client.query(`ALTER DATABASE ${copy.database} SET standard_conforming_strings = off`));
    const view = await PostgresView.open({ name: 'main', login: source });
    const loader = await PostgresLoader.open(copy);
    await loader.runSchema(await view.dumpSchema('before'));
    await loader.close();
    await view.close();
    const { rows } = await on(copy, (client) => client.query('INSERT INTO a VALUES (1) RETURNING word'));
    expect(rows).toEqual([{ word: "it\\'s" }]);
  });

  it('is never read from a program that does not mark what it wrote', () => {
    const head = '--\n-- PostgreSQL database dump\n--\n\n';
    for (const text of [
      '',
      `${head}SELECT 1;\n`,
      `${head}\\restrict abcdefghijklmnop\n\nSELECT 1;\n`,
      `${head}\\restrict abcdefghijklmnop\n\nSELECT 1;\n\\unrestrict another\n\n`,
      `SELECT 1;\n\\restrict abcdefghijklmnop\n\n\\unrestrict abcdefghijklmnop\n\n`,
    ])
      expect(() => statementsOf(Buffer.from(text))).toThrow('too old');
    const inner = 'SELECT 1;\n\\restrict other\n-- Dumped from database version 15\n';
    const text = `${head}\\restrict abcdefghijklmnop\n\n-- Dumped from database version 15.1\n-- Dumped by pg_dump version 15.1\n${inner}\\unrestrict abcdefghijklmnop\n\n`;
    expect(statementsOf(Buffer.from(text)).toString()).toBe(head + inner);
  });

  it('is chosen by the entries of its list', () => {
    const list = [
      ';',
      '; Archive created at 2026-11-30',
      '8; 2615 16386 SCHEMA - more site_0',
      '3452; 0 0 COMMENT - EXTENSION plpgsql ',
      '217; 1259 16387 TABLE more t0 site_0',
      '3453; 0 0 COMMENT more TABLE "COMMENT - EXTENSION" site_0',
      '3454; 0 0 COMMENT - SCHEMA more site_0',
    ];
    expect(wantedEntries(list.join('\n')).split('\n')).toEqual([list[0], list[1], list[4], list[5], list[6]]);
  });
});

describe('an error of a site’s database', () => {
  it.each<[string, string, string]>([
    ['NOT NULL', "INSERT INTO person VALUES (NULL, 'Ingrid', '1@post.example')", 'column "id" of relation "person"'],
    ['UNIQUE', "INSERT INTO person VALUES (2, 'Ingrid', 'known@post.example')", 'person_mail_key'],
    ['CHECK', "INSERT INTO person VALUES (3, 'Ingrid', 'Ingrid')", 'has_at'],
    ['a length', "INSERT INTO person VALUES (4, 'Ingrid Solheim of the ferry', '4@post.example')", '22001|varying'],
    ['a type', "INSERT INTO person (id) VALUES ('Ingrid')", 'integer'],
    ['a date', "SELECT 'Ingrid'::date", 'date'],
    ['a reference', 'INSERT INTO letter VALUES (77000077)', 'letter_person_fkey'],
    ['a function of its own', "SELECT shout('Ingrid')", 'function of the site'],
    ['a number', "SELECT 'Ingrid'::numeric", 'numeric'],
    ['JSON', 'SELECT \'{"Ingrid": Solheim}\'::jsonb', 'json'],
  ])('names what is wrong, and nobody: %s', async (_name, sql, names) => {
    const login = await fresh();
    await on(login, (client) =>
      client.query(
        `CREATE TABLE person (id int NOT NULL, name varchar(12), mail text UNIQUE CONSTRAINT has_at CHECK (mail LIKE '%@%'));
         CREATE UNIQUE INDEX person_id ON person (id);
         CREATE TABLE letter (person int REFERENCES person (id));
         INSERT INTO person VALUES (1, 'Ingrid', 'known@post.example');
         CREATE FUNCTION shout(who text) RETURNS text LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'not %', who; END $$;`,
      ),
    );
    tried('errors');
    const error = await on(login, (client) => client.query(sql)).catch((thrown: unknown) =>
      databaseError(thrown, login),
    );
    const { message, next, cause } = error as Error & { next: string };
    const everything = [message, next, String(cause), (cause as Error).stack, JSON.stringify(cause)].join('\n');
    expect(message).toMatch(new RegExp(names));
    expect(everything).not.toMatch(/Ingrid|Solheim|known@|post\.example|77000077/);
  });
});
