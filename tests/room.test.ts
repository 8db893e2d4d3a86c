import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import type { Client } from '@tessarion/client';
import { visit } from '@tessarion/demo';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import {
  addSite,
  done,
  ended,
  folderOf,
  forecastOf,
  leftOvers,
  makeCopy,
  newcomer,
  onSite,
  refusal,
  SHOP,
  type Studio,
  startStudio,
  tessarion,
} from './support/studio.js';

let studio: Studio;
const mounted: string[] = [];

beforeAll(async () => {
  studio = await startStudio('live');
}, 120_000);
afterEach(() => {
  for (const folder of mounted.splice(0)) execFileSync('umount', ['-l', folder]);
});
afterAll(() => studio?.stop());

/** Lays a small, real file system over a folder, which only the superuser may do. */
function mountSmall(folder: string, kilobytes: number): void {
  execFileSync('mount', ['-t', 'tmpfs', '-o', `size=${kilobytes}k,mode=700`, 'tmpfs', folder]);
  mounted.push(folder);
}
const asRoot = describe.skipIf(process.getuid?.() !== 0);

asRoot('a disk without room', () => {
  it('stops a copy before anything is written, with what is free and what is needed', async () => {
    const before = await leftOvers(studio);
    const parent = join(studio.hosts);
    const media = join(folderOf(studio, 'threadmill/live'), 'main/media/film.bin');
    // A sparse file: large to whoever measures it, and it takes up nothing.
    const film = await fs.open(media, 'w');
    const { bavail, bsize } = await fs.statfs(parent);
    await film.truncate(Math.min(bavail * bsize, 8e12));
    await film.close();
    try {
      const end = await ended(
        studio,
        await studio.client.call('environmentCreate', {
          params: { site: 'threadmill' },
          body: { name: 'large', kind: 'dev' },
        }),
      );
      expect(end.state).toBe('failed');
      expect(end.failure?.message).toMatch(/^The server has [\d.]+ [GM]B free; this copy needs [\d.]+ [GM]B\.$/);
      expect(end.failure?.next).toContain('Free some space');
      expect(end.checks.find((check) => check.name === 'room')?.state).toBe('failed');
      const [first, ...others] = end.steps.map((step) => step.state);
      expect([first, ...new Set(others)]).toEqual(['failed', 'coming']);
      expect(await leftOvers(studio)).toEqual(before);
    } finally {
      await fs.rm(media);
    }
  });

  it('ends a snapshot in its middle with a plain reason, and keeps nothing half made', async () => {
    const store = join(studio.data, 'tessarion/stores/threadmill');
    await fs.mkdir(store, { recursive: true });
    const media = join(folderOf(studio, 'threadmill/live'), 'main/media/large.bin');
    await fs.writeFile(media, randomBytes(4 * 1024 * 1024));
    const take = () => studio.client.call('snapshotTake', { body: { environment: 'threadmill/live' } });
    try {
      mountSmall(store, 1024);
      const end = await ended(studio, await take());
      expect(end.state).toBe('failed');
      expect(end.failure?.message).toMatch(/^No room left while writing /);
      expect(end.failure?.next).toContain('Free some space');
      expect(await studio.client.call('snapshotList')).toEqual([]);
      expect(await fs.readdir(join(store, 'packs'))).toEqual([]);
      const page = await visit(studio.gatewayPort, 'threadmill.localhost', '/');
      expect(page.status).toBe(200);
    } finally {
      for (const folder of mounted.splice(0)) execFileSync('umount', ['-l', folder]);
    }
    await done(studio, await take());
    const [snapshot] = await studio.client.call('snapshotList');
    const verified = await tessarion(studio, ['snapshot', 'verify', snapshot?.id as string]);
    expect(verified.code).toBe(0);
    await fs.rm(media);
  });

  it('ends a copy whose server fills up meanwhile, says what could not be taken back, and removes that when asked again', async () => {
    const before = await leftOvers(studio);
    const media = join(folderOf(studio, 'threadmill/live'), 'main/media/large.bin');
    await fs.writeFile(media, randomBytes(4 * 1024 * 1024));
    const target = join(studio.hosts, 'threadmill--tight');
    await fs.mkdir(target);
    try {
      mountSmall(target, 1024);
      const end = await ended(
        studio,
        await studio.client.call('environmentCreate', {
          params: { site: 'threadmill' },
          body: { name: 'tight', kind: 'dev' },
        }),
      );
      expect(end.state).toBe('failed');
      expect(end.failure?.message).toMatch(/^No room left while writing .*large\.bin/);
      // The folder is a mount point here, which cannot be removed while it is one.
      expect(end.remains.join()).toContain(target);
    } finally {
      for (const folder of mounted.splice(0)) execFileSync('umount', ['-l', folder]);
      await fs.rm(media);
    }
    await done(
      studio,
      await studio.client.call('environmentRemove', {
        params: { site: 'threadmill', environment: 'tight' },
        query: { confirm: 'threadmill/tight' },
      }),
    );
    expect(await leftOvers(studio)).toEqual(before);
    expect((await fs.readdir(join(studio.data, 'tessarion/stores/threadmill/spools'))).length).toBe(0);
  });
});

describe('a baseline, step by step', { shuffle: false }, () => {
  it('is packed after the copy answers, and leaves no spool behind', async () => {
    await makeCopy(studio, 'threadmill', 'staging');
    const forecast = await forecastOf(studio, 'threadmill/staging', 'threadmill/live');
    expect(forecast.state).toBe('ready');
    expect(forecast.baselineAt).not.toBeNull();
    expect(forecast.itemCount).toBe(0);
    expect(await fs.readdir(join(studio.data, 'tessarion/stores/threadmill/spools'))).toEqual([]);
  });

  it('tells what live changed itself from what the copy changed', async () => {
    await onSite(studio, 'threadmill/live', (query) =>
      query("UPDATE page SET title = 'Changed on live' WHERE slug = 'home'"),
    );
    await onSite(studio, 'threadmill/staging', (query) =>
      query("UPDATE page SET title = 'Changed on staging' WHERE slug = 'home'"),
    );
    const merge = await forecastOf(studio, 'threadmill/staging', 'threadmill/live');
    expect([merge.unsettled, merge.lost]).toEqual([1, []]);
    const forecast = await forecastOf(studio, 'threadmill/staging', 'threadmill/live', { method: 'replace' });
    expect(forecast.lost.map((one) => one.count)).toEqual([1]);
    expect(forecast.sentence.map((piece) => piece.text).join('')).toContain(
      'overwrite 1 page that live changed meanwhile',
    );
    expect(forecast.holdMilliseconds).toBeNull();
  });

  it('goes with the copy, together with what only it needed', async () => {
    const manifests = join(studio.data, 'tessarion/stores/threadmill/manifests');
    const baselines = async (): Promise<string[]> =>
      (await fs.readdir(manifests)).filter((name) => name.startsWith('b-'));
    expect((await baselines()).length).toBe(2);
    await done(
      studio,
      await studio.client.call('environmentRemove', {
        params: { site: 'threadmill', environment: 'staging' },
        query: { confirm: 'threadmill/staging' },
      }),
    );
    expect(await baselines()).toEqual([]);
  });
});

describe('a copy that starts from another site, step by step', { shuffle: false }, () => {
  it('is made of it, at an address of its own site, and is compared with nothing there', async () => {
    await addSite(studio, { ...SHOP, name: 'loomworks', client: 'Loomworks' });
    const transfer = await studio.client.call('environmentCreate', {
      params: { site: 'loomworks' },
      body: { name: 'fresh', kind: 'staging', from: 'threadmill/live', confirm: 'threadmill/live' },
    });
    await done(studio, transfer);
    const shown = await studio.client.call('environmentShow', { params: { site: 'loomworks', environment: 'fresh' } });
    expect(shown.madeFrom).toBe('threadmill/live');
    const bodies = await onSite(studio, 'loomworks/fresh', (query) => query('SELECT body FROM page'));
    expect(bodies.map((row) => String(row.body)).join()).toContain('loomworks--fresh.localhost');
    expect(bodies.map((row) => String(row.body)).join()).not.toContain('//threadmill.localhost');
    const customers = await onSite(studio, 'loomworks/fresh', (query) => query('SELECT email FROM customer'));
    expect(customers.map((row) => row.email)).not.toContain('ingrid.solheim@post.example');
    const forecast = await forecastOf(studio, 'loomworks/fresh', 'loomworks/live');
    expect(forecast.baselineAt).toBeNull();
    const said = forecast.checks.find((one) => one.name === 'origin');
    expect(said?.message).toContain('loomworks/fresh was made of threadmill/live, of another client: Threadmill');

    const copied = { name: 'again', kind: 'staging', from: 'loomworks/fresh' } as const;
    await done(studio, await studio.client.call('environmentCreate', { params: { site: 'loomworks' }, body: copied }));
    const again = await studio.client.call('environmentShow', { params: { site: 'loomworks', environment: 'again' } });
    expect(again).toMatchObject({ madeFrom: 'loomworks/fresh', foreignOrigin: 'threadmill/live' });
    await done(
      studio,
      await studio.client.call('resetCreate', { body: { from: 'loomworks/live', onto: 'loomworks/again' } }),
    );
    const own = await studio.client.call('environmentShow', { params: { site: 'loomworks', environment: 'again' } });
    expect(own, 'what it was made of is what it was made of last').toMatchObject({
      madeFrom: 'loomworks/live',
      foreignOrigin: null,
    });
  });

  it('is another client’s only where somebody says so who may copy it there; and replaces no copy', async () => {
    const create = (client: Client, more = {}) =>
      client.call('environmentCreate', {
        params: { site: 'loomworks' },
        body: { name: 'other', kind: 'dev', from: 'threadmill/live', ...more },
      });
    expect(await refusal(create(studio.client))).toBe('not-confirmed');
    expect(await refusal(create(studio.client, { confirm: 'loomworks/live' }))).toBe('not-confirmed');
    const here = await newcomer(studio, 'siri@copperlane.example', 'developer', 'loomworks');
    const { id } = await here.call('me');
    await studio.client.call('roleGive', { body: { person: id, role: 'editor', scope: 'threadmill' } });
    expect(await refusal(create(here, { confirm: 'threadmill/live' }))).toBe('not-allowed');
    const reset = studio.client.call('resetCreate', { body: { from: 'threadmill/live', onto: 'loomworks/fresh' } });
    expect(await refusal(reset)).toBe('lane-closed');
  });

  it('needs a source with the same profile, and says so', async () => {
    await addSite(studio, { ...SHOP, name: 'plain', client: 'Plain', format: 'ini' });
    const refused = await tessarion(studio, [
      'env',
      'create',
      'plain/staging',
      '--kind',
      'staging',
      '--from',
      'threadmill/live',
    ]);
    expect(refused.code).not.toBe(0);
    expect(refused.err).toContain('profile');
  });
});
