import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { visit } from '@tessarion/demo';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import {
  done,
  folderOf,
  forecastOf,
  leftOvers,
  makeCopy,
  newcomer,
  onRecords,
  onSite,
  pullInto,
  pushOnto,
  type Studio,
  settled,
  startStudio,
  tessarion,
} from './support/studio.js';

let studio: Studio;
const LIVE = 'threadmill/live';
const ONE = 'threadmill/staging';
const OTHER = 'threadmill/staging-2';

beforeAll(async () => {
  studio = await startStudio('staging');
}, 120_000);
afterAll(() => studio?.stop());

const run = (path: string, ...statements: string[]): Promise<void> =>
  onSite(studio, path, async (query) => {
    for (const sql of statements) await query(sql);
  });
/** Columns of the records that name a place; what is sealed, told or said stays as it was. */
async function namedAnywhere(path: string): Promise<string[]> {
  const columns = await onRecords(
    studio,
    `SELECT c.table_name AS "table", c.column_name AS "column" FROM information_schema.columns c
     JOIN information_schema.tables t USING (table_schema, table_name)
     WHERE c.table_schema = 'public' AND c.data_type = 'text' AND t.table_type = 'BASE TABLE' AND c.table_name <> 'journal_entry'`,
  );
  const named: string[] = [];
  for (const { table, column } of columns)
    if ((await onRecords(studio, `SELECT FROM "${table}" WHERE "${column}" = '${path}' LIMIT 1`)).length > 0)
      named.push(`${table}.${column}`);
  return named;
}

const one = async (path: string, sql: string): Promise<unknown> =>
  Object.values((await onSite(studio, path, (query) => query(sql)))[0] ?? {})[0];
const cli = async (...args: string[]): Promise<string> => {
  const { code, out, err } = await tessarion(studio, args);
  expect(code, err).toBe(0);
  return out;
};
const titles = async (from: string, onto: string): Promise<string[]> => {
  const { id } = await forecastOf(studio, from, onto);
  const { items } = await studio.client.call('forecastItems', { params: { id }, query: {} });
  return items.map((item) => `${item.title}: ${item.fields.map((field) => field.name).join()}`).sort();
};

describe('copies, step by step', { shuffle: false }, () => {
  it('compares two copies of one environment by what each changed since it came off it', async () => {
    // Live goes on between the two copies, and one of them has sent work up already.
    await run(
      ONE,
      "UPDATE page SET title = 'Dyes' WHERE slug = 'dye'",
      "INSERT INTO page (slug, title, body) VALUES ('fair', 'The fair', '')",
    );
    await done(studio, await pushOnto(studio, ONE, LIVE));
    await run(
      LIVE,
      "UPDATE product SET price = 99 WHERE slug = 'throw'",
      "INSERT INTO page (slug, title, body) VALUES ('news', 'News', '')",
    );
    await makeCopy(studio, 'threadmill', 'staging-2');
    // The pair is known once both copies' baselines are packed.
    await forecastOf(studio, OTHER, LIVE);
    expect(await titles(ONE, OTHER)).toEqual([]);
    expect(await titles(OTHER, ONE)).toEqual([]);
    await run(
      ONE,
      "UPDATE product SET title = 'Apron, cool' WHERE slug = 'apron'",
      "UPDATE page SET body = 'Cool.' WHERE slug = 'dye'",
    );
    await run(
      OTHER,
      "UPDATE product SET price = 35 WHERE slug = 'apron'",
      "UPDATE page SET body = 'Warm.' WHERE slug = 'dye'",
      "INSERT INTO page (slug, title, body) VALUES ('palette', 'Palette', '')",
    );
    expect(await titles(ONE, OTHER)).toEqual(['Apron, cool: title', 'Dyes: body']);
    const other = await titles(OTHER, ONE);
    expect(other).toHaveLength(3);
    expect(other).toEqual(expect.arrayContaining(['Dyes: body', 'Linen apron: price']));
    expect(await cli('compare', ONE, OTHER)).toMatch(/threadmill\/staging has 2 that threadmill\/staging-2 has not/);
    // Nothing moves between them; one of them is taken up.
    const forecast = await forecastOf(studio, ONE, OTHER);
    const refused = await studio.client
      .call('pushCreate', { body: { forecast: forecast.id, confirm: OTHER } })
      .catch((error: Error) => error.message);
    expect(refused).toContain('nothing moves between them');
    expect(forecast.checks.find((check) => check.name === 'lane')?.message).toContain('nothing moves between them');
  }, 60_000);

  it('moves work between copies of two kinds by what the earlier one came off with', async () => {
    const DEV = 'threadmill/dev';
    await makeCopy(studio, 'threadmill', 'dev', 'dev');
    await run(LIVE, "UPDATE product SET price = 101 WHERE slug = 'throw'");
    await makeCopy(studio, 'threadmill', 'desk');
    const DESK = 'threadmill/desk';
    await run(
      DEV,
      "UPDATE page SET title = 'Dyes of the year' WHERE slug = 'dye'",
      "UPDATE product SET price = 20 WHERE slug = 'bag'",
      "INSERT INTO page (slug, title, body) VALUES ('loom', 'The loom', '')",
    );
    await run(DESK, "UPDATE product SET title = 'Big bag', price = 21 WHERE slug = 'bag'");
    // What live changed between the two copies is no work of dev's, and does not come back over the desk.
    const { id, items } = await forecastOf(studio, DEV, DESK).then(async (forecast) => ({
      id: forecast.id,
      ...(await studio.client.call('forecastItems', { params: { id: forecast.id }, query: {} })),
    }));
    expect(items.map((item) => `${item.outcome} ${item.title}`).sort()).toEqual([
      'needs-you Market bag',
      'written Dyes of the year',
      'written The loom',
    ]);
    const take = { take: 'destination' } as const;
    await settled(studio, id, { settlements: { 'product:3/price': take } });
    await done(studio, await studio.client.call('pushCreate', { body: { forecast: id } }));
    expect(await one(DESK, "SELECT title || ' ' || price FROM product WHERE slug = 'bag'")).toBe('Big bag 21.00');
    expect(await one(DESK, "SELECT price::text FROM product WHERE slug = 'throw'")).toBe('101.00');
    expect(await one(DESK, "SELECT title FROM page WHERE slug = 'dye'")).toBe('Dyes of the year');
    expect(await titles(DEV, DESK), 'nobody is asked twice').toEqual([]);
    const shown = (environment: string) =>
      studio.client.call('environmentShow', { params: { site: 'threadmill', environment } });
    // All of its work is there; what was done above it is to come.
    expect((await shown('dev')).drift).toMatchObject({ up: 0, down: 2 });
    // Downward it is brought in, with the work of both whole.
    await done(studio, await pullInto(studio, DESK, DEV));
    expect(await one(DEV, "SELECT price::text FROM product WHERE slug = 'throw'")).toBe('101.00');
    expect(await one(DEV, "SELECT title FROM product WHERE slug = 'bag'")).toBe('Big bag');
    expect(await one(DEV, "SELECT title FROM page WHERE slug = 'loom'")).toBe('The loom');
  }, 60_000);

  it('takes nothing for somebody’s work that went when a copy was made anew, or made what it was', async () => {
    const [CURE, BENCH] = ['threadmill/cure', 'threadmill/bench'];
    const params = { site: 'threadmill' };
    const outcomes = async (from: string, onto: string): Promise<string[]> => {
      const { id } = await forecastOf(studio, from, onto);
      const { items } = await studio.client.call('forecastItems', { params: { id }, query: {} });
      return items.map((item) => `${item.outcome} ${item.id}`).sort();
    };
    await makeCopy(studio, 'threadmill', 'cure');
    const body = { name: 'bench', kind: 'dev', from: CURE } as const;
    await done(studio, await studio.client.call('environmentCreate', { params, body }));
    await run(BENCH, "UPDATE product SET title = 'Bag, mended' WHERE slug = 'bag'");
    await done(studio, await pushOnto(studio, BENCH, CURE));
    expect(await outcomes(BENCH, CURE)).toEqual([]);

    // It is live's double again, and what came from the bench went with that: there it is work still.
    await done(studio, await studio.client.call('resetCreate', { body: { from: LIVE, onto: CURE } }));
    expect(await outcomes(BENCH, CURE)).toEqual(['written product:3']);
    expect(await outcomes(CURE, BENCH), 'nobody took it away').toEqual([]);

    // News came in after the snapshot; without them the copy has not changed them back.
    const taken = await done(studio, await studio.client.call('snapshotTake', { body: { environment: CURE } }));
    await run(LIVE, "UPDATE product SET price = 105 WHERE slug = 'throw'");
    await done(studio, await pullInto(studio, LIVE, CURE));
    const snapshots = await studio.client.call('snapshotList', { query: { site: 'threadmill' } });
    const snapshot = snapshots.find((one) => one.environment === CURE)?.id as string;
    expect(taken.state).toBe('done');
    await done(studio, await studio.client.call('restoreCreate', { body: { snapshot, onto: CURE } }));
    expect(await one(CURE, "SELECT price::int FROM product WHERE slug = 'throw'")).not.toBe(105);
    expect(await outcomes(CURE, LIVE)).toEqual(['needs-you product:2']);
  }, 90_000);

  it('renames a copy: address, contents and all that is known of it follow, and its work stays', async () => {
    await cli('env', 'edit', OTHER, '--describe', 'Autumn, with the warmer palette');
    await run(
      OTHER,
      `INSERT INTO page (slug, title, body) VALUES ('self', 'Self', '<a href="http://threadmill--staging-2.localhost:${studio.gatewayPort}/page/dye">dye</a>')`,
    );
    await fs.writeFile(join(folderOf(studio, OTHER), 'main/styles/own.css'), '.own{}');
    await studio.client.call('environmentEdit', {
      params: { site: 'threadmill', environment: 'staging' },
      body: { schedule: null },
      etag: '*',
    });
    const waiting = await titles(OTHER, LIVE);
    const { id: forecast } = await forecastOf(studio, OTHER, LIVE);
    const asked = await studio.client.call('requestOpen', { body: { forecast, title: 'Warmer colours' } });
    const ida = await newcomer(studio, 'ida@copperlane.example', 'editor', OTHER);
    await studio.client.call('tokenCreate', { body: { name: 'one copy', scope: OTHER } });
    await studio.client.call('guestInvite', {
      params: { site: 'threadmill' },
      body: { name: 'Vera Lund', looks: [{ environment: OTHER, title: 'Warmer' }] },
    });
    const before = await studio.client.call('transferList', { query: { site: 'threadmill' } });
    expect(await cli('env', 'rename', OTHER, 'warm-palette', '--yes')).toContain('Rename');
    const WARM = 'threadmill/warm-palette';
    const shown = await studio.client.call('environmentShow', {
      params: { site: 'threadmill', environment: 'warm-palette' },
    });
    expect(shown).toMatchObject({ state: 'drifted', description: 'Autumn, with the warmer palette' });
    expect(shown.addresses[0]?.url).toContain('threadmill--warm-palette.localhost');
    expect(await namedAnywhere(OTHER), 'nothing on record names it as it was').toEqual([]);
    await expect
      .poll(async () => studio.client.call('requestShow', { params: { id: asked.id } }))
      .toMatchObject({ from: WARM });
    await studio.client.call('requestWithdraw', { params: { id: asked.id }, body: { reason: 'The test is over.' } });
    await ida.call('environmentShow', { params: { site: 'threadmill', environment: 'warm-palette' } });
    expect(await titles(WARM, LIVE), 'what waits is the same').toEqual(waiting);
    expect(await titles(WARM, ONE)).toHaveLength(5);
    expect(await one(WARM, "SELECT body FROM page WHERE slug = 'self'")).toContain(
      'http://threadmill--warm-palette.localhost',
    );
    expect(await one(WARM, "SELECT count(*)::int FROM customer WHERE email LIKE '%@masked.example'")).toBe(1);
    expect(await fs.readFile(join(folderOf(studio, WARM), 'main/styles/own.css'), 'utf8')).toBe('.own{}');
    expect(await fs.readFile(join(folderOf(studio, WARM), 'main/config/site.env'), 'utf8')).not.toContain('staging-2');
    const after = await studio.client.call('transferList', { query: { site: 'threadmill' } });
    expect(after.items).toHaveLength(before.items.length + 1);
    expect(after.items.some((each) => each.onto === OTHER)).toBe(false);
    expect((await visit(studio.gatewayPort, 'threadmill--warm-palette.localhost', '/')).status).toBe(401);
    expect((await visit(studio.gatewayPort, 'threadmill--staging-2.localhost', '/')).status).not.toBe(200);
    const left = await leftOvers(studio);
    expect(left.folders.filter((name) => name.includes('staging-2'))).toEqual([]);
    // The name ends in random digits: only the whole of it tells the copies apart.
    expect(left.databases.filter((name) => name.startsWith('threadmill_staging_2_'))).toEqual([]);
    // And it goes up like any other.
    await done(studio, await pushOnto(studio, WARM, LIVE, { wishes: { only: ['product:*'] } }));
    expect(await one(LIVE, "SELECT price::int FROM product WHERE slug = 'apron'")).toBe(35);
    for (const [path, name, words] of [
      [WARM, 'staging', 'is there already'],
      [LIVE, 'other', 'keeps its name'],
    ] as const) {
      const { err, code } = await tessarion(studio, ['env', 'rename', path, name, '--yes']);
      expect([code !== 0, err]).toEqual([true, expect.stringContaining(words)]);
    }
  }, 60_000);

  it('brings news in on a schedule, and stops at what collides', async () => {
    const params = { site: 'threadmill', environment: 'staging' };
    const records = new pg.Client({ connectionString: await recordsUrl() });
    await records.connect();
    /** As if the time of day had come: what was done last lies a day back. */
    const makeDue = () =>
      records.query(
        "UPDATE environment SET schedule = jsonb_set(schedule, '{since}', to_jsonb((now() - interval '2 days')::text)) WHERE path = $1",
        [ONE],
      );
    const round = async () => {
      await records.query("SELECT graphile_worker.add_job('schedule')");
      for (;;) {
        const { schedule } = await studio.client.call('environmentShow', { params });
        if (schedule?.last) return schedule.last;
        await new Promise((resolve) => setTimeout(resolve, 50));
      }
    };
    try {
      await done(studio, await pullInto(studio, LIVE, ONE, { wishes: { rest: 'destination' } }));
      expect(await cli('env', 'edit', ONE, '--pull-at', '03:30')).toContain('comes in at 03:30, every day');
      await run(LIVE, "UPDATE page SET title = 'Welcome' WHERE slug = 'home'");
      await makeDue();
      const begun = await round();
      expect(begun).toMatchObject({ outcome: 'begun', text: expect.stringContaining('Bring 1 page') });
      const pull = await done(studio, { id: begun.transfer as string });
      expect(pull.person).toBe('schedule of threadmill/staging');
      expect(await one(ONE, "SELECT title FROM page WHERE slug = 'home'")).toBe('Welcome');

      await cli('env', 'edit', ONE, '--pull-at', '03:30', '--pull-on', 'mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun');
      await run(LIVE, "UPDATE page SET title = 'Live says' WHERE slug = 'home'");
      await run(ONE, "UPDATE page SET title = 'Staging says' WHERE slug = 'home'");
      await makeDue();
      const stopped = await round();
      expect(stopped).toMatchObject({
        outcome: 'stopped',
        transfer: null,
        text: expect.stringContaining('1 item collides'),
      });
      expect(await one(ONE, "SELECT title FROM page WHERE slug = 'home'")).toBe('Staging says');
      const forecast = await studio.client.call('forecastShow', { params: { id: stopped.forecast as string } });
      expect(forecast.unsettled).toBe(1);
      expect(await cli('env', 'show', ONE)).toContain('1 item collides');
      expect(await cli('env', 'edit', ONE, '--no-pull')).toContain('Nothing comes in by itself');
      expect((await tessarion(studio, ['env', 'edit', ONE, '--pull-at', '25:00'])).code).not.toBe(0);
      expect((await tessarion(studio, ['env', 'edit', LIVE, '--pull-at', '03:00'])).code).toBe(3);
    } finally {
      await records.end();
    }
  }, 60_000);
});

async function recordsUrl(): Promise<string> {
  for (const name of await fs.readdir('/proc')) {
    if (!/^\d+$/.test(name)) continue;
    const variables = await fs.readFile(`/proc/${name}/environ`, 'utf8').catch(() => '');
    if (!variables.includes(`TESSARION_DATA=${studio.data}/`)) continue;
    const url = variables.split('\0').find((one) => one.startsWith('TESSARION_RECORDS_URL='));
    if (url) return url.slice('TESSARION_RECORDS_URL='.length);
  }
  throw new Error('no worker tells where the records are');
}
