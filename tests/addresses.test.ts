import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { visit } from '@tessarion/demo';
import { makeDatabase } from '@tessarion/demo-site';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { KeptSite } from './support/kept-site.js';
import {
  done,
  ended,
  folderOf,
  forecastOf,
  makeCopy,
  onSite,
  pushOnto,
  type Studio,
  saveProfile,
  startStudio,
} from './support/studio.js';

let studio: Studio;
let kept: KeptSite;
const LIVE = 'twofold/live';
const COPY = 'twofold/staging';
const PROFILE = `tessarion: profile/1
name: twofold
title: A site with two addresses
areas:
  - { name: code, path: ., class: authored, text: ["*.html"] }
databases: { main: { tables: { page: { class: authored, columns: { feed: { rewrite: never } } } } } }
items: [{ kind: page, table: page, title: title }]
`;

beforeAll(async () => {
  studio = await startStudio();
  const folder = join(studio.hosts, 'twofold--live');
  await fs.mkdir(join(folder, 'main'), { recursive: true });
  await fs.writeFile(
    join(folder, 'main/index.html'),
    '<a href="https://twofold.example/a">main</a> <a href="https://www.twofold.example/b">alias</a> <a href="https://shop.twofold.example/de/c">shop</a>',
  );
  await makeDatabase(studio.server, 'twofold_live', 'secret-word');
  await saveProfile(studio.client, 'twofold', PROFILE);
  await done(
    studio,
    await studio.client.call('siteAdopt', {
      body: {
        name: 'twofold',
        client: 'Twofold',
        profile: 'twofold',
        server: 'harbour-1',
        folder,
        addresses: [
          {
            name: 'main',
            url: 'https://twofold.example',
            aliases: [{ name: 'www', url: 'https://www.twofold.example' }],
          },
          { name: 'shop', url: 'https://shop.twofold.example/de' },
        ],
        databases: [
          {
            name: 'main',
            host: '127.0.0.1',
            port: studio.server.port,
            database: 'twofold_live',
            user: 'twofold_live',
            password: 'secret-word',
          },
        ],
      },
    }),
  );
  await onSite(studio, LIVE, async (query) => {
    await query('SET ROLE twofold_live');
    await query('CREATE TABLE page (id int PRIMARY KEY, title text, body text, feed text)');
    const rows = [
      'https://twofold.example/x',
      'http://www.twofold.example/x',
      '//shop.twofold.example/de/cart',
      'https://shop.twofold.example/en/elsewhere',
      'https://other.twofold.example/',
      'mail@twofold.example',
    ];
    for (const [i, body] of rows.entries())
      await query('INSERT INTO page VALUES ($1, $2, $3, $4)', [i, `Page ${i}`, body, 'https://twofold.example/feed']);
  });
  await makeCopy(studio, 'twofold', 'staging');
  kept = await KeptSite.of(studio, LIVE, COPY);
}, 120_000);
beforeEach(() => kept.restore());
afterAll(() => studio?.stop());

const at = (host: string, path = ''): string => `http://${host}.localhost:${studio.gatewayPort}${path}`;

describe('a site with two addresses and an alias', () => {
  it('has a copy that answers at one for each, each behind the gate', async () => {
    const { addresses } = await studio.client.call('environmentShow', {
      params: { site: 'twofold', environment: 'staging' },
    });
    expect(addresses).toEqual([
      { name: 'main', url: at('twofold--staging') },
      { name: 'shop', url: at('twofold--staging--shop', '/de') },
    ]);
    for (const host of ['twofold--staging.localhost', 'twofold--staging--shop.localhost'])
      expect((await visit(studio.gatewayPort, host, '/')).status).toBe(401);
    expect((await visit(studio.gatewayPort, 'twofold--staging--www.localhost', '/')).status).toBe(404);
  });

  it('has every link in it lead to the right one, and none elsewhere changed', async () => {
    const main = at('twofold--staging');
    const shop = at('twofold--staging--shop', '/de');
    const rows = await onSite(studio, COPY, (query) => query('SELECT body, feed FROM page ORDER BY id'));
    expect(rows.map((row) => row.body)).toEqual([
      `${main}/x`,
      `${main}/x`,
      `${shop.replace('http:', '')}/cart`,
      'https://shop.twofold.example/en/elsewhere',
      'https://other.twofold.example/',
      'mail@twofold.example',
    ]);
    expect(new Set(rows.map((row) => row.feed))).toEqual(new Set(['https://twofold.example/feed']));
    expect(await fs.readFile(join(folderOf(studio, COPY), 'main/index.html'), 'utf8')).toBe(
      `<a href="${main}/a">main</a> <a href="${main}/b">alias</a> <a href="${shop}/c">shop</a>`,
    );
    expect((await forecastOf(studio, COPY, LIVE)).written).toEqual([]);
  });

  it('takes an edit up with live’s own addresses, and leaves untouched rows in their spelling', async () => {
    await onSite(studio, COPY, (query) =>
      query("UPDATE page SET title = 'Edited', body = body || ' and ' || $1 WHERE id = 2", [
        at('twofold--staging--shop', '/de/new'),
      ]),
    );
    await done(studio, await pushOnto(studio, COPY, LIVE));
    const rows = await onSite(studio, LIVE, (query) => query('SELECT body FROM page ORDER BY id'));
    expect(rows[2]?.body).toBe('//shop.twofold.example/de/cart and https://shop.twofold.example/de/new');
    expect(rows[1]?.body).toBe('http://www.twofold.example/x');
    expect((await forecastOf(studio, COPY, LIVE)).written).toEqual([]);
  });

  it('can be copied once more from its copy, and the copy’s copy brings its work up step by step', async () => {
    const dev = await studio.client.call('environmentCreate', {
      params: { site: 'twofold' },
      body: { name: 'dev', kind: 'dev', from: COPY },
    });
    await done(studio, dev);
    const body = await onSite(studio, 'twofold/dev', (query) => query('SELECT body FROM page WHERE id = 0'));
    expect(body[0]?.body).toBe(`${at('twofold--dev')}/x`);
    await onSite(studio, 'twofold/dev', (query) => query("UPDATE page SET title = 'From dev' WHERE id = 0"));
    await done(studio, await pushOnto(studio, 'twofold/dev', COPY));
    await done(studio, await pushOnto(studio, COPY, LIVE));
    expect(await onSite(studio, LIVE, (query) => query('SELECT title, body FROM page WHERE id = 0'))).toEqual([
      { title: 'From dev', body: 'https://twofold.example/x' },
    ]);
    const skipped = await studio.client
      .call('forecastCreate', { body: { from: 'twofold/dev', onto: LIVE } })
      .catch((error: Error) => error.message);
    expect(skipped).toBe('dev does not lead to live directly.');
  });

  it('keeps its addresses when the copy is made anew', async () => {
    const before = await studio.client.call('environmentShow', {
      params: { site: 'twofold', environment: 'staging' },
    });
    const reset = await studio.client.call('resetCreate', { body: { from: LIVE, onto: COPY } });
    expect((await ended(studio, reset)).state).toBe('done');
    const after = await studio.client.call('environmentShow', { params: { site: 'twofold', environment: 'staging' } });
    expect(after.addresses).toEqual(before.addresses);
    expect((await forecastOf(studio, COPY, LIVE)).written).toEqual([]);
  });
});
