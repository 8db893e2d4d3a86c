import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, expect, it } from 'vitest';
import {
  done,
  ended,
  folderOf,
  forecastOf,
  leftOvers,
  onSite,
  type Studio,
  startStudio,
  tessarion,
  undo,
  workerPids,
} from './support/studio.js';

let studio: Studio;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

beforeAll(async () => {
  studio = await startStudio('staging');
}, 120_000);
afterAll(() => studio?.stop());

const contents = async (path: string): Promise<unknown> => {
  const rows = await onSite(studio, path, async (query) => {
    const tables = (
      await query(
        "SELECT relname FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace AND relname NOT IN ('page_cache', 'search_word') ORDER BY 1",
      )
    ).map((row) => String(row.relname));
    return Promise.all(
      tables.map((table) =>
        query(`SELECT coalesce(array_agg(t::text ORDER BY t::text), '{}') AS rows FROM "${table}" t`),
      ),
    );
  });
  const base = join(folderOf(studio, path), 'main');
  const files: [string, string][] = [];
  for (const entry of await fs.readdir(base, { recursive: true, withFileTypes: true }))
    if (entry.isFile() && !entry.parentPath.includes('/var'))
      files.push([
        join(entry.parentPath, entry.name)
          .slice(base.length)
          .replace(/config.*/, 'config'),
        entry.name.endsWith('.env') ? '' : await fs.readFile(join(entry.parentPath, entry.name), 'latin1'),
      ]);
  return { rows, files: files.sort() };
};

async function take(path: string): Promise<string> {
  await done(studio, await studio.client.call('snapshotTake', { body: { environment: path, reason: 'test' } }));
  return (await studio.client.call('snapshotList', { query: { environment: path } }))[0]?.id as string;
}

it('restores a copy to exactly what it was', async () => {
  await onSite(studio, COPY, (query) => query("INSERT INTO session (id, editor_id) VALUES ('kept', 1)"));
  const before = await contents(COPY);
  const id = await take(COPY);
  await onSite(studio, COPY, async (query) => {
    await query("UPDATE page SET title = 'changed'");
    await query('DELETE FROM menu');
    await query("INSERT INTO notice (title, body) VALUES ('new', '')");
  });
  await fs.rm(join(folderOf(studio, COPY), 'main/media/logo.svg'));
  await fs.writeFile(join(folderOf(studio, COPY), 'main/media/more.svg'), 'x');
  await done(studio, await studio.client.call('restoreCreate', { body: { snapshot: id, onto: COPY } }));
  expect(await contents(COPY)).toEqual(before);
});

it('spares on live what visitors made since', async () => {
  const id = await take(LIVE);
  await onSite(studio, LIVE, (query) => query("UPDATE page SET title = 'newer work' WHERE slug = 'dye'"));
  await visit(studio.gatewayPort, 'threadmill.localhost', '/order', {
    product: '1',
    name: 'Dag Overby',
    email: 'dag@post.example',
    quantity: '2',
  });
  const [stock] = await onSite(studio, LIVE, (query) => query("SELECT stock FROM product WHERE slug = 'apron'"));
  const unread = studio.client.call('restoreCreate', { body: { snapshot: id, onto: LIVE, confirm: LIVE } });
  await expect(unread).rejects.toThrow(/is read first: it needs a forecast/);
  const { id: forecast, written } = await forecastOf(studio, LIVE, LIVE, { snapshot: id });
  expect(written, 'what goes is listed').toMatchObject([{ count: 1, kind: 'page' }]);
  const unnamed = studio.client.call('restoreCreate', { body: { snapshot: id, onto: LIVE, forecast } });
  await expect(unnamed).rejects.toThrow(/full name/);
  const transfer = await done(
    studio,
    await studio.client.call('restoreCreate', { body: { snapshot: id, onto: LIVE, confirm: LIVE, forecast } }),
  );
  const [page] = await onSite(studio, LIVE, (query) => query("SELECT title FROM page WHERE slug = 'dye'"));
  expect(page?.title).toBe('How we dye');
  expect(
    (await onSite(studio, LIVE, (query) => query("SELECT 1 FROM customer WHERE name = 'Dag Overby'"))).length,
  ).toBe(1);
  expect((await onSite(studio, LIVE, (query) => query("SELECT stock FROM product WHERE slug = 'apron'")))[0]).toEqual(
    stock,
  );
  await done(studio, await undo(studio, transfer.id));
  expect((await onSite(studio, LIVE, (query) => query("SELECT title FROM page WHERE slug = 'dye'")))[0]?.title).toBe(
    'newer work',
  );
});

it('is the start of a new copy, masked', async () => {
  const id = await take(LIVE);
  await done(
    studio,
    await studio.client.call('environmentCreate', {
      params: { site: 'threadmill' },
      body: { name: 'from-snapshot', kind: 'dev', snapshot: id },
    }),
  );
  const [customer] = await onSite(studio, 'threadmill/from-snapshot', (query) => query('SELECT email FROM customer'));
  expect(customer?.email).toMatch(/@masked\.example$/);
  const page = await onSite(studio, 'threadmill/from-snapshot', (query) =>
    query("SELECT body FROM page WHERE slug = 'home'"),
  );
  expect(page[0]?.body).toContain(`http://threadmill--from-snapshot.localhost:${studio.gatewayPort}/page/dye`);
});

it('shares what did not change, and frees only what nothing shares', async () => {
  const [first, second] = [await take(LIVE), await take(LIVE)];
  const list = await studio.client.call('snapshotList', { query: { environment: LIVE } });
  const added = (id: string): number => list.find((one) => one.id === id)?.addedBytes ?? -1;
  expect(added(second)).toBeLessThan(2000);
  await studio.client.call('snapshotRemove', { params: { id: first } });
  expect((await studio.client.call('snapshotVerify', { params: { id: second } })).damage).toEqual([]);
});

it('names a blob that was damaged by hand, and heals when what it held is stored again', async () => {
  const id = await take(LIVE);
  expect((await tessarion(studio, ['snapshot', 'verify', id])).out).toContain('is whole');
  const packs = join(studio.data, 'tessarion/stores/threadmill/packs');
  for (const name of (await fs.readdir(packs)).filter((one) => one.endsWith('.pack'))) {
    const content = await fs.readFile(join(packs, name));
    for (let at = 40; at < content.length; at += 700) content[at] = (content[at] as number) ^ 255;
    await fs.writeFile(join(packs, name), content);
  }
  const verified = await studio.client.call('snapshotVerify', { params: { id } });
  expect(verified.damage.length).toBeGreaterThan(0);
  expect(verified.damage[0]?.message).toMatch(/Blob [0-9a-f]{64} in pack .* is damaged/);
  const said = await tessarion(studio, ['snapshot', 'verify', id]);
  expect(said.code).toBe(1);
  expect(said.err, 'and it is not on offer again').toContain('has no blob');

  const [before, workers] = [await leftOvers(studio), await workerPids(studio)];
  const copy = await studio.client.call('environmentCreate', {
    params: { site: 'threadmill' },
    body: { name: 'from-damaged', kind: 'dev', snapshot: id },
  });
  const end = await ended(studio, copy);
  expect(end.state).toBe('failed');
  expect(end.failure?.message).toContain('has no blob');
  expect(await leftOvers(studio)).toEqual(before);
  expect(await workerPids(studio)).toEqual(workers);
  // A damaged list hides what lies below it until it is stored again.
  const heal = async (path: string): Promise<number> => {
    const newest = await take(path);
    const { damage } = await studio.client.call('snapshotVerify', { params: { id: path === LIVE ? id : newest } });
    return damage.length;
  };
  for (const path of [LIVE, COPY])
    for (let rounds = 0; (await heal(path)) > 0; rounds++) expect(rounds).toBeLessThan(8);
});

it('is whole, whatever is removed while it is taken', async () => {
  const { client } = studio;
  const packs = join(studio.data, 'tessarion/stores/threadmill/packs');
  const longAgo = new Date(Date.now() - 3600_000);
  for (let round = 0; round < 6; round++) {
    // What only the older one holds, and the newer one would hold too.
    await onSite(studio, COPY, (query) =>
      query(`UPDATE page SET body = repeat('Round ${round} ', 400) WHERE slug = 'dye'`),
    );
    const older = await take(COPY);
    for (const name of await fs.readdir(packs)) await fs.utimes(join(packs, name), longAgo, longAgo);
    const newer = await client.call('snapshotTake', { body: { environment: COPY, reason: `round ${round}` } });
    await new Promise((resolve) => setTimeout(resolve, round * 40));
    await client.call('snapshotRemove', { params: { id: older } }).catch((error: Error) => {
      expect(error.message).toContain('may be using its store');
    });
    await done(studio, newer);
    const [taken] = await client.call('snapshotList', { query: { environment: COPY } });
    expect(taken?.reason).toBe(`round ${round}`);
    const { damage } = await client.call('snapshotVerify', { params: { id: taken?.id as string } });
    expect(damage, `round ${round}`).toEqual([]);
  }
});
