import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { Client, ServiceProblem } from '@tessarion/client';
import { type Endpoint, endpoints } from '@tessarion/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import {
  addSite,
  done,
  END_OTHER_SESSIONS,
  ended,
  folderOf,
  forecastOf,
  leftOvers,
  makeCopy,
  onRecords,
  onSite,
  pushOnto,
  SHOP,
  type Studio,
  startStudio,
  tessarion,
} from './support/studio.js';

let studio: Studio;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

beforeAll(async () => {
  studio = await startStudio('staging');
}, 120_000);
afterAll(() => studio?.stop());

const problem = async (
  act: Promise<unknown>,
): Promise<{ type: string; detail: string; next: string | undefined; status: number }> => {
  const error = await act.then(
    () => undefined,
    (thrown: unknown) => thrown,
  );
  if (!(error instanceof ServiceProblem)) throw new Error(`no problem, but ${String(error)}`);
  return {
    type: error.problem.type,
    detail: error.problem.detail,
    next: error.problem.next,
    status: error.problem.status,
  };
};
const create = (name: string, body: Record<string, unknown> = {}) =>
  studio.client.call('environmentCreate', { params: { site: 'threadmill' }, body: { name, kind: 'staging', ...body } });

describe('who may call', () => {
  it('nobody without signing in, but for what is open', async () => {
    const names = Object.entries(endpoints) as [string, Endpoint][];
    for (const [name, definition] of names) {
      const path = definition.path.replace(/:id/, 't-0123456789').replace(/:\w+/g, 'threadmill');
      const response = await fetch(`${studio.url}/api/v1${path}`, {
        method: definition.method,
        headers:
          definition.method === 'GET' || definition.method === 'DELETE' ? {} : { 'content-type': 'application/json' },
        ...(definition.method === 'GET' || definition.method === 'DELETE' ? {} : { body: '{}' }),
      });
      expect([name, response.status === 401]).toEqual([name, definition.permission !== 'open']);
    }
    for (const path of ['/api/v1/events', '/api/openapi.json', '/api/docs'])
      expect((await fetch(studio.url + path)).status).toBe(401);
    expect((await fetch(`${studio.url}/health`)).status).toBe(200);
    expect((await fetch(`${studio.url}/ready`)).status).toBe(200);
  });

  it('holds off those who guess passwords, and pages of other sites', async () => {
    const open = new Client({ url: studio.url });
    let last = '';
    for (let i = 0; i < 7; i++)
      last = (
        await problem(open.call('signIn', { body: { mail: 'maren.brask@copperlane.example', password: `wrong ${i}` } }))
      ).type;
    expect(last).toBe('tessarion:too-many-tries');
    const foreign = await fetch(`${studio.url}/api/v1/sign-in`, {
      method: 'POST',
      headers: { origin: 'http://evil.example', 'content-type': 'application/json' },
      body: '{"mail":"a@b.example","password":"x"}',
    });
    expect(foreign.status).toBe(403);
  });

  it('documents every endpoint', async () => {
    const document = (await (
      await fetch(`${studio.url}/api/openapi.json`, { headers: { authorization: `Bearer ${studio.token}` } })
    ).json()) as { paths: Record<string, Record<string, unknown>> };
    expect(Object.values(document.paths).flatMap((path) => Object.keys(path)).length).toBe(
      Object.keys(endpoints).length,
    );
  });
});

describe('names', () => {
  it.each(['../x', "a'b", 'a"b', 'x'.repeat(300), '😀', 'a\u0000b', 'A', 'two--dashes', '-a', ''])(
    'refuses %j and makes nothing',
    async (name) => {
      const before = await leftOvers(studio);
      expect((await problem(create(name))).status).toBe(400);
      expect(await leftOvers(studio)).toEqual(before);
    },
  );

  it('names what is unknown or taken', async () => {
    expect((await problem(create('staging'))).type).toBe('tessarion:taken');
    expect((await problem(create('other', { from: 'threadmill/nowhere' }))).detail).toContain('threadmill/nowhere');
    expect((await problem(studio.client.call('siteShow', { params: { site: 'nowhere' } }))).type).toBe(
      'tessarion:not-found',
    );
    expect((await problem(studio.client.call('transferShow', { params: { id: 't-0000000000' } }))).type).toBe(
      'tessarion:not-found',
    );
    expect((await problem(create('other', { leaveOut: { areas: ['attic'] } }))).detail).toContain('attic');
    const taken = await problem(
      studio.client.call('siteAdopt', {
        body: {
          name: 'second',
          client: 'x',
          server: 'harbour-1',
          folder: '/tmp/none',
          addresses: [{ name: 'main', url: `http://threadmill.localhost:${studio.gatewayPort}` }],
          databases: [],
        },
      }),
    );
    expect(taken.detail).toContain('threadmill/live answers there');
  });

  it('copies a file whose name is not UTF-8', async () => {
    const name = Buffer.from([0x62, 0xe4, 0x64, 0x0a, 0x2e, 0x74, 0x78, 0x74]);
    const at = (path: string): Buffer => Buffer.concat([Buffer.from(`${folderOf(studio, path)}/main/media/`), name]);
    await fs.writeFile(at(LIVE), 'odd');
    await makeCopy(studio, 'threadmill', 'bytes', 'dev');
    expect(await fs.readFile(at('threadmill/bytes'), 'utf8')).toBe('odd');
    await fs.rm(at(LIVE));
  });
});

describe('ways that are closed', () => {
  it.each([
    [COPY, COPY],
    [LIVE, LIVE],
  ])('a push from %s onto %s', async (from, onto) => {
    const refused = await problem(studio.client.call('forecastCreate', { body: { from, onto } }));
    expect(refused.type).toBe('tessarion:lane-closed');
    expect(refused.next).not.toBe('');
  });

  it('a reset onto live, and a push of a forecast without its name', async () => {
    expect((await problem(studio.client.call('resetCreate', { body: { from: COPY, onto: LIVE } }))).type).toBe(
      'tessarion:lane-closed',
    );
    await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'x' WHERE slug = 'dye'"));
    const { id } = await studio.client.call('forecastCreate', { body: { from: COPY, onto: LIVE } });
    while ((await studio.client.call('forecastShow', { params: { id } })).state === 'computing')
      await new Promise((resolve) => setTimeout(resolve, 20));
    for (const confirm of [undefined, 'live', 'threadmill/Live', 'threadmill/live '])
      expect(
        (
          await problem(
            studio.client.call('pushCreate', { body: { forecast: id, ...(confirm === undefined ? {} : { confirm }) } }),
          )
        ).type,
      ).toBe('tessarion:not-confirmed');
    expect(
      (
        await problem(
          studio.client.call('environmentRemove', {
            params: { site: 'threadmill', environment: 'live' },
            query: { confirm: LIVE },
          }),
        )
      ).type,
    ).toBe('tessarion:lane-closed');
  });
});

describe('profiles', () => {
  it('a broken one is named line by line, and not saved', async () => {
    const file = join(studio.data, 'broken.yaml');
    await fs.writeFile(
      file,
      'tessarion: profile/1\nname: broken\ntitle: Broken\nareas:\n  - { name: code, path: ., class: authored }\n  - { name: up, path: ../x, class: collected }\ndatabases:\n  main:\n    tables:\n      page: { class: writen }\n      "log_*": { klass: derived, class: derived }\nreferences:\n  - { from: page.id, to: nothing.id }\n',
    );
    const checked = await tessarion(studio, ['profile', 'check', file]);
    expect(checked.code).toBe(1);
    for (const line of ['line 6', 'line 10', 'line 11']) expect(checked.err).toContain(line);
    expect((await tessarion(studio, ['profile', 'save', file])).code).toBe(2);
    await fs.writeFile(file, 'a: [1\nb: }');
    expect((await tessarion(studio, ['profile', 'check', file])).err).toMatch(/line \d/);
  });

  it('a site without one can be kept, not copied', async () => {
    await addSite(studio, { ...SHOP, name: 'bare' });
    await onRecords(studio, "UPDATE site SET profile = NULL WHERE name = 'bare'");
    expect(
      (
        await problem(
          studio.client.call('environmentCreate', {
            params: { site: 'bare' },
            body: { name: 'staging', kind: 'staging' },
          }),
        )
      ).type,
    ).toBe('tessarion:checks-failed');
    await done(studio, await studio.client.call('snapshotTake', { body: { environment: 'bare/live' } }));
  });
});

describe('trouble on the way', () => {
  it('a setting that is missing in the file', async () => {
    const file = join(folderOf(studio, LIVE), 'main/config/site.env');
    const before = await fs.readFile(file, 'utf8');
    await fs.writeFile(file, before.replace(/^MAIL_MODE=.*$/m, ''));
    const end = await ended(studio, await create('unset'));
    expect(end.failure?.message).toContain('"MAIL_MODE" is missing');
    await fs.writeFile(file, `${before}MAIL_MODE=twice\n`);
    expect((await ended(studio, await create('unset'))).failure?.message).toContain('stands there 2 times');
    await fs.writeFile(file, before);
  });

  it('a value that would not fit the copy is named before anything is made', async () => {
    const before = await leftOvers(studio);
    const address = `http://threadmill.localhost:${studio.gatewayPort}`;
    const [first] = await onSite(studio, LIVE, async (query) => {
      await query(`ALTER TABLE menu ALTER COLUMN target TYPE varchar(${address.length + 3})`);
      return query('SELECT id, target FROM menu ORDER BY id LIMIT 1');
    });
    const retarget = (target: unknown) =>
      onSite(studio, LIVE, (query) => query('UPDATE menu SET target = $1 WHERE id = $2', [target, first?.id]));
    await retarget(`${address}/x`);
    const end = await ended(studio, await create('tight'));
    expect(end.checks.find((check) => check.name === 'values')).toMatchObject({
      state: 'failed',
      message: expect.stringContaining(`menu ${first?.id}: target would be`),
    });
    expect(end.steps.filter((step) => step.startedAt).map((step) => step.name)).toEqual(['check']);
    expect(await leftOvers(studio)).toEqual(before);
    await retarget(first?.target);
    await onSite(studio, LIVE, (query) => query('ALTER TABLE menu ALTER COLUMN target TYPE text'));
  });

  it('a forecast that failed says why to whoever goes on with it', async () => {
    const admit = (most: number) =>
      onSite(studio, COPY, async (query) => {
        const [{ name } = {}] = await query('SELECT current_database() AS name');
        await query(`ALTER DATABASE "${name}" CONNECTION LIMIT ${most}`);
        await query(END_OTHER_SESSIONS);
      });
    await admit(0);
    const forecast = await forecastOf(studio, COPY, LIVE);
    await admit(-1);
    expect(forecast).toMatchObject({ state: 'failed', failure: { code: 'database-refused' } });
    const push = studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } });
    await expect(push).rejects.toMatchObject({
      problem: { type: 'tessarion:conflict', detail: `Forecast ${forecast.id} failed: ${forecast.failure?.message}` },
    });
    const request = studio.client.call('requestOpen', {
      body: { forecast: forecast.id, title: 'News', reviewers: [] },
    });
    await expect(request).rejects.toMatchObject({ problem: { next: forecast.failure?.next } });
  });

  it('a unique value held by a row that stays is shown by the forecast, which then cannot be pushed', async () => {
    const [apron] = await onSite(studio, LIVE, (query) => query("SELECT id FROM product WHERE slug = 'apron'"));
    await onSite(studio, LIVE, async (query) => {
      await query("INSERT INTO customer (id, name, email) VALUES (700, 'A', 'a@post.example')");
      await query("INSERT INTO purchase (id, customer_id, total, payment_mode) VALUES (700, 700, 1, 'live')");
      await query('INSERT INTO purchase_line (purchase_id, product_id, quantity, price) VALUES (700, $1, 1, 1)', [
        apron?.id,
      ]);
    });
    const replaced = await onSite(studio, COPY, async (query) => {
      await query("DELETE FROM product WHERE slug = 'apron'");
      return query(
        "INSERT INTO product (slug, title, description, price) VALUES ('apron', 'A new apron', '', 1) RETURNING id",
      );
    });
    const forecast = await forecastOf(studio, COPY, LIVE);
    const { items } = await studio.client.call('forecastItems', { params: { id: forecast.id }, query: {} });
    expect(items.flatMap((item) => item.collisions.map((one) => [item.id, one.words, one.allowed]))).toEqual([
      [
        `product:${apron?.id}`,
        expect.stringMatching(/^It cannot go: \d rows? of purchase_line on live refers? to it\.$/),
        ['destination'],
      ],
      [
        `product:${replaced[0]?.id}`,
        `It wants the slug “apron”, which product ${apron?.id} of live has.`,
        ['destination'],
      ],
    ]);
    const push = studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } });
    expect((await problem(push)).type).toBe('tessarion:unsettled');
    const shown = await tessarion(studio, ['forecast', '--from', COPY, '--onto', LIVE]);
    expect(shown.out).toContain('wants the slug “apron”');
    const replacing = await forecastOf(studio, COPY, LIVE, { method: 'replace' });
    expect(replacing.checks.find((check) => check.state === 'failed')?.message).toContain('wants the slug "apron"');
    await onSite(studio, COPY, (query) => query("UPDATE product SET slug = 'apron-2' WHERE title = 'A new apron'"));
    expect((await forecastOf(studio, COPY, LIVE)).checks.every((check) => check.state === 'passed')).toBe(true);
    await done(studio, await studio.client.call('resetCreate', { body: { from: LIVE, onto: COPY } }));
  });

  it('the site’s database refusing, and dying in mid-transfer', async () => {
    const before = await leftOvers(studio);
    await onSite(studio, LIVE, (query) => query(`ALTER ROLE threadmill_live NOLOGIN; ${END_OTHER_SESSIONS}`));
    const refused = await ended(studio, await create('refused'));
    expect(refused.failure?.message).toMatch(/refused|not permitted/);
    await onSite(studio, COPY, (query) => query('ALTER ROLE threadmill_live LOGIN'));
    await onSite(studio, LIVE, (query) =>
      query(
        "INSERT INTO notice (title, body) SELECT 'n' || i, repeat(md5(i::text), 40) FROM generate_series(1, 40000) i",
      ),
    );
    const transfer = await create('cut');
    let isCut = false;
    while (!isCut)
      isCut =
        ((
          await onSite(studio, COPY, (query) =>
            query(
              "SELECT count(pg_terminate_backend(pid))::int AS cut FROM pg_stat_activity WHERE datname = 'threadmill_live' AND query LIKE '%\"notice\"%' AND application_name LIKE 'tessarion read%'",
            ),
          )
        )[0]?.cut as number) > 0;
    const cut = await ended(studio, transfer);
    expect(cut.state).toBe('failed');
    expect(cut.failure?.message).toContain('threadmill_live');
    expect(await leftOvers(studio)).toEqual(before);
    await onSite(studio, LIVE, (query) => query("DELETE FROM notice WHERE title LIKE 'n%'"));
  });

  it('two pushes at once: the second waits in line and sees its place', async () => {
    await makeCopy(studio, 'threadmill', 'second');
    await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'first in line' WHERE slug = 'dye'"));
    await onSite(studio, 'threadmill/second', (query) =>
      query("UPDATE page SET title = 'second in line' WHERE slug = 'home'"),
    );
    const [a, b] = [await pushOnto(studio, COPY, LIVE), await pushOnto(studio, 'threadmill/second', LIVE)];
    const places = [a.placeInLine, b.placeInLine];
    const ends = [await ended(studio, a), await ended(studio, b)];
    expect(ends[0]?.state).toBe('done');
    expect(['done', 'failed']).toContain(ends[1]?.state);
    expect(places[0]).toBeNull();
    expect(Date.parse(ends[1]?.startedAt ?? '')).toBeGreaterThanOrEqual(Date.parse(ends[0]?.startedAt ?? ''));
  });

  it('stops before the switch, and everything is as it was', async () => {
    const before = await leftOvers(studio);
    const transfer = await create('stopped');
    await studio.client.call('transferStop', { params: { id: transfer.id } });
    expect((await ended(studio, transfer)).state).toBe('stopped');
    expect(await leftOvers(studio)).toEqual(before);
    expect((await problem(studio.client.call('transferStop', { params: { id: transfer.id } }))).type).toBe(
      'tessarion:conflict',
    );
  });

  it('a request sent twice with one key acts once', async () => {
    const send = () =>
      studio.client.call('snapshotTake', { body: { environment: LIVE, reason: 'once' }, idempotencyKey: 'key-1' });
    const [first, second] = [await send(), await send()];
    expect(second.id).toBe(first.id);
    await done(studio, first);
    expect(
      (await problem(studio.client.call('snapshotTake', { body: { environment: COPY }, idempotencyKey: 'key-1' })))
        .type,
    ).toBe('tessarion:conflict');
  });
});
