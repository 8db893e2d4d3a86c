import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { makeDatabase } from '@tessarion/demo-site';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { startCluster } from './support/clusters.js';
import {
  done,
  ended,
  forecastOf,
  makeCopy,
  onSite,
  pushOnto,
  type Query,
  type Studio,
  saveProfile,
  startStudio,
  undo,
} from './support/studio.js';

let studio: Studio;
const LIVE = 'knotted/live';
const COPY = 'knotted/staging';
const AT = { live: 'https://knotted.example', copy: '' };

const PROFILE = `tessarion: profile/1
name: knotted
title: Anything authored
areas: [{ name: code, path: ., class: authored }]
databases: { main: { tables: { "*": { class: authored }, "odd schema.*": { class: authored } } } }
`;

const SCHEMA = `
CREATE SCHEMA "odd schema";
CREATE TABLE "odd schema".pairs (id int PRIMARY KEY, facts ext.hstore);
INSERT INTO "odd schema".pairs VALUES (1, 'a=>${AT.live}');
CREATE TYPE mood AS ENUM ('calm', 'wild; "sea"');
CREATE DOMAIN short AS varchar(80);
CREATE TABLE "Weird Name" ("Id" int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, "größe" numeric(8,2), "tab""quote" text, feeling mood, tags text[], data jsonb, doubled numeric GENERATED ALWAYS AS ("größe" * 2) STORED, raw bytea, flag bool, moment timestamptz, real8 float8);
CREATE TABLE pair (a int, b text, note short, PRIMARY KEY (a, b));
CREATE TABLE keyless (word text, n int);
CREATE TABLE hen (id serial PRIMARY KEY, egg_id int, name text);
CREATE TABLE egg (id serial PRIMARY KEY, hen_id int NOT NULL REFERENCES hen, name text);
ALTER TABLE hen ADD FOREIGN KEY (egg_id) REFERENCES egg;
CREATE TABLE berth (id int PRIMARY KEY, code varchar(4) NOT NULL UNIQUE, place int NOT NULL UNIQUE, note text UNIQUE);
INSERT INTO berth VALUES (1, 'A', 1, NULL), (2, 'B', 2, NULL), (3, 'C', 3, 'three'), (4, 'D', 4, 'four'), (5, 'E', 5, NULL);
CREATE TABLE hire (id int PRIMARY KEY, berth int NOT NULL REFERENCES berth, lo int NOT NULL, hi int NOT NULL, EXCLUDE USING gist (int4range(lo, hi) WITH &&));
INSERT INTO hire VALUES (1, 1, 0, 3), (2, 2, 3, 6), (3, 5, 6, 9), (4, 5, 9, 10);
CREATE TABLE tree (id int PRIMARY KEY, parent int REFERENCES tree, label text UNIQUE);
CREATE TABLE "odd schema".inner_one (slug text PRIMARY KEY, url text DEFAULT '${AT.live}/default');
CREATE TABLE touched (id bigserial PRIMARY KEY, body text, changes int NOT NULL DEFAULT 0);
CREATE FUNCTION touch() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN new.changes := old.changes + 1; RETURN new; END $$;
CREATE TRIGGER touch BEFORE UPDATE ON touched FOR EACH ROW EXECUTE FUNCTION touch();
CREATE VIEW links AS SELECT slug, url FROM "odd schema".inner_one WHERE url LIKE '${AT.live}%';
CREATE INDEX ON keyless (lower(word));
CREATE TABLE insensitive (name citext PRIMARY KEY, n int);
CREATE TABLE race (id serial PRIMARY KEY, constructor int, "toString" text UNIQUE, "__proto__" int NOT NULL, title text);
INSERT INTO "Weird Name" ("größe", "tab""quote", feeling, tags, data, raw, flag, moment, real8) VALUES
  (1.50, E'a\\tb\\\\c\\nd "e"', 'wild; "sea"', ARRAY['${AT.live}/x', 'with,comma', NULL, ''], '{"u": "${AT.live}/ü", "n": [1, null]}', '\\x00ff10', true, '2026-03-29 02:30:00+02', 0.1),
  (NULL, '', 'calm', '{}', 'null', '', NULL, NULL, 'NaN'), (-0.01, '\\N', NULL, NULL, NULL, NULL, false, 'infinity', 1e300);
INSERT INTO pair VALUES (2, 'b', 'x'), (2, 'a', '${AT.live}'), (10, 'Z', NULL), (10, 'z', 'ä'), (1, 'é', ''), (1, 'e', '');
INSERT INTO keyless VALUES ('same', 1), ('same', 1), ('other', NULL), (NULL, NULL), ('${AT.live}', 3);
INSERT INTO hen (name) VALUES ('Berta'); INSERT INTO egg (hen_id, name) VALUES (1, 'first'); UPDATE hen SET egg_id = 1;
INSERT INTO tree VALUES (1, NULL, 'root'), (2, 1, 'leaf'), (3, 1, 'twig');
INSERT INTO "odd schema".inner_one VALUES ('${AT.live}/key', 'x'), ('a', DEFAULT), ('B', '${AT.live}');
INSERT INTO touched (body) VALUES ('one'), ('two ${AT.live}');
INSERT INTO insensitive VALUES ('Ab', 1), ('b', 2), ('C', 3);
INSERT INTO race (constructor, "toString", "__proto__", title) VALUES (7, 'x', 1, 'first'), (8, 'y', 2, 'second'), (9, 'z', 3, 'third');
`;

beforeAll(async () => {
  studio = await startStudio();
  const folder = join(studio.hosts, 'knotted--live');
  await fs.mkdir(join(folder, 'main'), { recursive: true });
  await fs.writeFile(join(folder, 'main/index.html'), 'hello');
  await makeDatabase(studio.server, 'knotted_live', 'secret-word');
  await saveProfile(studio.client, 'knotted', PROFILE);
  await done(
    studio,
    await studio.client.call('siteAdopt', {
      body: {
        name: 'knotted',
        client: 'K',
        profile: 'knotted',
        server: 'harbour-1',
        folder,
        addresses: [{ name: 'main', url: AT.live }],
        databases: [
          {
            name: 'main',
            host: '127.0.0.1',
            port: studio.server.port,
            database: 'knotted_live',
            user: 'knotted_live',
            password: 'secret-word',
          },
        ],
      },
    }),
  );
  await onSite(studio, LIVE, async (query) => {
    await query('CREATE EXTENSION citext');
    await query(
      'CREATE SCHEMA ext; CREATE EXTENSION hstore WITH SCHEMA ext; GRANT USAGE ON SCHEMA ext TO knotted_live',
    );
    await query('SET ROLE knotted_live');
    await query(SCHEMA);
  });
  await makeCopy(studio, 'knotted', 'staging');
  AT.copy = `http://knotted--staging.localhost:${studio.gatewayPort}`;
}, 120_000);
afterAll(() => studio?.stop());

/** Every table, with the copy's address read as live's. */
async function everything(path: string): Promise<Record<string, unknown>> {
  return onSite(studio, path, async (query) => {
    const tables = (
      await query(
        "SELECT format('%I.%I', schemaname, tablename) AS name FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', 'information_schema') ORDER BY 1",
      )
    ).map((row) => String(row.name));
    const found: Record<string, unknown> = {};
    for (const table of tables) {
      const rows = (await query(`SELECT t::text AS row FROM ${table} t`)).map((row) =>
        String(row.row).replaceAll(AT.copy, AT.live),
      );
      found[table] = rows.sort();
    }
    return found;
  });
}

const schemaOf = (path: string): Promise<unknown> =>
  onSite(studio, path, async (query) => ({
    columns: await query(
      "SELECT table_schema, table_name, column_name, data_type, is_nullable, is_identity, generation_expression, replace(column_default, $1, $2) AS value FROM information_schema.columns WHERE table_schema IN ('public', 'odd schema') ORDER BY 1, 2, 3",
      [AT.copy, AT.live],
    ),
    constraints: await query(
      "SELECT conrelid::regclass::text AS t, conname, pg_get_constraintdef(oid) AS def FROM pg_constraint WHERE connamespace::regnamespace::text IN ('public', '\"odd schema\"') ORDER BY 1, 2",
    ),
    indexes: await query(
      "SELECT indexname, indexdef FROM pg_indexes WHERE schemaname IN ('public', 'odd schema') ORDER BY 1",
    ),
    views: (await query("SELECT definition FROM pg_views WHERE schemaname = 'public'")).map((row) =>
      String(row.definition).replaceAll(AT.copy, AT.live),
    ),
    triggers: await query('SELECT tgname FROM pg_trigger WHERE NOT tgisinternal'),
    sequences: await query(
      "SELECT schemaname, sequencename, last_value FROM pg_sequences WHERE schemaname = 'public' ORDER BY 2",
    ),
  }));

describe('a hard schema, step by step', { shuffle: false }, () => {
  it('copies any schema with every value', async () => {
    expect(await everything(COPY)).toEqual(await everything(LIVE));
    expect(await schemaOf(COPY)).toEqual(await schemaOf(LIVE));
    expect((await onSite(studio, COPY, (query) => query('SELECT count(*)::int AS n FROM links')))[0]?.n).toBe(2);
    expect((await forecastOf(studio, COPY, LIVE)).written).toEqual([]);
  });

  it('pushes changes in every kind of table, and takes them back', async () => {
    const before = await everything(LIVE);
    const edit = async (query: Query): Promise<void> => {
      await query(
        `UPDATE "Weird Name" SET "größe" = 7, tags = ARRAY['${AT.copy}/new'], data = '{"u": "${AT.copy}/2"}' WHERE "Id" = 1`,
      );
      await query(`INSERT INTO "Weird Name" ("größe", feeling) VALUES (3, 'calm')`);
      await query('DELETE FROM "Weird Name" WHERE "Id" = 3');
      await query("UPDATE pair SET note = 'ü' WHERE a = 10 AND b = 'z'");
      await query("DELETE FROM pair WHERE a = 2 AND b = 'a'");
      await query("INSERT INTO pair VALUES (3, 'ß', 'new')");
      await query("DELETE FROM keyless WHERE ctid = (SELECT min(ctid) FROM keyless WHERE word = 'same')");
      await query("INSERT INTO keyless VALUES ('added', 9), ('added', 9)");
      await query(
        "WITH h AS (INSERT INTO hen (id, egg_id, name) VALUES (50, 60, 'Clara')) INSERT INTO egg (id, hen_id, name) VALUES (60, 50, 'golden')",
      );
      await query("INSERT INTO tree VALUES (5, 4, 'child'), (4, 1, 'branch')");
      await query("UPDATE tree SET label = 'leaf 2' WHERE id = 2");
      await query(`INSERT INTO "odd schema".inner_one VALUES ('${AT.copy}/other', '${AT.copy}')`);
      await query("UPDATE insensitive SET n = 20 WHERE name = 'B'");
      // Columns that are called what everything has.
      await query("UPDATE race SET title = 'renamed' WHERE id = 1");
      await query('UPDATE race SET constructor = 70, "__proto__" = 20 WHERE id = 2');
      await query("DELETE FROM race WHERE title = 'third'");
      await query('INSERT INTO race (constructor, "toString", "__proto__", title) VALUES (1, NULL, 4, $1)', ['new']);
      // Unique values that go from one row to another: a swap, a chain, and those of deleted rows.
      await query('DELETE FROM berth WHERE id IN (3, 4)');
      await query("UPDATE berth SET code = 'x' WHERE id = 1");
      await query("UPDATE berth SET code = 'A', place = 3 WHERE id = 2");
      await query("UPDATE berth SET code = 'B', place = 2 WHERE id = 1");
      await query("INSERT INTO berth VALUES (10, 'C', 1, 'three')");
      await query("UPDATE berth SET note = 'four' WHERE id = 5");
      await query("INSERT INTO insensitive VALUES ('aa', 0)");
      // Hours that nothing else can stand for: one moves away, the next takes its place, and a new one that of a deleted one.
      await query('UPDATE hire SET lo = 20, hi = 23 WHERE id = 1');
      await query('UPDATE hire SET lo = 1, hi = 5 WHERE id = 2');
      await query('DELETE FROM hire WHERE id = 4');
      await query('INSERT INTO hire VALUES (9, 2, 9, 11)');
    };
    await onSite(studio, COPY, edit);
    const transfer = await done(studio, await pushOnto(studio, COPY, LIVE));
    expect(await everything(LIVE)).toEqual(await everything(COPY));
    expect((await forecastOf(studio, COPY, LIVE)).written).toEqual([]);
    const fresh = await onSite(studio, LIVE, (query) =>
      query("INSERT INTO hen (name) VALUES ('by a visitor') RETURNING id"),
    );
    expect(Number(fresh[0]?.id)).toBeGreaterThan(50);
    await onSite(studio, LIVE, (query) => query("DELETE FROM hen WHERE name = 'by a visitor'"));
    const undone = await done(studio, await undo(studio, transfer.id));
    expect(undone.remains).toEqual([]);
    expect(await everything(LIVE)).toEqual(before);
  });

  it('says before what the database would take only one after the other', async () => {
    await onSite(studio, COPY, (query) =>
      query(`UPDATE hire SET lo = 30, hi = 33 WHERE id = 2; UPDATE hire SET lo = 3, hi = 6 WHERE id = 3;
        UPDATE hire SET lo = 6, hi = 9 WHERE id = 2`),
    );
    const before = await everything(LIVE);
    const forecast = await forecastOf(studio, COPY, LIVE);
    expect(forecast.checks.find((check) => check.state === 'failed')?.message).toMatch(
      /hire 2: wants the lo, hi "\[6,9\)", which 3 has until it is changed by the same transfer/,
    );
    expect(await everything(LIVE)).toEqual(before);
  });
});

/** Adopts a database that is there, and an empty folder. */
async function adopt(name: string, port = studio.server.port): Promise<void> {
  const folder = join(studio.hosts, `${name}--live`);
  await fs.mkdir(join(folder, 'main'), { recursive: true });
  await fs.writeFile(join(folder, 'main/index.html'), 'hello');
  await saveProfile(studio.client, name, PROFILE.replace('name: knotted', `name: ${name}`));
  const [database, user] = [`${name}_live`, `${name}_live`];
  const login = { name: 'main', host: '127.0.0.1', port, database, user, password: 'secret-word' };
  await done(
    studio,
    await studio.client.call('siteAdopt', {
      body: {
        name,
        client: 'K',
        profile: name,
        server: 'harbour-1',
        folder,
        addresses: [{ name: 'main', url: `https://${name}.example` }],
        databases: [login],
      },
    }),
  );
}

describe('a copy’s database', () => {
  it('is made as its source is: with its encoding, its order of texts and what is set on it', async () => {
    await makeDatabase(studio.server, 'latin_live', 'secret-word');
    const admin = new pg.Client({ ...studio.server, database: 'postgres' });
    await admin.connect();
    await admin.query('DROP DATABASE latin_live');
    await admin.query(
      "CREATE DATABASE latin_live OWNER latin_live TEMPLATE template0 ENCODING 'LATIN1' LC_COLLATE 'C' LC_CTYPE 'C' LOCALE_PROVIDER icu ICU_LOCALE 'de-DE'",
    );
    await admin.query('REVOKE ALL ON DATABASE latin_live FROM PUBLIC');
    await admin.query(`ALTER DATABASE latin_live SET search_path TO app, "odd, ""path""", public`);
    await admin.query("ALTER DATABASE latin_live SET site.greeting TO 'it''s, well'");
    await admin.end();
    await adopt('latin');
    await onSite(studio, 'latin/live', async (query) => {
      await query('SET ROLE latin_live');
      await query(
        "CREATE SCHEMA app; CREATE TABLE app.item (name text PRIMARY KEY); INSERT INTO app.item VALUES ('Öl'), ('Zinn'), ('Ofen')",
      );
      // As the site's own program counts, in the bytes of its database; one that nothing can read; and what people write.
      const own = 'https://latin.example';
      await query('CREATE TABLE app.legacy (id int PRIMARY KEY, meta text)');
      for (const [id, meta] of [
        `a:1:{s:1:"ü";s:${own.length + 2}:"${own}/ü";}`,
        `s:99:"${own}";`,
        `HTTPS://LATIN.example/a and ${own}`,
      ].entries())
        await query('INSERT INTO app.legacy VALUES ($1, $2)', [id, meta]);
      await query('RESET ROLE');
    });
    const clone = await makeCopy(studio, 'latin', 'staging');
    const here = `http://latin--staging.localhost:${studio.gatewayPort}`;
    const legacy = await onSite(studio, 'latin/staging', (query) => query('SELECT meta FROM app.legacy ORDER BY id'));
    expect(legacy.map(({ meta }) => meta)).toEqual([
      `a:1:{s:1:"ü";s:${here.length + 2}:"${here}/ü";}`,
      's:99:"https://latin.example";',
      `HTTP${here.slice(4)}/a and ${here}`,
    ]);
    expect(clone.log.map(({ text }) => text)).toContain(
      'app.legacy.meta: 1 address of latin/live stays as written, in values that look serialised and cannot be read.',
    );
    const found = (path: string) =>
      onSite(studio, path, async (query) => {
        const [made] = await query(
          "SELECT pg_encoding_to_char(encoding) AS encoding, datlocprovider, to_jsonb(d)->>'daticulocale' AS locale, current_setting('search_path') AS path, current_setting('site.greeting') AS greeting FROM pg_database d WHERE datname = current_database()",
        );
        return { ...made, names: (await query('SELECT name FROM item ORDER BY name')).map(({ name }) => name) };
      });
    expect(await found('latin/staging')).toEqual(await found('latin/live'));
    expect((await found('latin/staging')).names).toEqual(['Ofen', 'Öl', 'Zinn']);
  });

  it('is not begun while every login may enter its source’s', async () => {
    const onServer = async (sql: string): Promise<void> => {
      const admin = new pg.Client({ ...studio.server, database: 'postgres' });
      await admin.connect();
      await admin.query(sql);
      await admin.end();
    };
    await onServer('GRANT CONNECT ON DATABASE knotted_live TO PUBLIC');
    const params = { site: 'knotted' };
    const end = await ended(
      studio,
      await studio.client.call('environmentCreate', { params, body: { name: 'other', kind: 'dev' } }),
    );
    expect(end.failure).toMatchObject({
      message: expect.stringContaining('may enter the database knotted_live'),
      next: expect.stringContaining('REVOKE CONNECT ON DATABASE knotted_live FROM PUBLIC'),
    });
    expect(end.steps.map(({ state }) => state).slice(0, 2), 'before anything is made').toEqual(['failed', 'coming']);
    await onServer('REVOKE CONNECT ON DATABASE knotted_live FROM PUBLIC');
    await done(studio, await studio.client.call('environmentCreate', { params, body: { name: 'other', kind: 'dev' } }));
  });

  it('is made on the copy’s own server, which is the one that is asked, wherever its source’s is', async () => {
    const { cluster, access } = await startCluster(join(studio.data, 'elsewhere'));
    try {
      await makeDatabase(access, 'apart_live', 'secret-word');
      const [there, here] = [
        new pg.Client({ ...access, database: 'postgres' }),
        new pg.Client({ ...studio.server, database: 'postgres' }),
      ];
      await Promise.all([there.connect(), here.connect()]);
      // The copy's login is not known there, whom it lets in.
      await there.query('GRANT CONNECT ON DATABASE apart_live TO PUBLIC');
      // Another one of that name.
      await here.query('CREATE DATABASE apart_live');
      await Promise.all([there.end(), here.end()]);
      await adopt('apart', access.port);
      const own = new pg.Client({ ...access, user: 'apart_live', password: 'secret-word', database: 'apart_live' });
      await own.connect();
      await own.query('CREATE TABLE page (id int PRIMARY KEY, body text); INSERT INTO page VALUES (1, NULL)');
      await own.end();
      const clone = await makeCopy(studio, 'apart', 'staging');
      expect(clone.checks.filter(({ state }) => state !== 'passed')).toEqual([]);
      expect(await onSite(studio, 'apart/staging', (query) => query('SELECT id FROM page'))).toEqual([{ id: 1 }]);
      const remove = { params: { site: 'apart', environment: 'staging' }, query: { confirm: 'apart/staging' } };
      await done(studio, await studio.client.call('environmentRemove', remove));
    } finally {
      await cluster.stop();
    }
  });

  it('is not made without rows that a policy hides from their own login', async () => {
    await makeDatabase(studio.server, 'hidden_live', 'secret-word');
    await adopt('hidden');
    await onSite(studio, 'hidden/live', async (query) => {
      await query('SET ROLE hidden_live');
      await query(
        'CREATE TABLE forced (id int PRIMARY KEY); INSERT INTO forced VALUES (1), (2); ALTER TABLE forced ENABLE ROW LEVEL SECURITY; ALTER TABLE forced FORCE ROW LEVEL SECURITY',
      );
      await query('RESET ROLE');
    });
    const params = { site: 'hidden' };
    const body = { name: 'staging', kind: 'staging' } as const;
    const end = await ended(studio, await studio.client.call('environmentCreate', { params, body }));
    expect(end.failure?.message).toContain('hides rows from its own login');
    expect(end.failure?.message).toContain('"forced"');
    await onSite(studio, 'hidden/live', (query) => query('ALTER TABLE forced NO FORCE ROW LEVEL SECURITY'));
    await makeCopy(studio, 'hidden', 'staging');
    const count = await onSite(studio, 'hidden/staging', (query) => query('SELECT count(*)::int AS n FROM forced'));
    expect(count).toEqual([{ n: 2 }]);
  });
});
