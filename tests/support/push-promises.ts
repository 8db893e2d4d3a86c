import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { KeptSite } from './kept-site.js';
import type { StudioOptions } from './start-studio.js';
import {
  done,
  ended,
  folderOf,
  forecastOf,
  onSite,
  pushOnto,
  type Studio,
  startStudio,
  tessarion,
  undo,
} from './studio.js';

/** What a push promises, however the server is reached. */
export function keepsPushPromises(options: StudioOptions = {}): void {
  let studio: Studio;
  let kept: KeptSite;
  const LIVE = 'threadmill/live';
  const COPY = 'threadmill/staging';

  beforeAll(async () => {
    studio = await startStudio('staging', options);
    kept = await KeptSite.of(studio, LIVE, COPY);
  });
  beforeEach(() => kept.restore());
  afterAll(() => studio?.stop());

  const order = (product: number, name = 'Aud Lindgren') =>
    visit(studio.gatewayPort, 'threadmill.localhost', '/order', {
      product: String(product),
      name,
      email: 'aud@post.example',
      quantity: '1',
    });
  const livePage = (path: string) => visit(studio.gatewayPort, 'threadmill.localhost', path);
  const one = async (path: string, sql: string): Promise<unknown> =>
    Object.values((await onSite(studio, path, (query) => query(sql)))[0] ?? {})[0];

  describe('a push while visitors order', () => {
    it('shows on live, loses no order, stock count or crew-set status, is on record, and can be undone', async () => {
      await onSite(studio, COPY, async (query) => {
        await query(
          "UPDATE product SET price = 36.00, description = 'Two deep pockets.', stock = 7 WHERE slug = 'apron'",
        );
        await query(
          "INSERT INTO product (slug, title, description, price, stock) VALUES ('runner', 'Table runner', 'Russet.', 48, 5)",
        );
        await query("UPDATE page SET body = '<p>Madder, weld, woad and walnut.</p>' WHERE slug = 'dye'");
        await query("UPDATE sailing SET departs = '10:15', status = 'staging says so'");
        await query("DELETE FROM product WHERE slug IN ('bag', 'throw')");
      });
      await fs.appendFile(join(folderOf(studio, COPY), 'main/styles/site.css'), '.new{}\n');
      await fs.writeFile(join(folderOf(studio, COPY), 'main/media/new.svg'), '<svg/>');
      await fs.rm(join(folderOf(studio, COPY), 'main/media/logo.svg'));
      await onSite(studio, LIVE, (query) => query("UPDATE sailing SET status = '10 min late', status_at = now()"));
      expect((await order(2)).status).toBe(200);

      let failed = 0;
      let sent = 0;
      let isGoing = true;
      const visitors = Promise.all(
        [1, 2, 3].map(async () => {
          while (isGoing) {
            const answer = await order(1);
            sent++;
            if (answer.status !== 200) failed++;
          }
        }),
      );
      // What was sold meanwhile stays, where it was to go.
      const transfer = await pushOnto(studio, COPY, LIVE, { wishes: { rest: 'destination' } });
      const end = await done(studio, transfer);
      isGoing = false;
      await visitors;
      expect(failed).toBe(0);
      expect(sent).toBeGreaterThan(3);

      expect((await livePage('/product/apron')).body).toContain('Two deep pockets.');
      expect((await livePage('/product/runner')).status).toBe(200);
      expect((await livePage('/media/new.svg')).status).toBe(200);
      expect((await livePage('/media/logo.svg')).status).toBe(404);
      expect((await livePage('/styles/site.css')).body).toContain('.new{}');
      expect(Number(await one(LIVE, 'SELECT count(*) FROM purchase'))).toBe(sent + 2);
      expect(Number(await one(LIVE, "SELECT stock FROM product WHERE slug = 'apron'"))).toBe(100 - sent);
      expect(await one(LIVE, 'SELECT status FROM sailing')).toBe('10 min late');
      expect(await one(LIVE, 'SELECT departs::text FROM sailing')).toBe('10:15:00');
      expect(
        Number(await one(LIVE, "SELECT count(*) FROM product WHERE slug = 'throw'")),
        'a product that was ordered stays',
      ).toBe(1);
      expect(
        Number(await one(LIVE, "SELECT count(*) FROM product WHERE slug = 'bag'")),
        'one that nobody ordered goes',
      ).toBe(0);
      expect(Number(await one(LIVE, "SELECT count(*) FROM customer WHERE email LIKE '%masked%'"))).toBe(0);

      expect(end).toMatchObject({
        kind: 'push',
        from: COPY,
        onto: LIVE,
        person: 'Maren Brask',
        state: 'done',
        canUndo: true,
      });
      expect(end.written.reduce((sum, amount) => sum + amount.count, 0)).toBe(8);
      expect(end.items.map((item) => item.title)).toContain('Table runner');

      const again = await forecastOf(studio, COPY, LIVE);
      expect(again.written, 'a second forecast is empty').toEqual([]);

      expect((await order(1)).status).toBe(200);
      await onSite(studio, LIVE, (query) =>
        query("UPDATE page SET body = '<p>An editor of live was here.</p>' WHERE slug = 'dye'"),
      );
      const undone = await done(studio, await undo(studio, transfer.id));
      expect(undone.remains.join()).toContain('page "How we dye": changed since (body)');
      expect(await one(LIVE, "SELECT price::text FROM product WHERE slug = 'apron'")).toBe('34.00');
      expect(await one(LIVE, "SELECT body FROM page WHERE slug = 'dye'")).toContain('An editor of live was here');
      expect(Number(await one(LIVE, "SELECT count(*) FROM product WHERE slug = 'bag'"))).toBe(1);
      expect(Number(await one(LIVE, 'SELECT count(*) FROM purchase'))).toBe(sent + 3);
      expect(Number(await one(LIVE, "SELECT stock FROM product WHERE slug = 'apron'"))).toBe(100 - sent - 1);
      expect((await livePage('/media/logo.svg')).status).toBe(200);
      expect((await livePage('/media/new.svg')).status).toBe(404);
      expect((await studio.client.call('transferShow', { params: { id: transfer.id } })).undoneBy).toBe(undone.id);
    });

    it('does not delete what was sold after the push when it is undone', async () => {
      await onSite(studio, COPY, (query) =>
        query("INSERT INTO product (slug, title, description, price) VALUES ('wreath', 'Wreath', 'Willow.', 27)"),
      );
      const transfer = await pushOnto(studio, COPY, LIVE);
      await done(studio, transfer);
      const id = await one(LIVE, "SELECT id FROM product WHERE slug = 'wreath'");
      expect((await order(Number(id))).status).toBe(200);
      const undone = await done(studio, await undo(studio, transfer.id));
      expect(undone.remains.join()).toContain(
        'product "Wreath": It cannot go: 1 row of purchase_line on live refers to it.',
      );
      expect(Number(await one(LIVE, "SELECT count(*) FROM product WHERE slug = 'wreath'"))).toBe(1);
    });
  });

  describe('what a forecast says before', () => {
    it('counts what live changed itself and would lose', async () => {
      await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Staging title' WHERE slug = 'home'"));
      await onSite(studio, LIVE, async (query) => {
        await query("UPDATE page SET title = 'Live title' WHERE slug = 'home'");
        await query("INSERT INTO notice (title, body) VALUES ('Made on live', 'x')");
      });
      const forecast = await forecastOf(studio, COPY, LIVE, { method: 'replace' });
      expect(forecast.lost).toEqual(
        expect.arrayContaining([
          expect.objectContaining({ count: 1, kind: 'page' }),
          expect.objectContaining({ count: 1, kind: 'notice' }),
        ]),
      );
      expect(forecast.sentence.map((piece) => piece.text).join('')).toContain('that live changed meanwhile');
    });

    it('is outdated when live changed since, and writes nothing', async () => {
      const forecast = await forecastOf(studio, COPY, LIVE, { method: 'replace' });
      await onSite(studio, LIVE, (query) => query("UPDATE page SET title = 'Changed again' WHERE slug = 'home'"));
      const end = await ended(
        studio,
        await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }),
      );
      expect(end.state).toBe('failed');
      expect(end.failure?.message).toMatch(/outdated.*page/);
      expect(await one(LIVE, "SELECT title FROM page WHERE slug = 'home'")).toBe('Changed again');
      const shown = await studio.client.call('environmentShow', {
        params: { site: 'threadmill', environment: 'live' },
      });
      expect(shown.state, 'nothing was written: there is nothing to look at').not.toBe('failed');
    });

    it('is not outdated by a sold product', async () => {
      const forecast = await forecastOf(studio, COPY, LIVE, { method: 'replace' });
      await order(1);
      const end = await ended(
        studio,
        await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }),
      );
      expect(end.failure).toBeNull();
      expect(end.state).toBe('done');
    });
  });

  describe('a push that goes wrong', () => {
    it('takes itself back when a page is not well afterwards', async () => {
      const template = join(folderOf(studio, COPY), 'main/templates/page.html');
      const before = await fs.readFile(template, 'utf8');
      await fs.writeFile(template, before.replace('<main>', '<section>'));
      const orders = await one(LIVE, 'SELECT count(*) FROM purchase');
      const end = await ended(studio, await pushOnto(studio, COPY, LIVE));
      expect(end.state).toBe('failed');
      expect(end.failure?.message).toContain('the page lacks');
      expect((await livePage('/')).body).toContain('<main>');
      expect(await one(LIVE, 'SELECT count(*) FROM purchase')).toBe(orders);
      const shown = await studio.client.call('environmentShow', {
        params: { site: 'threadmill', environment: 'live' },
      });
      expect(shown.state).toBe('failed');
      await studio.client.call('transferAcknowledge', { params: { id: end.id } });
      await fs.writeFile(template, before);
    });

    it('says before what is unwell already, and does not blame itself for it', async () => {
      for (const path of [COPY, LIVE]) {
        const template = join(folderOf(studio, path), 'main/templates/page.html');
        await fs.writeFile(template, (await fs.readFile(template, 'utf8')).replace('<main>', '<section>'));
      }
      await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Unwell' WHERE slug = 'dye'"));
      const forecast = await forecastOf(studio, COPY, LIVE);
      const said = forecast.checks.filter((check) => check.name === 'pages');
      expect(said).toMatchObject([{ state: 'warning', message: expect.stringContaining('is not well already') }]);
      const end = await done(
        studio,
        await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }),
      );
      expect(end.proof.filter((point) => point.name === 'pages')).toMatchObject([
        { state: 'warning', message: expect.stringContaining('is not well, as before') },
      ]);
    });

    it('refuses a trigger that would write elsewhere, and keeps everything', async () => {
      await onSite(studio, LIVE, async (query) => {
        await query(
          "CREATE FUNCTION touch() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO public.notice (title, body) VALUES ('by trigger', ''); RETURN new; END $$",
        );
        await query('CREATE TRIGGER touch AFTER UPDATE ON page FOR EACH ROW EXECUTE FUNCTION touch()');
      });
      await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Through a trigger' WHERE slug = 'dye'"));
      const end = await ended(studio, await pushOnto(studio, COPY, LIVE));
      expect(end.state).toBe('failed');
      expect(end.failure?.message).toContain('trigger');
      expect(Number(await one(LIVE, "SELECT count(*) FROM page WHERE title = 'Through a trigger'"))).toBe(0);
      expect(Number(await one(LIVE, "SELECT count(*) FROM notice WHERE title = 'by trigger'"))).toBe(0);
      await onSite(studio, LIVE, (query) => query('DROP FUNCTION touch() CASCADE'));
    });

    it('carries over a file that was written to live while the push was staged', async () => {
      const late = join(folderOf(studio, LIVE), 'main/media/late.svg');
      await fs.writeFile(join(folderOf(studio, COPY), 'main/media/second.svg'), '<svg/>');
      const forecast = await forecastOf(studio, COPY, LIVE);
      const transfer = await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } });
      const current = await studio.client.call('transferShow', { params: { id: transfer.id } });
      expect(current.id).toBe(transfer.id);
      await fs.writeFile(late, '<svg>late</svg>');
      await ended(studio, transfer);
      expect(await fs.readFile(late, 'utf8')).toBe('<svg>late</svg>');
    });
  });

  describe('the command line', () => {
    it('forecasts, pushes and undoes, with the exit codes of the handbook', async () => {
      await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'By command' WHERE slug = 'dye'"));
      const forecast = await tessarion(studio, ['forecast', '--from', COPY]);
      expect(forecast).toMatchObject({ code: 0 });
      expect(forecast.out).toContain('Write 1 page from threadmill/staging onto threadmill/live');
      const unconfirmed = await tessarion(studio, ['push', '--from', COPY, '--onto', LIVE, '--yes']);
      expect(unconfirmed.code).toBe(3);
      const wrong = await tessarion(studio, ['push', '--from', COPY, '--onto', LIVE, '--confirm', 'threadmill']);
      expect(wrong.code).toBe(3);
      expect(wrong.err).toContain('threadmill/live');
      const pushed = await tessarion(studio, ['push', '--from', COPY, '--confirm', LIVE]);
      expect(pushed.code, pushed.err).toBe(0);
      const listed = JSON.parse(
        (await tessarion(studio, ['transfer', 'list', '--kind', 'push', '--limit', '1', '--json'])).out,
      ) as { items: { id: string }[] };
      expect((await tessarion(studio, ['undo', listed.items[0]?.id ?? '', '--confirm', LIVE])).code).toBe(0);
      expect(Number(await one(LIVE, "SELECT count(*) FROM page WHERE title = 'By command'"))).toBe(0);
      expect((await tessarion(studio, ['push', '--from', LIVE, '--onto', COPY, '--yes'])).code).toBe(3);
      expect((await tessarion(studio, ['nonsense'])).code).toBe(2);
      expect((await tessarion(studio, ['site', 'list'], { TESSARION_URL: 'http://127.0.0.1:9' })).code).toBe(6);
      expect((await tessarion(studio, ['site', 'list'], { TESSARION_TOKEN: 'nobody' })).code).toBe(3);
    });
  });
}
