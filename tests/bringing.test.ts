import * as fs from 'node:fs/promises';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import type { BodyOf, ResponseOf } from '@tessarion/contract';
import { install, visit } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { picture } from './support/picture.js';
import {
  done,
  folderOf,
  forecastOf,
  leftOvers,
  makeCopy,
  onRecords,
  onSite,
  refusal,
  SHOP,
  type Studio,
  startStudio,
  tessarion,
} from './support/studio.js';

let studio: Studio;
let own: BodyOf<'siteAdopt'>;
/** Answers where a site is that has another front. */
let elsewhere: Server;

beforeAll(async () => {
  studio = await startStudio();
  own = await install(studio.place, SHOP);
  elsewhere = createServer((_incoming, answer) => answer.end('a site of its own'));
  await new Promise<void>((resolve) => elsewhere.listen(0, '127.0.0.1', () => resolve()));
}, 120_000);
afterAll(async () => {
  elsewhere?.close();
  await studio?.stop();
});

const confirm = { query: { confirm: 'threadmill' }, params: { site: 'threadmill' } };

/** Moves the address of the server's databases in the records. @returns the former port */
async function setPort(port: number): Promise<number> {
  const [server] = (await onRecords(studio, 'SELECT database FROM server')) as [{ database: { port: number } }];
  await onRecords(studio, `UPDATE server SET database = jsonb_set(database::jsonb, '{port}', '${port}')`);
  return server.database.port;
}

// One site goes through all of them.
describe('sites', { shuffle: false }, () => {
  describe('a site that is tried, brought in and given back, step by step', () => {
    let found: string[];
    let planned: ResponseOf<'siteTry'>;

    it('is told beforehand of every rename and link, and nothing of it is touched', async () => {
      found = await picture(own.folder);
      const { checks, moves } = await studio.client.call('siteTry', { body: own });
      expect(checks.map((check) => [check.name, check.state])).toEqual([
        ['files', 'passed'],
        ['databases', 'passed'],
        ['settings', 'passed'],
      ]);
      expect(moves.slice(0, 2)).toEqual([
        { act: 'rename', path: 'main', to: 'trees/main-…' },
        { act: 'link', path: 'main', to: 'trees/main-…' },
      ]);
      planned = { checks, moves };
      expect(moves.map((move) => move.path)).toContain('trees/main-…/media/uploads');
      expect(await picture(own.folder)).toEqual(found);
      expect(await onRecords(studio, 'SELECT name FROM site')).toEqual([]);
    });

    it('is told what would stop it, and what nobody would hold', async () => {
      const port = (elsewhere.address() as AddressInfo).port;
      const url = `http://127.0.0.1:${port}`;
      const tried = await studio.client.call('siteTry', {
        body: { ...own, roots: ['public_html'], addresses: [{ name: 'main', url }] },
      });
      const states = Object.fromEntries(tried.checks.map((check) => [check.name, check]));
      expect(states.files).toMatchObject({ state: 'failed', remedy: expect.stringContaining('main') });
      expect(states.hold).toMatchObject({
        state: 'warning',
        message: expect.stringContaining('does not lead through'),
      });
      expect(tried.moves).toEqual([]);
    });

    it('is told where it cannot be said whether other logins may enter its database', async () => {
      const port = await setPort(1);
      const { checks } = await studio.client.call('siteTry', { body: own });
      expect(checks.find(({ name }) => name === 'logins')).toMatchObject({
        state: 'failed',
        remedy: expect.any(String),
      });
      await setPort(port);
    });

    it('is brought in by these moves and no others', async () => {
      const adopted = await done(studio, await studio.client.call('siteAdopt', { body: own }));
      const now = (await picture(own.folder)).map((line) => line.replaceAll(adopted.id, '…'));
      const links = now.flatMap((line) => (line.includes(' link ') ? [line.slice(0, line.indexOf(' '))] : []));
      const { moves } = planned;
      expect(links).toEqual(moves.flatMap((move) => (move.act === 'link' ? [move.path] : [])).sort());
      for (const { act, path, to } of moves)
        expect(
          now.some((line) => line.startsWith(`${act === 'rename' ? to : path} `)),
          `${act} ${path}`,
        ).toBe(true);
      expect((await visit(studio.gatewayPort, 'threadmill.localhost', '/')).status).toBe(200);
    });

    it('is not given back while copies hang on it, or without its name', async () => {
      await makeCopy(studio, 'threadmill', 'staging');
      expect(await refusal(studio.client.call('siteLeave', confirm))).toBe('conflict');
      const remove = {
        params: { site: 'threadmill', environment: 'staging' },
        query: { confirm: 'threadmill/staging' },
      };
      await done(studio, await studio.client.call('environmentRemove', remove));
      expect(await refusal(studio.client.call('siteLeave', { ...confirm, query: { confirm: 'thread' } }))).toBe(
        'not-confirmed',
      );
    });

    it('lies as it was found once it is given back, with what visitors made since', async () => {
      await fs.writeFile(join(own.folder, 'main/media/uploads/letter.txt'), 'of a visitor');
      await fs.writeFile(join(own.folder, 'main/media/new.svg'), '<svg/>');
      await done(studio, await studio.client.call('snapshotTake', { body: { environment: 'threadmill/live' } }));
      const told = await tessarion(studio, ['site', 'leave', 'threadmill']);
      expect([told.code, told.err]).toEqual([3, expect.stringContaining('--confirm threadmill')]);
      const left = await tessarion(studio, ['site', 'leave', 'threadmill', '--confirm', 'threadmill']);
      expect([left.code, left.err]).toEqual([0, expect.any(String)]);
      const now = await picture(own.folder);
      const isNew = (line: string): boolean => /^main\/media\/(uploads\/letter\.txt|new\.svg) /.test(line);
      expect(now.filter(isNew).length).toBe(2);
      // Areas that it did not have before are empty folders now.
      const isEmpty = (line: string): boolean => / 40\d+ folder$/.test(line) && !found.includes(line);
      expect(now.filter((line) => !isNew(line) && !isEmpty(line))).toEqual(found);
      for (const table of ['site', 'environment', 'snapshot'])
        expect(await onRecords(studio, `SELECT * FROM ${table}`)).toEqual([]);
      expect((await leftOvers(studio)).databases).toEqual([own.databases[0]?.database]);
      await expect(fs.stat(join(studio.data, 'tessarion/stores/threadmill'))).rejects.toThrow('ENOENT');
      const listed = await studio.client.call('transferList', { query: {} });
      expect(listed.items.map((one) => `${one.kind} ${one.state}`)[0]).toBe('leave done');
    });
  });

  describe('a site that is taken as it lies, step by step', () => {
    const page = (): Promise<string> => fs.readFile(join(own.folder, 'main/styles/site.css'), 'utf8');

    it('keeps its folder, is copied, and gets files one by one, of which the forecast tells', async () => {
      const before = await picture(own.folder);
      const tried = await studio.client.call('siteTry', { body: { ...own, asItLies: true } });
      expect(tried.moves).toEqual([]);
      await done(studio, await studio.client.call('siteAdopt', { body: { ...own, asItLies: true } }));
      const fence = (line: string): boolean => !line.startsWith('.tessarion-fence ');
      expect((await picture(own.folder)).filter(fence)).toEqual(before);
      await makeCopy(studio, 'threadmill', 'staging');
      await fs.writeFile(join(folderOf(studio, 'threadmill/staging'), 'main/styles/site.css'), '/* new */');
      await fs.writeFile(join(folderOf(studio, 'threadmill/staging'), 'main/media/more.svg'), '<svg/>');
      await onSite(studio, 'threadmill/staging', (query) => query("UPDATE page SET title = 'Woad' WHERE slug = 'dye'"));
      const forecast = await forecastOf(studio, 'threadmill/staging', 'threadmill/live');
      expect(forecast.checks.find((check) => check.name === 'files in place')?.message).toContain('one by one');
      await done(
        studio,
        await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: 'threadmill/live' } }),
      );
      expect(await page()).toBe('/* new */');
      expect((await fs.lstat(join(own.folder, 'main'))).isDirectory()).toBe(true);
      expect((await forecastOf(studio, 'threadmill/staging', 'threadmill/live')).written).toEqual([]);
    });

    it('is undone in place, and keeps what somebody changed meanwhile', async () => {
      const [push] = (await studio.client.call('transferList', { query: { kind: 'push' } })).items;
      await fs.writeFile(join(own.folder, 'main/media/more.svg'), '<svg id="of live"/>');
      const id = push?.id as string;
      const shown = await tessarion(studio, ['undo', id, '--confirm', 'threadmill/live']);
      expect([shown.code, shown.err]).toEqual([0, expect.any(String)]);
      expect(await page()).not.toBe('/* new */');
      expect(await fs.readFile(join(own.folder, 'main/media/more.svg'), 'utf8')).toBe('<svg id="of live"/>');
    });
  });

  describe('what lies on a server and belongs to nothing', () => {
    const left = async () => {
      const [server] = (await studio.client.call('serverList')) as [ResponseOf<'serverList'>[number]];
      const { notKnown, ...found } = server.leftBehind;
      expect(notKnown).toBeNull();
      return found;
    };

    it('is named, and removed by name; what is being made, or is not ours, never', async () => {
      expect(await left()).toEqual({ databases: [], folders: [] });
      const making = await studio.client.call('environmentCreate', {
        params: { site: 'threadmill' },
        body: { name: 'orphan', kind: 'dev' },
      });
      for (let state = 'running'; state !== 'done'; ) {
        ({ state } = await studio.client.call('transferShow', { params: { id: making.id } }));
        expect(await left()).toEqual({ databases: [], folders: [] });
      }
      await fs.mkdir(join(studio.hosts, 'of-somebody-else'));
      // As where records are put back from a backup.
      await onRecords(studio, "DELETE FROM environment WHERE path = 'threadmill/orphan'");
      const found = await left();
      expect(found?.databases).toEqual([expect.stringMatching(/^threadmill_orphan_/)]);
      expect(found?.folders).toEqual([join(studio.hosts, 'threadmill--orphan')]);
      // A live site that the records have forgotten is nobody's to remove.
      const move = (from: string, to: string): Promise<unknown> =>
        onRecords(studio, `UPDATE environment SET folder = '${to}' WHERE folder = '${from}'`);
      await move(own.folder, `${own.folder}-x`);
      expect(await left()).toEqual(found);
      await move(`${own.folder}-x`, own.folder);
      const told = await tessarion(studio, ['server', 'list']);
      expect(told.out).toContain('tessarion server clear harbour-1');
      const asked = await tessarion(studio, ['server', 'clear', 'harbour-1']);
      expect([asked.code, asked.err]).toEqual([3, expect.stringContaining('--confirm harbour-1')]);
      const cleared = await tessarion(studio, ['server', 'clear', 'harbour-1', '--confirm', 'harbour-1']);
      expect([cleared.code, cleared.out]).toEqual([0, expect.stringContaining('threadmill--orphan')]);
      expect(await left()).toEqual({ databases: [], folders: [] });
      const all = await leftOvers(studio);
      expect(all.folders).toContain('of-somebody-else');
      expect([...all.databases, ...all.roles, ...all.folders].filter((name) => name.includes('orphan'))).toEqual([]);
    });

    it('is not known where the server is away or a record was damaged; and nobody says that nothing is there', async () => {
      const change = (sql: string): Promise<unknown> => onRecords(studio, sql);
      const port = await setPort(1);
      const [away] = await studio.client.call('serverList');
      expect(away).toMatchObject({ reached: false, openToAll: null });
      expect(away?.leftBehind.notKnown).toEqual(expect.any(String));
      expect((await tessarion(studio, ['server', 'list'])).out).toContain(
        'What is left behind on harbour-1 is not known',
      );
      const cleared = await tessarion(studio, ['server', 'clear', 'harbour-1', '--confirm', 'harbour-1']);
      expect([cleared.code, cleared.err]).toEqual([1, expect.stringContaining('nothing was removed')]);
      await setPort(port);
      // What has the mark and stands in no record might be what stood in the damaged one.
      await makeCopy(studio, 'threadmill', 'spoilt');
      await makeCopy(studio, 'threadmill', 'lost');
      // Twice gives what was there.
      const spoil = () =>
        change(`UPDATE environment SET databases = reverse(databases) WHERE path = 'threadmill/spoilt'`);
      await spoil();
      await change("DELETE FROM environment WHERE path = 'threadmill/lost'");
      expect((await studio.client.call('serverList'))[0]?.leftBehind).toEqual({
        databases: [],
        folders: [],
        notKnown: expect.stringContaining('threadmill/spoilt'),
      });
      const clear = { params: { name: 'harbour-1' }, query: { confirm: 'harbour-1' } };
      expect(await refusal(studio.client.call('serverClear', clear))).toBe('server-unreachable');
      expect((await leftOvers(studio)).folders).toContain('threadmill--lost');
      // As it was before, so that it can be said again.
      await spoil();
      expect((await studio.client.call('serverClear', clear)).folders).toEqual([expect.stringMatching(/--lost$/)]);
      await tessarion(studio, ['env', 'remove', 'threadmill/spoilt', '--confirm', 'threadmill/spoilt']);
      expect(await left()).toEqual({ databases: [], folders: [] });
    });
  });
});
