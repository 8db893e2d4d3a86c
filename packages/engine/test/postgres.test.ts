import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { PrivateCluster } from '@tessarion/cluster';
import fc from 'fast-check';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { startCluster } from '../../../tests/support/clusters.js';
import type { DatabaseLogin, TableShape } from '../src/ports/shapes.js';
import type { PostgresLikeness } from '../src/postgres/administration.js';
import { PLAIN_DATABASE, PostgresAdmin } from '../src/postgres/administration.js';
import { PostgresLoader } from '../src/postgres/loader.js';
import { storedPassword } from '../src/postgres/stored-password.js';
import { PostgresView } from '../src/postgres/view.js';

let folder: string;
let cluster: PrivateCluster;
let admin: PostgresAdmin;
let server: { host: string; port: number; user: string; password: string };
let number = 0;

const openView = (to: DatabaseLogin): Promise<PostgresView> => PostgresView.open({ name: 'main', login: to });

beforeAll(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-pg-'));
  await fs.chmod(folder, 0o711);
  ({ cluster, access: server } = await startCluster(join(folder, 'cluster')));
  admin = new PostgresAdmin({ ...server, database: 'postgres' });
}, 60_000);
afterAll(async () => {
  await cluster?.stop('immediate');
  await fs.rm(cluster.folder, { recursive: true, force: true });
  await fs.rm(folder, { recursive: true, force: true });
});

async function fresh(sql = ''): Promise<{ login: DatabaseLogin; run: (sql: string) => Promise<pg.QueryResult> }> {
  const name = `site_${number++}`;
  const login = { host: server.host, port: server.port, database: name, user: name, password: 'a password' };
  await admin.create(login);
  const run = async (statement: string): Promise<pg.QueryResult> => {
    const client = new pg.Client(login);
    await client.connect();
    try {
      return await client.query(statement);
    } finally {
      await client.end();
    }
  };
  if (sql !== '') await run(sql);
  return { login, run };
}

const table = (view: PostgresView, name: string): TableShape =>
  view.schema.tables.find((one) => one.name === name) as TableShape;

async function rows(view: PostgresView, name: string): Promise<string[]> {
  let all = '';
  for await (const lines of view.readRows(table(view, name))) {
    expect(lines.endsWith('\n')).toBe(true);
    all += lines;
  }
  return all.split('\n').slice(0, -1);
}

describe('a view of a database', () => {
  it('shows one moment, whatever is written meanwhile', async () => {
    const { login, run } = await fresh(
      'CREATE TABLE a (id int PRIMARY KEY); CREATE TABLE b (id int PRIMARY KEY); INSERT INTO a SELECT generate_series(1, 100)',
    );
    const view = await openView(login);
    await run('INSERT INTO a VALUES (101); DELETE FROM a WHERE id < 50; INSERT INTO b VALUES (1)');
    expect((await rows(view, 'a')).length).toBe(100);
    expect(await rows(view, 'b')).toEqual([]);
    expect(await view.countRows(table(view, 'a'))).toBe(100);
    await view.close();
  });

  it('lets visitors write and keeps tables from being truncated or dropped', async () => {
    const { login, run } = await fresh('CREATE TABLE a (id int PRIMARY KEY); INSERT INTO a VALUES (1)');
    const view = await openView(login);
    await run('UPDATE a SET id = 2');
    await expect(run("SET lock_timeout = '200ms'; TRUNCATE a")).rejects.toThrow(/lock timeout/);
    await expect(run("SET lock_timeout = '200ms'; DROP TABLE a")).rejects.toThrow(/lock timeout/);
    await view.close();
    await run('TRUNCATE a');
  });

  it('orders integer keys by value and all others by their bytes, whatever the collation', async () => {
    const { login } = await fresh(`
      CREATE TABLE n (id bigint PRIMARY KEY); INSERT INTO n VALUES (10), (9), (-1), (9223372036854775807), (100);
      CREATE TABLE t (id text PRIMARY KEY); INSERT INTO t VALUES ('b'), ('B'), ('a'), ('Z'), ('é'), ('10'), ('9'), ('_');
      CREATE TABLE two (a text, b int, PRIMARY KEY (a, b)); INSERT INTO two VALUES ('x', 10), ('x', 9), ('X', 1);`);
    const view = await openView(login);
    expect(await rows(view, 'n')).toEqual(['-1', '9', '10', '100', '9223372036854775807']);
    expect((await rows(view, 't')).map((line) => Buffer.from(line, 'latin1').toString())).toEqual([
      '10',
      '9',
      'B',
      'Z',
      '_',
      'a',
      'b',
      'é',
    ]);
    expect(await rows(view, 'two')).toEqual(['X\t1', 'x\t9', 'x\t10']);
    await view.close();
  });

  it('passes over generated columns and keeps times and floats exact, whatever the session says', async () => {
    const { login, run } = await fresh(`
      CREATE TABLE v (id int PRIMARY KEY, price numeric(12,4), f double precision, r real, at timestamptz, d date,
        twice int GENERATED ALWAYS AS (id * 2) STORED);
      INSERT INTO v VALUES (1, 1.5000, 0.1, 0.1, '2026-03-29 01:30:00+00', '2026-01-31'), (2, NULL, 'NaN', '-Infinity', 'infinity', NULL)`);
    await run(
      `ALTER ROLE ${login.user} SET timezone = 'Asia/Kathmandu'; ALTER ROLE ${login.user} SET datestyle = 'German'; ALTER ROLE ${login.user} SET extra_float_digits = 0`,
    );
    const view = await openView(login);
    expect(await rows(view, 'v')).toEqual([
      '1\t1.5000\t0.1\t0.1\t2026-03-29 01:30:00+00\t2026-01-31',
      '2\t\\N\tNaN\t-Infinity\tinfinity\t\\N',
    ]);
    await view.close();
  });

  it('can be left half-way and used again', async () => {
    const { login } = await fresh(
      "CREATE TABLE a (id int PRIMARY KEY, t text); INSERT INTO a SELECT i, repeat('x', 500) FROM generate_series(1, 20000) i",
    );
    const view = await openView(login);
    for await (const lines of view.readRows(table(view, 'a'))) {
      expect(lines.length).toBeGreaterThan(0);
      break;
    }
    expect((await rows(view, 'a')).length).toBe(20_000);
    await view.close();
  });

  it('says plainly that a server does not answer, refuses, or dies in mid-reading', async () => {
    const { login } = await fresh(
      "CREATE TABLE a (id int PRIMARY KEY, t text); INSERT INTO a SELECT i, repeat('x', 1000) FROM generate_series(1, 30000) i",
    );
    await expect(openView({ ...login, port: 1 })).rejects.toMatchObject({ code: 'database-unreachable' });
    await expect(openView({ ...login, password: 'wrong' })).rejects.toMatchObject({
      code: 'database-refused',
    });
    await expect(openView({ ...login, database: 'no such' })).rejects.toMatchObject({
      code: 'database-refused',
    });
    const view = await openView(login);
    const reading = (async () => {
      let seen = 0;
      for await (const lines of view.readRows(table(view, 'a'))) {
        seen += lines.length;
        if (seen > 0 && seen < 200_000) {
          const client = new pg.Client({ ...server, database: 'postgres' });
          await client.connect();
          await client.query(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1 AND query LIKE 'COPY%'",
            [login.database],
          );
          await client.end();
        }
      }
    })();
    await expect(reading).rejects.toMatchObject({ code: 'database-unreachable' });
    await view.close();
  });
});

describe('loading rows', () => {
  it('brings back what was read, whatever the values are', async () => {
    const from = await fresh('CREATE TABLE a (id int PRIMARY KEY, t text, b bytea, n text)');
    const onto = await fresh('CREATE TABLE a (id int PRIMARY KEY, t text, b bytea, n text)');
    const text = fc.oneof(
      fc.string({ unit: 'binary' }).filter((value) => !value.includes('\0')),
      fc.constantFrom('\\N', '\\.', '\t', '\n', '\r\n', '\\', 'NULL', '', '"', "'"),
    );
    await fc.assert(
      fc.asyncProperty(fc.array(fc.tuple(text, fc.uint8Array(), fc.option(text)), { maxLength: 20 }), async (given) => {
        const client = new pg.Client(from.login);
        await client.connect();
        await client.query('TRUNCATE a');
        for (const [i, [t, b, n]] of given.entries())
          await client.query('INSERT INTO a VALUES ($1, $2, $3, $4)', [i, t, Buffer.from(b), n]);
        await client.end();
        await onto.run('TRUNCATE a');
        const view = await openView(from.login);
        const loader = await PostgresLoader.open(onto.login);
        const shape = table(view, 'a');
        expect(await loader.loadRows(shape, ['id', 't', 'b', 'n'], view.readRows(shape))).toBe(given.length);
        await loader.close();
        await view.close();
        const found = (await onto.run('SELECT t, b, n FROM a ORDER BY id')).rows;
        expect(found.map((row) => [row.t, [...row.b], row.n])).toEqual(given.map(([t, b, n]) => [t, [...b], n]));
      }),
      { numRuns: 12 },
    );
  });

  it('names the value that does not fit, and loads nothing of its table', async () => {
    const { login, run } = await fresh('CREATE TABLE a (id int PRIMARY KEY, link varchar(10))');
    const loader = await PostgresLoader.open(login);
    async function* lines(): AsyncGenerator<string> {
      yield '1\tshort\n2\tmuch longer than ten\n';
    }
    const failed = loader.loadRows({ schema: 'public', name: 'a' }, ['id', 'link'], lines());
    await expect(failed).rejects.toMatchObject({ code: 'value-too-long' });
    await expect(failed).rejects.toThrow(/\(a\.link, line 2 of what is loaded\)/);
    await loader.close();
    expect((await run('SELECT count(*)::int AS count FROM a')).rows[0].count).toBe(0);
  });

  it('ends when the rows stop coming with an error, and leaves the table empty', async () => {
    const { login, run } = await fresh('CREATE TABLE a (id int PRIMARY KEY)');
    const loader = await PostgresLoader.open(login);
    async function* lines(): AsyncGenerator<string> {
      yield '1\n';
      throw new Error('the source is gone');
    }
    await expect(loader.loadRows({ schema: 'public', name: 'a' }, ['id'], lines())).rejects.toThrow(
      'the source is gone',
    );
    await loader.close();
    expect((await run('SELECT count(*)::int AS count FROM a')).rows[0].count).toBe(0);
  });

  it('sets counters so that the next row gets the next number', async () => {
    const { login, run } = await fresh('CREATE TABLE "Odd ""Name" (id serial PRIMARY KEY, t text)');
    const view = await openView(login);
    const [sequence] = view.schema.sequences;
    await view.close();
    const loader = await PostgresLoader.open(login);
    await loader.setSequences([{ ...(sequence as NonNullable<typeof sequence>), last: '41', called: true }]);
    await loader.close();
    await run(`INSERT INTO "Odd ""Name" (t) VALUES ('x')`);
    expect((await run('SELECT id FROM "Odd ""Name"')).rows).toEqual([{ id: 42 }]);
  });
});

describe('making databases', () => {
  it('gives a login to its own database and to no other', async () => {
    const [one, other] = [await fresh(), await fresh()];
    await expect(openView({ ...one.login, database: other.login.database })).rejects.toMatchObject({
      code: 'database-refused',
    });
    const role = await one.run(
      'SELECT rolsuper, rolcreatedb, rolcreaterole, rolreplication FROM pg_roles WHERE rolname = current_user',
    );
    expect(role.rows).toEqual([{ rolsuper: false, rolcreatedb: false, rolcreaterole: false, rolreplication: false }]);
  });

  it('gives a password that stands in no log of the server, in the form which the server keeps', async () => {
    const root = new pg.Client({ ...server, database: 'postgres' });
    await root.connect();
    await root.query("ALTER SYSTEM SET log_statement = 'all'");
    await root.query('SELECT pg_reload_conf()');
    await expect.poll(async () => (await root.query('SHOW log_statement')).rows).toEqual([{ log_statement: 'all' }]);
    const login = { ...server, database: 'quiet', user: 'quiet', password: 'told to nobody' };
    await admin.create(login);
    const view = await openView(login);
    await view.close();
    await expect(openView({ ...login, password: 'another' })).rejects.toThrow(/password/);
    const log = await fs.readFile(join(cluster.folder, 'server.log'), 'utf8');
    expect(log).toContain('CREATE ROLE "quiet"');
    expect(log).not.toContain(login.password);
    await root.query("SET password_encryption = 'md5'");
    await root.query("ALTER ROLE quiet PASSWORD 'told to nobody'");
    const kept = await root.query("SELECT rolpassword FROM pg_authid WHERE rolname = 'quiet'");
    expect(kept.rows).toEqual([{ rolpassword: storedPassword('quiet', login.password, 'md5') }]);
    await root.query('ALTER SYSTEM RESET ALL');
    await root.query('SELECT pg_reload_conf()');
    await root.end();
  });

  it('makes anew what is there, and removes it also while someone is connected, twice without error', async () => {
    const { login, run } = await fresh('CREATE TABLE a (id int)');
    await admin.create(login);
    expect((await run("SELECT count(*)::int AS count FROM pg_tables WHERE tablename = 'a'")).rows[0].count).toBe(0);
    const guest = new pg.Client(login);
    guest.on('error', () => undefined);
    await guest.connect();
    await admin.drop(login);
    await admin.drop(login);
    await expect(openView(login)).rejects.toMatchObject({ code: 'database-refused' });
  });
});

describe('extensions', () => {
  it('come into the schema that they have in the source, with the things that hang on them', async () => {
    const from = await fresh();
    const root = new pg.Client({ ...server, database: from.login.database });
    await root.connect();
    await root.query(
      `CREATE SCHEMA tools; CREATE EXTENSION hstore WITH SCHEMA tools; CREATE EXTENSION citext; GRANT USAGE ON SCHEMA tools TO ${from.login.user}`,
    );
    await root.end();
    await from.run(
      "CREATE TABLE a (id int PRIMARY KEY, facts tools.hstore, name citext UNIQUE); INSERT INTO a VALUES (1, 'x=>1', 'Ab')",
    );
    const view = await openView(from.login);
    expect(view.schema.extensions).toEqual([
      { name: 'citext', schema: 'public' },
      { name: 'hstore', schema: 'tools' },
    ]);
    const onto = await fresh();
    const like: PostgresLikeness = { ...PLAIN_DATABASE, extensions: view.schema.extensions };
    await admin.create(onto.login, like);
    const loader = await PostgresLoader.open(onto.login);
    await loader.runSchema(await view.dumpSchema('before'));
    const shape = table(view, 'a');
    expect(await loader.loadRows(shape, ['id', 'facts', 'name'], view.readRows(shape))).toBe(1);
    await loader.runSchema(await view.dumpSchema('after'));
    await loader.close();
    await view.close();
    expect((await onto.run("SELECT facts::text FROM a WHERE name = 'AB'")).rows).toEqual([{ facts: '"x"=>"1"' }]);
    const where = await onto.run(
      'SELECT extname, nspname FROM pg_extension JOIN pg_namespace n ON n.oid = extnamespace ORDER BY 1',
    );
    expect(where.rows).toEqual([
      { extname: 'citext', nspname: 'public' },
      { extname: 'hstore', nspname: 'tools' },
      { extname: 'plpgsql', nspname: 'pg_catalog' },
    ]);
    await expect(onto.run("INSERT INTO a (id, name) VALUES (2, 'aB')")).rejects.toMatchObject({ code: '23505' });
  });
});
