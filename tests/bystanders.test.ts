import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import type { ForecastWishes } from '@tessarion/contract';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { KeptSite } from './support/kept-site.js';
import {
  done,
  ended,
  folderOf,
  forecastOf,
  onRecords,
  onSite,
  type Studio,
  settled,
  startStudio,
} from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

let studio: Studio;
let kept: KeptSite;

beforeAll(async () => {
  studio = await startStudio('staging');
  kept = await KeptSite.of(studio, LIVE, COPY);
}, 120_000);
beforeEach(() => kept.restore());
afterAll(() => studio?.stop());

const run = (path: string, sql: string): Promise<unknown> => onSite(studio, path, (query) => query(sql));
const value = (path: string, sql: string): Promise<unknown> =>
  onSite(studio, path, async (query) => Object.values((await query(sql))[0] ?? {})[0]);
const push = (forecast: { id: string }) =>
  studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } });
const pull = (forecast: { id: string }) => studio.client.call('pullCreate', { body: { forecast: forecast.id } });
const choosing = (wishes: Partial<ForecastWishes>) => forecastOf(studio, COPY, LIVE, { wishes });
const pageOf = (slug: string): Promise<unknown> => value(LIVE, `SELECT title FROM page WHERE slug = '${slug}'`);

describe('what a forecast leaves out', () => {
  it('may change on both ends while it waits: it still goes, and the rest waits', async () => {
    const [dye, home] = (await Promise.all(
      ['dye', 'home'].map((slug) => value(LIVE, `SELECT id FROM page WHERE slug = '${slug}'`)),
    )) as [number, number];
    await run(COPY, "UPDATE page SET title = 'How we dye today' WHERE slug = 'dye'");
    await run(COPY, "UPDATE page SET title = 'Write to us' WHERE slug = 'home'");
    await fs.writeFile(join(folderOf(studio, COPY), 'main/styles/site.css'), '.copy{}');
    const forecast = await choosing({ only: [`page:${dye}`] });
    await run(LIVE, "UPDATE page SET title = 'Home an editor of live wrote' WHERE slug = 'home'");
    await fs.writeFile(join(folderOf(studio, LIVE), 'main/styles/site.css'), '.live{}');
    await done(studio, await push(forecast));
    expect(await pageOf('dye')).toBe('How we dye today');
    expect(await pageOf('home')).toBe('Home an editor of live wrote');
    const left = await choosing({});
    expect(left.unsettled, 'what both changed still waits for a person').toBe(2);
    expect(left.itemCount).toBe(2);
    expect(home).not.toBe(dye);
  });

  it('that was kept as live has it may change on live again; if the copy changed it, somebody decides anew', async () => {
    await run(COPY, "UPDATE page SET title = 'How we dye today' WHERE slug = 'dye'");
    await run(COPY, "UPDATE page SET title = 'Write to us' WHERE slug = 'home'");
    await run(LIVE, "UPDATE page SET title = 'Home one' WHERE slug = 'home'");
    const forecast = await choosing({ rest: 'destination' });
    await run(LIVE, "UPDATE page SET title = 'Home two' WHERE slug = 'home'");
    await done(studio, await push(forecast));
    expect([await pageOf('dye'), await pageOf('home')]).toEqual(['How we dye today', 'Home two']);

    await kept.restore();
    await run(COPY, "UPDATE page SET title = 'How we dye today' WHERE slug = 'dye'");
    await run(COPY, "UPDATE page SET title = 'Write to us' WHERE slug = 'home'");
    await run(LIVE, "UPDATE page SET title = 'Home one' WHERE slug = 'home'");
    const other = await choosing({ rest: 'destination' });
    await run(COPY, "UPDATE page SET title = 'Write to all of us' WHERE slug = 'home'");
    const end = await ended(studio, await push(other));
    expect(end.failure?.message).toContain('changed since: page "Write to all of us"');
    expect(await pageOf('dye')).not.toBe('How we dye today');
  });

  it('is not what another part of the same page is, nor a new page on live that takes a new one’s number', async () => {
    await run(COPY, "UPDATE page SET body = '<p>Weld.</p>' WHERE slug = 'dye'");
    await run(COPY, "INSERT INTO page (slug, title, body) VALUES ('weld', 'Weld', '<p>Yellow.</p>')");
    const forecast = await choosing({});
    await run(LIVE, "UPDATE page SET title = 'How we dye, said live' WHERE slug = 'dye'");
    await run(LIVE, "INSERT INTO page (slug, title, body) VALUES ('woad', 'Woad', '<p>Blue.</p>')");
    await done(studio, await push(forecast));
    expect(await pageOf('dye')).toBe('How we dye, said live');
    expect([await pageOf('weld'), await pageOf('woad')]).toEqual(['Weld', 'Woad']);
  });
});

describe('what is written', () => {
  it('stops where an editor of live changed it, or what it replaces, since', async () => {
    await run(COPY, "UPDATE page SET title = 'How we dye today' WHERE slug = 'dye'");
    const forecast = await choosing({});
    await run(LIVE, "UPDATE page SET title = 'How live dyes' WHERE slug = 'dye'");
    const end = await ended(studio, await push(forecast));
    expect(end.failure).toMatchObject({ code: 'outdated' });
    expect(end.failure?.message).toContain('changed since: page "How we dye today"');
    expect(await pageOf('dye')).toBe('How live dyes');
  });

  it('stops where something new came to the copy that was not shown', async () => {
    await run(COPY, "UPDATE page SET title = 'How we dye today' WHERE slug = 'dye'");
    const forecast = await choosing({});
    await run(COPY, "UPDATE page SET title = 'Unseen' WHERE slug = 'home'");
    const end = await ended(studio, await push(forecast));
    expect(end.failure?.message).toContain('changed since: page "Unseen"');
  });
});

describe('a sale', () => {
  const order = (product: number) =>
    visit(studio.gatewayPort, 'threadmill.localhost', '/order', {
      product: String(product),
      name: 'Aud Lindgren',
      email: 'aud@post.example',
      quantity: '1',
    });

  it('outdates no pull whose product somebody decides about', async () => {
    await run(COPY, "UPDATE product SET title = 'Apron of the copy' WHERE id = 1");
    await run(LIVE, "UPDATE product SET title = 'Apron of live' WHERE id = 1");
    await order(1);
    const forecast = await forecastOf(studio, LIVE, COPY);
    expect(forecast.unsettled).toBe(1);
    await order(1);
    const decided = await settled(studio, forecast.id, { settlements: { 'product:1': { take: 'destination' } } });
    await order(1);
    await done(studio, await pull(decided));
    expect(await value(COPY, 'SELECT title FROM product WHERE id = 1')).toBe('Apron of the copy');
    expect(await value(COPY, 'SELECT stock FROM product WHERE id = 1')).toBe(
      await value(LIVE, 'SELECT stock FROM product WHERE id = 1'),
    );
  });

  it('has no part in what a forecast stands for, where a product differs in what visitors write and editors too', async () => {
    await run(COPY, "UPDATE product SET title = 'Apron of the copy' WHERE id = 1");
    await run(LIVE, "UPDATE product SET title = 'Apron of live' WHERE id = 1");
    const first = await forecastOf(studio, LIVE, COPY);
    await order(1);
    const second = await forecastOf(studio, LIVE, COPY);
    expect(second.fingerprint).toBe(first.fingerprint);
  });
});

describe('a table that nobody has classified', () => {
  beforeEach(async () => {
    await run(COPY, 'CREATE TABLE form_entry (id serial PRIMARY KEY, said text)');
    await onSite(studio, COPY, async (query) => {
      const [owner] = await query("SELECT tableowner FROM pg_tables WHERE tablename = 'page'");
      await query(`ALTER TABLE form_entry OWNER TO "${owner?.tableowner}"`);
    });
    await run(COPY, "INSERT INTO form_entry (said) VALUES ('Where are you?')");
    await run(COPY, "UPDATE page SET title = 'How we dye today' WHERE slug = 'dye'");
  });

  it('stops what would take it along', async () => {
    const forecast = await choosing({});
    const found = forecast.checks.find((one) => one.name === 'unclassified tables');
    expect(found).toMatchObject({ state: 'failed' });
    expect(found?.remedy).toContain('--except table:form_entry');
  });

  it.each([
    ['left out by name', { except: ['table:form_entry'] }],
    ['not among what is chosen', { only: ['page:*'] }],
  ])('stops nothing else: %s', async (_what, wishes) => {
    const forecast = await choosing(wishes);
    expect(forecast.checks.filter((one) => one.state === 'failed')).toEqual([]);
    expect(forecast.unclassified).toEqual([{ database: 'main', table: 'form_entry', rows: 1 }]);
    await done(studio, await push(forecast));
    expect(await pageOf('dye')).toBe('How we dye today');
  });
});

describe('a forecast that ends its workers', () => {
  it('is given up after some, with what to do, and can be wished anew', async () => {
    await run(COPY, "UPDATE page SET title = 'How we dye today' WHERE slug = 'dye'");
    const { id } = await choosing({});
    const begin = async (tries: number) => {
      await onRecords(studio, `UPDATE forecast SET state = 'computing', tries = ${tries} WHERE id = '${id}'`);
      await onRecords(studio, `SELECT FROM graphile_worker.add_job('forecast', json_build_object('id', '${id}'))`);
      await expect
        .poll(async () => (await onRecords(studio, `SELECT state FROM forecast WHERE id = '${id}'`))[0]?.state, {
          timeout: 20_000,
        })
        .not.toBe('computing');
      return studio.client.call('forecastShow', { params: { id } });
    };
    expect((await begin(3)).failure?.message).toContain('it may be too large');
    expect((await settled(studio, id, { only: ['page:*'] })).state).toBe('ready');
  });
});

describe('a forecast of other wishes', () => {
  it('is not stored as that of the newest', async () => {
    await run(COPY, "UPDATE page SET title = 'How we dye today' WHERE slug = 'dye'");
    await run(COPY, "UPDATE product SET title = 'Apron, again' WHERE id = 1");
    const forecast = await choosing({});
    // Wishes that come while a worker computes: each call finds the one before at work.
    const wishes = Array.from({ length: 12 }, (_, i) => (i % 2 === 0 ? { only: ['page:*'] } : { only: ['product:*'] }));
    for (const [i, one] of wishes.entries()) {
      await studio.client.call('forecastSettle', { params: { id: forecast.id }, body: one });
      await new Promise((resolve) => setTimeout(resolve, 25 * (i + 1)));
      const [now] = await onRecords(studio, `SELECT state, wishes, result FROM forecast WHERE id = '${forecast.id}'`);
      const { state, result } = now as { state: string; result: { written: { kind: string }[] } };
      if (state === 'ready') expect(result.written.map((each) => `${each.kind}:*`)).toEqual(one.only);
    }
  });
});
