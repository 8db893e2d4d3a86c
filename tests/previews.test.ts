import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import type { Client } from '@tessarion/client';
import type { RequestDetail } from '@tessarion/contract';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { Breakpoint } from './support/breakpoint.js';
import { KeptSite } from './support/kept-site.js';
import {
  done,
  ended,
  folderOf,
  forecastOf,
  leftOvers,
  newcomer,
  onSite,
  refusal,
  type Studio,
  startStudio,
  tessarion,
} from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';
/** What both a preview and live hold of what people write; keys and times of rows among them. */
const AUTHORED = ['page', 'menu', 'product'] as const;

let studio: Studio;
let kept: KeptSite;
let ida: Client;
let lise: Client;

beforeAll(async () => {
  studio = await startStudio('staging');
  ida = await newcomer(studio, 'ida@copperlane.example', 'editor', 'threadmill', 'Ida');
  lise = await newcomer(studio, 'lise@copperlane.example', 'reviewer', 'threadmill', 'Lise');
  kept = await KeptSite.of(studio, LIVE, COPY);
}, 120_000);
afterAll(() => studio?.stop());

beforeEach(async () => {
  for (const one of (await ida.call('requestList', { query: { open: 'yes' } })).items)
    await studio.client.call('requestWithdraw', { params: { id: one.id }, body: { reason: 'The test is over.' } });
  await gone();
  await kept.restore();
});

const run = (path: string, sql: string) => onSite(studio, path, (query) => query(sql));
const authored = async (path: string): Promise<unknown> =>
  onSite(studio, path, async (query) => {
    const tables: unknown[] = [];
    for (const table of AUTHORED) tables.push(await query(`SELECT * FROM ${table} ORDER BY id`));
    return tables;
  });
const show = (id: string, by = ida): Promise<RequestDetail> => by.call('requestShow', { params: { id } });

async function open(title: string, only: string[] = []): Promise<RequestDetail> {
  const forecast = await forecastOf(studio, COPY, LIVE, { wishes: { only } });
  return ida.call('requestOpen', { body: { forecast: forecast.id, title } });
}

/** Makes a request's preview. @returns its path */
async function made(id: string, by = ida): Promise<string> {
  const transfer = await by.call('previewMake', { params: { id } });
  await done(studio, transfer);
  return transfer.onto;
}

/** Waits until no preview is left. */
async function gone(): Promise<void> {
  for (let tries = 0; tries < 600; tries++) {
    const { folders } = await leftOvers(studio);
    if (!folders.some((name) => name.includes('--preview-'))) return;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
  throw new Error('a preview stays');
}

describe('a preview', () => {
  it('is what live becomes: exactly the items of the request, on live as it is now', async () => {
    await run(COPY, "UPDATE product SET title = 'Linen apron, russet' WHERE slug = 'apron'");
    await run(COPY, "DELETE FROM product WHERE slug = 'bag'");
    await run(COPY, "INSERT INTO product (slug, title, description, price) VALUES ('scarf', 'Scarf', 'Warm.', 41)");
    await run(COPY, "UPDATE page SET title = 'Not asked for' WHERE slug = 'dye'");
    await fs.writeFile(join(folderOf(studio, COPY), 'main/templates/new.html'), '<p>new</p>');
    // Live goes on meanwhile: an order's number, a price, and a product of its own.
    await run(LIVE, "UPDATE product SET price = 35 WHERE slug = 'apron'");
    await run(LIVE, "INSERT INTO product (slug, title, description, price) VALUES ('cap', 'Cap', 'Wool.', 12)");
    const [before] = await run(LIVE, "SELECT last_value FROM pg_sequences WHERE sequencename = 'product_id_seq'");

    const request = await open('Autumn', ['product:*', 'template:*']);
    const path = await made(request.id);
    const { preview } = await show(request.id, lise);
    expect(preview).toMatchObject({ environment: path, state: 'ready', revision: 1, because: null });
    const titles = await run(path, 'SELECT slug, title, price::float FROM product ORDER BY slug');
    expect(titles).toEqual([
      { slug: 'apron', title: 'Linen apron, russet', price: 35 },
      { slug: 'cap', title: 'Cap', price: 12 },
      { slug: 'scarf', title: 'Scarf', price: 41 },
      { slug: 'throw', title: 'Wool throw', price: 89 },
    ]);
    expect(await run(path, "SELECT title FROM page WHERE slug = 'dye'")).toEqual([{ title: 'How we dye' }]);
    const [customer] = await run(path, 'SELECT email FROM customer');
    expect(customer?.email).not.toBe('ingrid.solheim@post.example');
    expect(
      await run(LIVE, "SELECT last_value FROM pg_sequences WHERE sequencename = 'product_id_seq'"),
      'numbers of live are not used up',
    ).toEqual([before]);

    const shown = await authored(path);
    const file = await fs.readFile(join(folderOf(studio, path), 'main/templates/new.html'), 'utf8');
    await ida.call('requestAsk', { params: { id: request.id } });
    await lise.call('verdictGive', { params: { id: request.id }, body: { says: 'approve', revision: 1 } });
    const going = await studio.client.call('requestDeliver', {
      params: { id: request.id },
      body: { when: 'now', confirm: LIVE },
    });
    await done(studio, { id: going.transfer ?? '' });
    expect(placed(await authored(LIVE))).toEqual(placed(shown));
    expect(await fs.readFile(join(folderOf(studio, LIVE), 'main/templates/new.html'), 'utf8')).toBe(file);
    await gone();
    expect((await show(request.id)).preview).toBeNull();
  });

  it('stands behind a gate at its own address, which it keeps when it is made anew', async () => {
    await run(COPY, "UPDATE page SET title = 'Hello' WHERE slug = 'home'");
    const request = await open('Words');
    const path = await made(request.id);
    const host = `${path.replace('/', '--')}.localhost`;
    expect((await visit(studio.gatewayPort, host, '/')).status).toBe(401);
    const [site, environment] = path.split('/') as [string, string];
    const enter = () => lise.call('environmentEnter', { params: { site, environment } });
    const { url } = await enter();
    expect(url.startsWith(`http://${host}:${studio.gatewayPort}/`)).toBe(true);
    expect((await visit(studio.gatewayPort, host, url.slice(url.indexOf('/.tessarion')))).status).toBe(303);

    const logins = await studio.client.call('environmentLogins', { params: { site, environment } });
    await run(COPY, "UPDATE page SET title = 'Hello again' WHERE slug = 'home'");
    await ida.call('requestRevise', { params: { id: request.id }, body: {} });
    await expect.poll(async () => (await show(request.id)).revision).toBe(2);
    expect((await show(request.id)).preview).toMatchObject({ state: 'ready', revision: 1 });
    expect(await made(request.id, lise)).toBe(path);
    expect((await show(request.id)).preview).toMatchObject({ state: 'ready', revision: 2 });
    expect(await run(path, "SELECT title FROM page WHERE slug = 'home'")).toEqual([{ title: 'Hello again' }]);
    expect(await studio.client.call('environmentLogins', { params: { site, environment } })).toEqual(logins);
  });

  it('is only looked at', async () => {
    await run(COPY, "UPDATE page SET title = 'Seen' WHERE slug = 'home'");
    const request = await open('Seen');
    const path = await made(request.id);
    const [site, environment] = path.split('/') as [string, string];
    const { client } = studio;
    const listed = await client.call('siteShow', { params: { site } });
    expect(listed.environments.map((one) => one.path)).toEqual([LIVE, COPY]);
    const ends = (from: string, onto: string) => ({ body: { from, onto } });
    for (const attempt of [
      () => client.call('forecastCreate', ends(path, LIVE)),
      () => client.call('forecastCreate', ends(COPY, path)),
      () => client.call('forecastCreate', ends(LIVE, path)),
      () => client.call('resetCreate', ends(LIVE, path)),
      () => client.call('resetCreate', ends(path, COPY)),
      () => client.call('environmentRename', { params: { site, environment }, body: { name: 'mine' } }),
      () => client.call('environmentEdit', { params: { site, environment }, body: { description: 'mine' }, etag: '*' }),
      () => client.call('environmentCreate', { params: { site }, body: { name: 'x', kind: 'dev', from: path } }),
      () => client.call('snapshotTake', { body: { environment: path } }),
    ])
      expect(await refusal(attempt())).toBe('lane-closed');
    await done(studio, await ida.call('previewRemove', { params: { id: request.id } }));
    await gone();
    expect(await refusal(ida.call('previewRemove', { params: { id: request.id } }))).toBe('not-found');
  });

  it('is not made of what nobody has looked at: the request must follow its source first', async () => {
    await run(COPY, "UPDATE page SET title = 'One' WHERE slug = 'home'");
    const request = await open('One');
    await run(COPY, "UPDATE page SET title = 'Two' WHERE slug = 'home'");
    const before = await leftOvers(studio);
    const transfer = await ida.call('previewMake', { params: { id: request.id } });
    const end = await ended(studio, transfer);
    expect(end).toMatchObject({ state: 'failed', failure: { code: 'outdated' } });
    expect(end.failure?.next).toContain(`tessarion request revise ${request.id}`);
    expect(await leftOvers(studio)).toEqual(before);
    expect((await show(request.id)).preview).toMatchObject({ state: 'failed', because: end.failure?.message });
  });

  it('is made and named on the command line', async () => {
    await run(COPY, "UPDATE page SET title = 'Line' WHERE slug = 'home'");
    const request = await open('Line');
    const shown = await tessarion(studio, ['request', 'preview', request.id]);
    expect(shown.code, shown.err).toBe(0);
    expect(shown.out).toContain(`http://threadmill--preview-${request.id.slice(2)}.localhost`);
    const anew = await tessarion(studio, ['request', 'preview', request.id, '--open']);
    expect(anew.out).toContain('/.tessarion/enter?ticket=');
    const removed = await tessarion(studio, ['request', 'preview', request.id, '--remove']);
    expect(removed.code, removed.err).toBe(0);
    await gone();
  });

  it.each(['check', 'reserve', 'copy', 'write', 'publish', 'tasks'])(
    'of which a worker dies at "%s" is there wholly, or not at all',
    async (step) => {
      const breakpoint = await Breakpoint.open(studio);
      try {
        await run(COPY, "UPDATE page SET title = 'Killed' WHERE slug = 'home'");
        const request = await open('Killed');
        const before = await leftOvers(studio);
        await breakpoint.set(step);
        const transfer = await ida.call('previewMake', { params: { id: request.id } });
        await breakpoint.reached();
        const [row] = await breakpoint.query(
          `SELECT w.name FROM transfer t JOIN worker w ON w.id::text = t.worker WHERE t.id = '${transfer.id}'`,
        );
        process.kill(Number(String(row?.name).replace('worker ', '')), 'SIGKILL');
        await breakpoint.clear();
        const end = await ended(studio, transfer);
        expect(end.state).toBe(['publish', 'tasks'].includes(step) ? 'done' : 'failed');
        if (end.state === 'done')
          expect(await run(transfer.onto, "SELECT title FROM page WHERE slug = 'home'")).toEqual([{ title: 'Killed' }]);
        else expect(await leftOvers(studio)).toEqual(before);
      } finally {
        await breakpoint.close();
      }
    },
  );
});

/** Rows without where they answer, and without when they were last written, which is when they came. */
const placed = (tables: unknown): unknown =>
  JSON.parse(
    JSON.stringify(tables).replaceAll(/threadmill--preview-[0-9a-z]+\.localhost/g, 'threadmill.localhost'),
    (key, value) => (key === 'updated_at' ? undefined : value),
  );
