import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import type { Environment } from '@tessarion/contract';
import type pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ChangeRecords } from '../packages/engine/src/compare/unlike-records.js';
import { FolderObjects } from '../packages/engine/src/store/objects-folder.js';
import { PackStore } from '../packages/engine/src/store/pack-store.js';
import { SealedFile } from '../packages/engine/src/store/sealed-file.js';
import { DataFolder } from '../packages/service/src/ground/data-folder.js';
import { done, folderOf, forecastOf, onSite, type Studio, startStudio, tessarion } from './support/studio.js';

let studio: Studio;
let records: pg.Pool;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

beforeAll(async () => {
  studio = await startStudio('staging');
  ({ records } = studio);
}, 120_000);
afterAll(() => studio?.stop());

const shown = (path: string): Promise<Environment> => {
  const [site, environment] = path.split('/') as [string, string];
  return studio.client.call('environmentShow', { params: { site, environment } });
};

/** Lets a worker go round now instead of in two minutes, and waits until it has. */
async function goRound(): Promise<void> {
  const { rows } = await records.query("SELECT (graphile_worker.add_job('round', queue_name := 'round')).id::text");
  for (;;) {
    const left = await records.query('SELECT 1 FROM graphile_worker.jobs WHERE id = $1', [rows[0]?.id]);
    if (left.rows.length === 0) return;
    await new Promise((resolve) => setTimeout(resolve, 30));
  }
}

/** As if everything had been looked at long ago. */
const makeDue = (): Promise<unknown> =>
  records.query(
    "UPDATE environment SET made_at = now() - interval '3 hours', refreshed_at = NULL, looked_at = now() - interval '2 hours'",
  );

describe('rounds, step by step', { shuffle: false }, () => {
  it('sees work that waits in a copy without anybody asking, and how large everything has become', async () => {
    const before = await shown(LIVE);
    await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Changed here' WHERE slug = 'dye'"));
    await onSite(studio, LIVE, (query) => query("UPDATE page SET title = 'Changed there' WHERE slug = 'home'"));
    await fs.writeFile(join(folderOf(studio, LIVE), 'main/media/large.bin'), Buffer.alloc(1_000_000));
    await goRound();
    expect((await shown(COPY)).state).toBe('in-step');
    await makeDue();
    await goRound();
    // One page waits to go up; live's own page and file are news that a push leaves alone.
    expect(await shown(COPY)).toMatchObject({ state: 'drifted', drift: { up: 1, down: 2 } });
    const after = await shown(LIVE);
    expect((after.size?.fileBytes ?? 0) - (before.size?.fileBytes ?? 0)).toBe(1_000_000);
    expect(after.drift).toBeNull();
  });

  it('shows what is not reached and why, until it is reached again', async () => {
    const root = join(folderOf(studio, LIVE), 'main');
    await fs.rename(root, `${root}.gone`);
    await goRound();
    expect(await shown(LIVE)).toMatchObject({
      state: 'not-reached',
      reason: expect.stringContaining('The root "main" is not there'),
    });
    expect((await shown(COPY)).state).not.toBe('not-reached');
    expect((await tessarion(studio, ['site', 'list'])).out).toMatch(/L□ live .*The root "main" is not there/);
    await fs.rename(`${root}.gone`, root);
    await goRound();
    expect((await shown(LIVE)).state).toBe('in-step');

    // The link is there, and what it leads to is gone.
    const trees = join(folderOf(studio, LIVE), 'trees');
    await fs.rename(trees, `${trees}.gone`);
    await goRound();
    expect((await shown(LIVE)).state).toBe('not-reached');
    await fs.rename(`${trees}.gone`, trees);

    await onSite(studio, LIVE, (query) => query('ALTER ROLE threadmill_live NOLOGIN'));
    await goRound();
    expect((await shown(LIVE)).reason).toContain('threadmill_live');
    await onSite(studio, COPY, (query) => query('ALTER ROLE threadmill_live LOGIN'));
    await goRound();
    expect((await shown(LIVE)).state).toBe('in-step');
  });

  it('goes on when one environment cannot be looked at', async () => {
    await onSite(studio, COPY, (query) => query('ALTER TABLE page RENAME TO pages'));
    await makeDue();
    await goRound();
    const looked = await records.query("SELECT path FROM environment WHERE looked_at > now() - interval '1 minute'");
    expect(looked.rows.map((row) => row.path).sort()).toEqual([LIVE, COPY]);
  });
});

describe('what piles up', () => {
  it('is tidied by a round: events of former days, and the packs that many transfers left', async () => {
    await records.query(
      `INSERT INTO event (at, data) SELECT now() - interval '3 days', '{"type": "site", "site": "threadmill"}'
       FROM generate_series(1, 50)`,
    );
    const packs = join(studio.data, 'tessarion/stores/threadmill/packs');
    const count = async (): Promise<number> =>
      (await fs.readdir(packs)).filter((name) => name.endsWith('.pack')).length;
    const { keys } = await DataFolder.open(join(studio.data, 'tessarion'));
    for (let i = 0; i < 70; i++)
      await new PackStore(new FolderObjects(join(packs, '..')), keys.derive('store threadmill')).write((writer) =>
        writer.put(Buffer.from(`what a transfer wrote, ${i}`)),
      );
    await done(studio, await studio.client.call('snapshotTake', { body: { environment: LIVE } }));
    expect(await count()).toBeGreaterThan(70);
    await makeDue();
    await goRound();
    expect(await count()).toBeLessThan(10);
    expect((await records.query("SELECT 1 FROM event WHERE at < now() - interval '1 day'")).rows).toHaveLength(0);
    const [newest] = await studio.client.call('snapshotList');
    expect((await studio.client.call('snapshotVerify', { params: { id: newest?.id ?? '' } })).damage).toEqual([]);
    // What goes on with the store afterwards finds everything.
    await done(studio, await studio.client.call('snapshotTake', { body: { environment: COPY } }));
  });
});

describe('a large copy', () => {
  it('is looked at by itself once it is packed: what its first forecast goes by is read before anybody asks', async () => {
    await onSite(studio, LIVE, (query) =>
      query(
        "INSERT INTO page (slug, title, body) SELECT 'many-' || i, 'One of many', 'Words' FROM generate_series(1, 25000) i",
      ),
    );
    await done(
      studio,
      await studio.client.call('environmentCreate', {
        params: { site: 'threadmill' },
        body: { name: 'large', kind: 'staging', from: LIVE },
      }),
    );
    const folder = await DataFolder.open(join(studio.data, 'tessarion'));
    const remembered = new SealedFile(folder.changes('threadmill/large', LIVE).path, folder.keys.derive('known'));
    await expect
      .poll(async () => (await ChangeRecords.open(remembered)).tables.get('main/public.page'), { timeout: 60_000 })
      .toMatchObject({ keys: [] });
    // It says what it would say without.
    await onSite(studio, 'threadmill/large', (query) => query("UPDATE page SET title = 'Mine' WHERE slug = 'many-7'"));
    await onSite(studio, LIVE, (query) => query("DELETE FROM page WHERE slug = 'many-8'"));
    const forecast = await forecastOf(studio, 'threadmill/large', LIVE);
    expect(forecast).toMatchObject({ written: [{ count: 1, kind: 'page' }] });
  });
});
