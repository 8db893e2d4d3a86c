import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ANY_COPY, ANY_LIVE, bringInAnySite } from './support/any-site.js';
import { Breakpoint } from './support/breakpoint.js';
import { dumpMaria } from './support/by-maria.js';
import { Dying } from './support/dying.js';
import type { StudioOptions } from './support/start-studio.js';
import {
  done,
  ended,
  folderOf,
  forecastOf,
  onSite,
  pullInto,
  pushOnto,
  type Studio,
  startStudio,
  undo,
} from './support/studio.js';

/** Steps of a push around what can be seen. */
const STEPS = ['stage', 'hold', 'commit', 'switch', 'release', 'record'];

// One site goes through all of them.
function keepsItsPromises(where: string, reach: Pick<StudioOptions, 'reach'>): void {
  describe(`a site in MariaDB ${where}`, { shuffle: false }, () => {
    let studio: Studio;
    let dying: Dying;
    beforeAll(async () => {
      studio = await startStudio('nothing', { ...reach, system: 'mariadb', args: ['--workers', '2'] });
      dying = new Dying(studio, await Breakpoint.open(studio));
      await bringInAnySite(studio);
    });
    afterAll(() => dying?.stop());

    const value = (path: string, sql: string): Promise<unknown> =>
      onSite(studio, path, async (query) => Object.values((await query(sql))[0] ?? {})[0]);
    const run = (path: string, sql: string): Promise<unknown> => onSite(studio, path, (query) => query(sql));
    const databaseOf = async (path: string): Promise<string> => {
      const [site, environment] = path.split('/') as [string, string];
      return (await studio.client.call('environmentShow', { params: { site, environment } })).databases[0] as string;
    };
    /** All that an environment's database holds, as the server's own program for backups writes it. */
    const contents = async (path: string): Promise<string[]> => {
      const database = await databaseOf(path);
      const dump = await dumpMaria(studio.maria as NonNullable<Studio['maria']>, database, 'tessarion_transfer');
      return dump
        .split('\n')
        .filter(
          (line) =>
            line !== '' && !/^(--|USE|CREATE DATABASE|DROP DATABASE|\/\*)/.test(line) && !line.includes(database),
        )
        .map((line) => line.replace(/ AUTO_INCREMENT=\d+/, ''));
    };
    it('is copied exactly, with its own address', async () => {
      const [live, copy] = [await contents(ANY_LIVE), await contents(ANY_COPY)];
      const own = String((await forecastOf(studio, ANY_COPY, ANY_LIVE)).from);
      expect(own).toBe(ANY_COPY);
      const address = await value(ANY_COPY, "SELECT from_url FROM redirect WHERE note = 'one'");
      expect(address).not.toContain('any.example');
      const host = new URL(String(address)).origin;
      const asLive = copy.map((line) => line.replaceAll(host, 'https://any.example'));
      // What spells the address in another way stands otherwise in a copy.
      const isPlain = (line: string): boolean => !/three|four|two/.test(line);
      expect(asLive.filter(isPlain)).toEqual(live.filter(isPlain));
    });

    it('loses no order while work goes up, and gets it back taken back', async () => {
      await run(ANY_COPY, "UPDATE page SET title = 'Of autumn' WHERE id <= 3");
      await run(
        ANY_COPY,
        "INSERT INTO page (uid, slug, title, meta, opts) VALUES ('new', 'new', 'New', '{\"related\": [1]}', 'a:0:{}')",
      );
      await run(ANY_COPY, "DELETE FROM tag WHERE name = 'tag-6'");
      await fs.writeFile(join(folderOf(studio, ANY_COPY), 'main/styles/new.css'), '/* new */');
      let [sent, isGoing] = [0, true];
      const visitors = (async () => {
        while (isGoing)
          await run(ANY_LIVE, `INSERT INTO purchase (uid, page_id, amount) VALUES ('order-${sent++}', 1, 1)`);
      })();
      const transfer = await pushOnto(studio, ANY_COPY, ANY_LIVE);
      const end = await done(studio, transfer);
      isGoing = false;
      await visitors;
      expect(end.proof.filter(({ state }) => state === 'failed')).toEqual([]);
      expect(Number(await value(ANY_LIVE, 'SELECT COUNT(*) FROM purchase'))).toBe(sent);
      expect(Number(await value(ANY_LIVE, "SELECT COUNT(*) FROM page WHERE title IN ('Of autumn', 'New')"))).toBe(4);
      expect(Number(await value(ANY_LIVE, "SELECT COUNT(*) FROM tag WHERE name = 'tag-6'"))).toBe(0);
      expect((await forecastOf(studio, ANY_COPY, ANY_LIVE)).written, 'a second forecast is empty').toEqual([]);

      await done(studio, await undo(studio, transfer.id));
      expect(Number(await value(ANY_LIVE, 'SELECT COUNT(*) FROM purchase'))).toBe(sent);
      expect(Number(await value(ANY_LIVE, "SELECT COUNT(*) FROM page WHERE title IN ('Of autumn', 'New')"))).toBe(0);
      expect(Number(await value(ANY_LIVE, "SELECT COUNT(*) FROM tag WHERE name = 'tag-6'"))).toBe(1);
      expect(await fs.readdir(join(folderOf(studio, ANY_LIVE), 'main/styles'))).not.toContain('new.css');
    });

    it.each(STEPS)('is wholly old or wholly new where its worker dies in "%s"', async (step) => {
      const mark = `${step} ${Date.now()}`;
      await run(ANY_COPY, `UPDATE page SET title = '${mark}'`);
      await fs.writeFile(join(folderOf(studio, ANY_COPY), 'main/styles/a.css'), mark);
      await dying.breakpoint.set(step);
      const transfer = await pushOnto(studio, ANY_COPY, ANY_LIVE);
      await dying.killAtBreakpoint(transfer);
      const end = await ended(studio, transfer);
      const rows = Number(await value(ANY_LIVE, `SELECT COUNT(*) FROM page WHERE title = '${mark}'`));
      const all = Number(await value(ANY_LIVE, 'SELECT COUNT(*) FROM page'));
      const file = await fs.readFile(join(folderOf(studio, ANY_LIVE), 'main/styles/a.css'), 'utf8');
      expect([rows, file === mark]).toEqual(end.state === 'done' ? [all, true] : [0, false]);
      if (end.state !== 'done') expect(['stage', 'hold']).toContain(step);
    });

    it('brings news down, and is restored to exactly what a snapshot holds', async () => {
      await run(ANY_LIVE, "UPDATE setting SET value = 'said on live' WHERE name = 'setting-1'");
      await done(studio, await pullInto(studio, ANY_LIVE, ANY_COPY));
      expect(await value(ANY_COPY, "SELECT value FROM setting WHERE name = 'setting-1'")).toBe('said on live');
      const taken = await studio.client.call('snapshotTake', { body: { environment: ANY_COPY, reason: 'test' } });
      await done(studio, taken);
      const [snapshot] = await studio.client.call('snapshotList', { query: { environment: ANY_COPY } });
      const before = await contents(ANY_COPY);
      await run(
        ANY_COPY,
        "DELETE FROM teaser; UPDATE page SET title = 'gone wrong'; INSERT INTO note VALUES ('note 1', NULL)",
      );
      expect(await contents(ANY_COPY)).not.toEqual(before);
      const wanted = { body: { snapshot: snapshot?.id as string, onto: ANY_COPY } };
      await done(studio, await studio.client.call('restoreCreate', wanted));
      expect((await contents(ANY_COPY)).sort()).toEqual(before.sort());
    });

    it('leaves no database behind when a copy goes', async () => {
      const database = await databaseOf(ANY_COPY);
      const params = { site: 'any', environment: 'staging' };
      await done(studio, await studio.client.call('environmentRemove', { params, query: { confirm: ANY_COPY } }));
      const left = await run(
        ANY_LIVE,
        `SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = '${database}'`,
      );
      expect(left).toEqual([]);
      const [server] = await studio.client.call('serverList');
      expect(server?.leftBehind).toEqual({ databases: [], folders: [], notKnown: null });
    });
  });
}

keepsItsPromises('on the machine itself', {});
keepsItsPromises('on another one', { reach: 'ssh' });
