import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { makeDatabase } from '@tessarion/demo-site';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { SHOPS } from './support/shops.js';
import { done, forecastOf, onSite, type Studio, saveProfile, settled, startStudio, undo } from './support/studio.js';
import { Dice, describe as describeTables, editAround, everyRow, fill, type TableFacts } from './support/unseen.js';

/**
 * Databases that the product has not seen: made-up shops with awkward values, and, where a folder of SQL files is named,
 * whatever stands in them. The profile is the one that Tessarion itself starts.
 */
const FOLDER = process.env.TESSARION_UNSEEN;
const SEED = Number(process.env.TESSARION_UNSEEN_SEED ?? 20261128);
const given = FOLDER === undefined ? [] : (await fs.readdir(FOLDER)).filter((name) => name.endsWith('.sql')).sort();
const DATABASES = [...Object.keys(SHOPS), ...given];

let studio: Studio;
beforeAll(async () => {
  studio = await startStudio();
}, 120_000);
afterAll(() => studio?.stop());

type Rows = Map<string, Record<string, string | null>>;

async function bringInto(name: string, sql: string, address: string): Promise<TableFacts[]> {
  const folder = join(studio.hosts, `${name}--live`);
  const database = `${name}_live`;
  await fs.mkdir(join(folder, 'main'), { recursive: true });
  await fs.writeFile(join(folder, 'main/index.html'), 'hello');
  await makeDatabase(studio.server, database, 'secret-word');
  const { port } = studio.server;
  const login = { name: 'main', host: '127.0.0.1', port, database, user: database, password: 'secret-word' };
  await done(
    studio,
    await studio.client.call('siteAdopt', {
      body: {
        name,
        client: 'Unseen',
        server: 'harbour-1',
        folder,
        addresses: [{ name: 'main', url: address }],
        databases: [login],
      },
    }),
  );
  return onSite(studio, `${name}/live`, async (query) => {
    const text = sql.replaceAll('%ROLE%', database);
    await query(text.includes('SET ROLE') ? text : `SET ROLE ${database}; ${text}`);
    await query('RESET search_path');
    const tables = await describeTables(query);
    await fill(query, tables, new Dice(SEED), address, 6);
    return tables;
  });
}

/** The profile that the product starts, with what it left open given a class by a person. */
async function profileFor(name: string): Promise<void> {
  const { client } = studio;
  const [site, environment] = [name, 'live'];
  const started = await client.call('profileStart', { params: { site, environment }, body: { name } });
  await saveProfile(client, name, started.text);
  await client.call('profileUse', { params: { site }, body: { profile: name }, etag: '*' });
  for (const { what, says } of started.findings)
    if (what.startsWith('table ') && says === 'unclassified')
      await client.call('profileClassify', {
        params: { site },
        body: { table: what.slice('table '.length), class: 'authored' },
      });
}

const rowsOf = (path: string, tables: readonly TableFacts[]): Promise<Rows> =>
  onSite(studio, path, (query) => everyRow(query, tables));
const edited = (path: string, tables: readonly TableFacts[], seed: number, address: string): Promise<number> =>
  onSite(studio, path, (query) => editAround(query, tables, new Dice(seed), address));

/** Rows that are not the same in two readings. */
function unlike(before: Rows, after: Rows): string[] {
  const same = (a: unknown, b: unknown): boolean => JSON.stringify(a) === JSON.stringify(b);
  return [...new Set([...before.keys(), ...after.keys()])].filter((at) => !same(before.get(at), after.get(at)));
}

/** A row's name without the address that may stand in it, and without the lengths of what holds it. */
const placeless = (at: string): string =>
  at.replace(/https?:\W+\w+(--staging\.localhost:\d+|\.example)/g, 'HERE').replace(/s:\d+:/g, 's:');

/** Rows without the column that the shop's own trigger counts up. */
const uncounted = (rows: Rows): Rows => new Map([...rows].map(([at, { touched: _touched, ...cells }]) => [at, cells]));

/** Everything that waits; what a rule may not settle is settled one by one, as far as it is allowed. */
async function allSettled(from: string, onto: string): Promise<string> {
  const wishes = { rest: 'source' as const, settlements: {} as Record<string, { take: 'source' | 'destination' }> };
  let forecast = await forecastOf(studio, from, onto, { wishes });
  expect(forecast.failure).toBeNull();
  for (let round = 0; forecast.unsettled > 0; round++) {
    expect(round).toBeLessThan(5);
    const { items } = await studio.client.call('forecastItems', { params: { id: forecast.id }, query: { limit: 500 } });
    for (const { settled: taken, id, allowed } of items.flatMap((item) => item.collisions))
      if (!taken) wishes.settlements[id] = { take: allowed.includes('source') ? 'source' : 'destination' };
    forecast = await settled(studio, forecast.id, wishes);
    expect(forecast.failure).toBeNull();
  }
  return forecast.id;
}

describe.each(DATABASES)('an unseen database (%s)', (label) => {
  const name = label.replace(/\.sql$/, '').replace(/[^a-z]/g, '');
  const address = `https://${name}.example`;
  const [live, copy] = [`${name}/live`, `${name}/staging`];
  let tables: readonly TableFacts[];

  it('is pushed to by choice, every other row staying bit for bit as it was; taken back; and brought together', async () => {
    const sql = SHOPS[label] ?? (await fs.readFile(join(FOLDER as string, label), 'utf8'));
    tables = await bringInto(name, sql, address);
    await profileFor(name);
    await done(
      studio,
      await studio.client.call('environmentCreate', {
        params: { site: name },
        body: { name: 'staging', kind: 'staging', acceptPersonal: 'It is made up.' },
      }),
    );
    const there = `http://${name}--staging.localhost:${studio.gatewayPort}`;
    const copied = await rowsOf(copy, tables);
    expect(await edited(copy, tables, SEED + 1, there)).toBeGreaterThan(tables.length / 4);
    expect(await edited(live, tables, SEED + 2, address)).toBeGreaterThan(tables.length / 4);
    const work = new Set(unlike(copied, await rowsOf(copy, tables)).map(placeless));

    // A third of the things that wait, and what they need.
    const whole = await forecastOf(studio, copy, live, { wishes: { rest: 'destination' } });
    expect(whole.failure).toBeNull();
    expect(whole.checks.filter((check) => check.state === 'failed')).toEqual([]);
    const all = await studio.client.call('forecastItems', { params: { id: whole.id }, query: { limit: 500 } });
    const waiting = all.items.filter((item) => item.outcome === 'written').map((item) => item.id);
    const only = waiting.filter((_one, i) => i % 3 === 0);
    expect(only.length).toBeGreaterThan(0);
    const chosen = await forecastOf(studio, copy, live, { wishes: { only, rest: 'destination' } });
    const items = await studio.client.call('forecastItems', { params: { id: chosen.id }, query: { limit: 500 } });
    const written = items.items.filter((item) => item.outcome === 'written');
    expect(written.length).toBeGreaterThan(0);
    expect(written.filter((item) => !only.includes(item.id) && item.takenAlongFor === null)).toEqual([]);

    const before = await rowsOf(live, tables);
    const push = await done(
      studio,
      await studio.client.call('pushCreate', { body: { forecast: chosen.id, confirm: live } }),
    );
    expect(push.proof.filter((point) => point.state === 'failed')).toEqual([]);
    const after = await rowsOf(live, tables);
    const touched = unlike(before, after);
    const rows = chosen.parts.reduce((sum, part) => sum + part.inserted + part.updated + part.deleted, 0);
    expect(touched.length).toBe(rows);
    // Whatever changed there had been changed in the copy; a new thing may go by a fresh key.
    const strangers = touched.filter((at) => !work.has(placeless(at)) && before.has(at));
    expect(strangers).toEqual([]);

    // Taking it back leaves live as it was, to the bit; but for what its own triggers count.
    await done(studio, await undo(studio, push.id));
    expect(unlike(uncounted(before), uncounted(await rowsOf(live, tables)))).toEqual([]);

    // All of it up, then all news down: nothing is left to say on either way.
    const everything = await allSettled(copy, live);
    await done(studio, await studio.client.call('pushCreate', { body: { forecast: everything, confirm: live } }));
    const news = await allSettled(live, copy);
    await done(studio, await studio.client.call('pullCreate', { body: { forecast: news } }));
    const again = await forecastOf(studio, copy, live);
    expect([again.written, again.unsettled]).toEqual([[], 0]);
  }, 300_000);
});
