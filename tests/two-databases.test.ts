import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { makeDatabase } from '@tessarion/demo-site';
import pg from 'pg';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { KeptSite } from './support/kept-site.js';
import {
  done,
  ended,
  forecastOf,
  makeCopy,
  pushOnto,
  type Studio,
  saveProfile,
  startStudio,
  undo,
} from './support/studio.js';

let studio: Studio;
let kept: KeptSite;
const LIVE = 'pair/live';
const COPY = 'pair/staging';
const PROFILE = `tessarion: profile/1
name: pair
title: A site with two databases
areas: [{ name: code, path: ., class: authored }]
databases:
  main: { tables: { page: { class: authored }, sale: { class: collected }, till.receipt: { class: collected }, "v1.2": { class: authored }, bill: { class: collected }, shelf: { class: authored } } }
  shop: { tables: { product: { class: authored }, "*": { class: authored } } }
# What the database does not declare.
references:
  - { from: sale.page_id, to: page.id }
  - { from: till.receipt.page_id, to: page.id }
  - { from: main/bill.product_id, to: shop/product.id }
  - { from: main/shelf.brand_id, to: shop/brand.id }
items:
  - { kind: page, table: page, title: title }
  - { kind: product, table: product, title: title }
  - { kind: brand, table: shop/brand, title: name, dependants: [{ table: note, column: brand_id }] }
`;

beforeAll(async () => {
  studio = await startStudio();
  const folder = join(studio.hosts, 'pair--live');
  await fs.mkdir(join(folder, 'main'), { recursive: true });
  await fs.writeFile(join(folder, 'main/index.html'), 'hello');
  const databases = [];
  for (const name of ['main', 'shop']) {
    const database = `pair_live_${name}`;
    await makeDatabase(studio.server, database, 'secret-word');
    databases.push({
      name,
      host: '127.0.0.1',
      port: studio.server.port,
      database,
      user: database,
      password: 'secret-word',
    });
  }
  await saveProfile(studio.client, 'pair', PROFILE);
  await done(
    studio,
    await studio.client.call('siteAdopt', {
      body: {
        name: 'pair',
        client: 'Pair',
        profile: 'pair',
        server: 'harbour-1',
        folder,
        addresses: [{ name: 'main', url: 'https://pair.example' }],
        databases,
      },
    }),
  );
  await on(
    LIVE,
    0,
    "CREATE TABLE page (id int PRIMARY KEY, title text); CREATE TABLE sale (id serial PRIMARY KEY, n int, page_id int); CREATE SCHEMA till; CREATE TABLE till.receipt (id serial PRIMARY KEY, page_id int); CREATE TABLE \"v1.2\" (id serial PRIMARY KEY, page_id int REFERENCES page); CREATE TABLE bill (id serial PRIMARY KEY, product_id int); CREATE TABLE shelf (id serial PRIMARY KEY, brand_id int); INSERT INTO page VALUES (1, 'Home'), (2, 'Away')",
  );
  // Both have a table `page`.
  await on(
    LIVE,
    1,
    "CREATE TABLE product (id int PRIMARY KEY, title text); CREATE TABLE page (id int PRIMARY KEY, title text); CREATE TABLE brand (id serial PRIMARY KEY, name text); CREATE TABLE note (id serial PRIMARY KEY, brand_id int REFERENCES brand, text text); INSERT INTO product VALUES (1, 'Pot'); INSERT INTO page VALUES (1, 'Front')",
  );
  await makeCopy(studio, 'pair', 'staging');
  kept = await KeptSite.of(studio, LIVE, COPY);
}, 120_000);
afterAll(() => studio?.stop());
beforeEach(() => kept.restore());

/** Runs statements on one of an environment's databases, as its owner. */
async function on(path: string, index: 0 | 1, sql: string): Promise<Record<string, unknown>[]> {
  const [site, environment] = path.split('/') as [string, string];
  const { databases } = await studio.client.call('environmentShow', { params: { site, environment } });
  const client = new pg.Client({ ...studio.server, database: databases[index] as string });
  await client.connect();
  try {
    const owner = await client.query('SELECT pg_get_userbyid(datdba) AS name FROM pg_database WHERE datname = $1', [
      databases[index],
    ]);
    await client.query(`SET ROLE "${owner.rows[0]?.name}"`);
    const result = await client.query(sql);
    return (Array.isArray(result) ? [] : result.rows) as Record<string, unknown>[];
  } finally {
    await client.end();
  }
}

const titles = async (path: string): Promise<unknown> => ({
  pages: (await on(path, 0, 'SELECT title FROM page ORDER BY id')).map((row) => row.title),
  products: (await on(path, 1, 'SELECT title FROM product ORDER BY id')).map((row) => row.title),
});

describe('a site with two databases', () => {
  it('is copied with both, compared in both, pushed in both and taken back in both', async () => {
    expect(await titles(COPY)).toEqual({ pages: ['Home', 'Away'], products: ['Pot'] });
    await on(COPY, 0, "UPDATE page SET title = 'Welcome' WHERE id = 1");
    await on(COPY, 1, "INSERT INTO product VALUES (2, 'Lid')");
    const forecast = await forecastOf(studio, COPY, LIVE);
    expect(forecast.written.map((one) => `${one.count} ${one.kind}`).sort()).toEqual(['1 page', '1 product']);
    const push = await done(studio, await pushOnto(studio, COPY, LIVE));
    expect(await titles(LIVE)).toEqual({ pages: ['Welcome', 'Away'], products: ['Pot', 'Lid'] });
    const undone = await undo(studio, push.id);
    expect((await done(studio, undone)).remains).toEqual([]);
    expect(await titles(LIVE)).toEqual({ pages: ['Home', 'Away'], products: ['Pot'] });
  });

  it('is as before in both when the second refuses at the last moment, after the first has committed', async () => {
    await on(
      LIVE,
      1,
      `CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'not today'; END $$;
       CREATE CONSTRAINT TRIGGER refuse AFTER INSERT ON product DEFERRABLE INITIALLY DEFERRED
       FOR EACH ROW EXECUTE FUNCTION refuse()`,
    );
    await on(LIVE, 0, 'INSERT INTO sale (n) VALUES (7)');
    await on(COPY, 0, "UPDATE page SET title = 'Welcome' WHERE id = 1");
    await on(COPY, 1, "INSERT INTO product VALUES (2, 'Lid')");
    const end = await ended(studio, await pushOnto(studio, COPY, LIVE));
    expect(end.state).toBe('failed');
    expect(end.failure?.message).toContain("a function of the site's own stops it (refuse, P0001)");
    expect(await titles(LIVE)).toEqual({ pages: ['Home', 'Away'], products: ['Pot'] });
    expect(await on(LIVE, 0, 'SELECT n FROM sale')).toEqual([{ n: 7 }]);
    await on(LIVE, 1, 'DROP FUNCTION refuse CASCADE');
    await done(studio, await pushOnto(studio, COPY, LIVE));
    expect(await titles(LIVE)).toEqual({ pages: ['Welcome', 'Away'], products: ['Pot', 'Lid'] });
  });

  it.each(['sale', 'till.receipt'])(
    'keeps what %s refers to, whatever the profile says of tables in the other database',
    async (table) => {
      await on(LIVE, 0, `INSERT INTO ${table} (page_id) VALUES (2)`);
      await on(COPY, 0, 'DELETE FROM page WHERE id = 2');
      const forecast = await forecastOf(studio, COPY, LIVE);
      expect(forecast.unsettled, 'a row of visitors refers to it').toBe(1);
      await done(studio, await pushOnto(studio, COPY, LIVE, { wishes: { rest: 'destination' } }));
      expect(await titles(LIVE)).toMatchObject({ pages: ['Home', 'Away'] });

      // One that comes between the forecast and the push as well.
      await on(LIVE, 0, `DELETE FROM ${table}`);
      await on(COPY, 0, 'DELETE FROM page WHERE id = 1');
      const late = await forecastOf(studio, COPY, LIVE);
      expect(late.unsettled).toBe(0);
      await on(LIVE, 0, `INSERT INTO ${table} (page_id) VALUES (1)`);
      const end = await ended(
        studio,
        await studio.client.call('pushCreate', { body: { forecast: late.id, confirm: LIVE } }),
      );
      expect(end.state).toBe('failed');
      expect(await titles(LIVE)).toMatchObject({ pages: ['Home', 'Away'] });
    },
  );

  it('takes a table whose name has a dot in it along, and what it refers to', async () => {
    await on(COPY, 0, 'INSERT INTO page VALUES (3, \'New\'); INSERT INTO "v1.2" (page_id) VALUES (3)');
    await done(studio, await pushOnto(studio, COPY, LIVE));
    expect(await on(LIVE, 0, 'SELECT page_id FROM "v1.2"')).toEqual([{ page_id: 3 }]);
  });

  it('tells tables of one name apart', async () => {
    await on(COPY, 0, "UPDATE page SET title = 'Welcome' WHERE id = 1");
    await on(COPY, 1, "UPDATE page SET title = 'Shop front' WHERE id = 1");
    const { id } = await forecastOf(studio, COPY, LIVE);
    const { items } = await studio.client.call('forecastItems', { params: { id }, query: {} });
    expect(items.map((one) => [one.id, one.title, one.part]).sort()).toEqual([
      ['page:1', 'Welcome', 'page'],
      ['page:shop/1', 'Shop front', 'shop/page'],
    ]);
    await done(studio, await pushOnto(studio, COPY, LIVE, { wishes: { only: ['table:shop/page'] } }));
    expect(await on(LIVE, 1, 'SELECT title FROM page')).toEqual([{ title: 'Shop front' }]);
    expect(await titles(LIVE)).toMatchObject({ pages: ['Home', 'Away'] });
  });

  it('keeps what visitors refer to from the other database, also where they do so after the forecast', async () => {
    await on(LIVE, 0, 'INSERT INTO bill (product_id) VALUES (1)');
    await on(COPY, 1, 'DELETE FROM product WHERE id = 1');
    const forecast = await forecastOf(studio, COPY, LIVE);
    const { items } = await studio.client.call('forecastItems', { params: { id: forecast.id }, query: {} });
    expect(items[0]?.collisions[0]?.words).toBe('It cannot go: 1 row of bill on live refers to it.');
    await on(LIVE, 0, 'DELETE FROM bill');
    const late = await forecastOf(studio, COPY, LIVE);
    expect(late.unsettled).toBe(0);
    await on(LIVE, 0, 'INSERT INTO bill (product_id) VALUES (1)');
    const end = await ended(
      studio,
      await studio.client.call('pushCreate', { body: { forecast: late.id, confirm: LIVE } }),
    );
    expect(end.state).toBe('failed');
    expect(await titles(LIVE)).toMatchObject({ products: ['Pot'] });
  });

  it('follows a number from one database into the other, and takes both back', async () => {
    await on(LIVE, 1, "INSERT INTO brand (name) VALUES ('Theirs')");
    await on(COPY, 1, "INSERT INTO brand (name) VALUES ('Ours'); INSERT INTO note (brand_id, text) VALUES (1, 'New')");
    await on(COPY, 0, 'INSERT INTO shelf (brand_id) VALUES (1)');
    const push = await done(studio, await pushOnto(studio, COPY, LIVE));
    expect(await on(LIVE, 1, 'SELECT id, name FROM brand ORDER BY id')).toEqual([
      { id: 1, name: 'Theirs' },
      { id: 2, name: 'Ours' },
    ]);
    expect(await on(LIVE, 0, 'SELECT brand_id FROM shelf')).toEqual([{ brand_id: 2 }]);
    // What the destination made since keeps what it refers to.
    await on(LIVE, 0, 'INSERT INTO shelf (brand_id) VALUES (2)');
    const { id } = await done(studio, await undo(studio, push.id));
    expect(await on(LIVE, 1, 'SELECT name FROM brand ORDER BY id')).toEqual([{ name: 'Theirs' }, { name: 'Ours' }]);
    expect((await studio.client.call('transferShow', { params: { id } })).remains.join()).toContain('Ours');
  });

  it('is previewed in both, and live stays as it is', async () => {
    await on(COPY, 0, "UPDATE page SET title = 'Come in' WHERE id = 1");
    await on(COPY, 1, "DELETE FROM product WHERE id = 1; INSERT INTO product VALUES (3, 'Jar')");
    const forecast = await forecastOf(studio, COPY, LIVE);
    const { client } = studio;
    const { id } = await client.call('requestOpen', { body: { forecast: forecast.id, title: 'Jars' } });
    const { onto } = await done(studio, await client.call('previewMake', { params: { id } }));
    expect(await titles(onto)).toEqual({ pages: ['Come in', 'Away'], products: ['Jar'] });
    expect(await titles(LIVE)).toEqual({ pages: ['Home', 'Away'], products: ['Pot'] });
    await client.call('requestWithdraw', { params: { id }, body: { reason: 'The test is over.' } });
  });

  it('is removed with both', async () => {
    await makeCopy(studio, 'pair', 'passing');
    await done(
      studio,
      await studio.client.call('environmentRemove', {
        params: { site: 'pair', environment: 'passing' },
        query: { confirm: 'pair/passing' },
      }),
    );
    const client = new pg.Client({ ...studio.server, database: 'postgres' });
    await client.connect();
    const left = await client.query("SELECT datname FROM pg_database WHERE datname LIKE 'pair_passing%'");
    await client.end();
    expect(left.rows).toEqual([]);
  });
});
