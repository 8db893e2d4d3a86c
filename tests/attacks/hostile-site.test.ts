import { type ChildProcess, execFile, spawn } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { once } from 'node:events';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import type { Transfer } from '@tessarion/contract';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { done, ended, forecastOf, makeCopy, onSite, type Studio, startStudio } from '../support/studio.js';
import { tried } from './tried.js';

/** How often a hostile site is copied, pulled, pushed, previewed and restored. */
const ROUNDS = Number(process.env.TESSARION_HOSTILE_ROUNDS ?? 1);
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';
const SECRET = `a secret of others ${randomBytes(12).toString('hex')}`;

let studio: Studio;
/** What lies beside the sites, on the same disk: of Tessarion, of others, of nobody. */
let outside: string;
let exchanging: ChildProcess | undefined;
/** Lets the exchanger put back what it has taken away, and end. */
let enough: () => Promise<void>;

/** Exchanges, at any moment and for as long as it likes, files and folders of the site for what leads elsewhere; puts them back. */
const EXCHANGER = `
const fs = require('node:fs');
const path = require('node:path');
const [hosts, outside, away] = process.argv.slice(1);
const pick = (list) => list[Math.floor(Math.random() * list.length)];
const wait = (ms) => Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0, ms);
const within = (folder, depth) => {
  let found = [];
  try {
    for (const entry of fs.readdirSync(folder, { withFileTypes: true })) {
      const one = path.join(folder, entry.name);
      found.push(one);
      if (entry.isDirectory() && depth > 0) found = found.concat(within(one, depth - 1));
    }
  } catch {}
  return found;
};
const exchanges = [
  (at) => fs.symlinkSync(path.join(outside, 'file'), at),
  (at) => fs.symlinkSync(path.join(outside, 'folder'), at),
  (at) => fs.symlinkSync(path.join(outside, 'key'), at),
  (at) => fs.symlinkSync('../'.repeat(6) + 'outside/folder', at),
  (at) => fs.symlinkSync('/proc/self/environ', at),
  (at) => require('node:child_process').execFileSync('mkfifo', [at]),
  (at) => fs.mkdirSync(at),
  (at) => fs.writeFileSync(at, 'something else'),
  () => undefined,
];
for (let i = 0; !fs.existsSync(path.join(away, 'enough')); i++) {
  const sites = within(hosts, 0).filter((one) => one.includes('threadmill--'));
  const site = pick(sites);
  const trees = within(path.join(site, 'trees'), 3).concat(within(path.join(site, 'keep'), 3), [path.join(site, 'trees'), path.join(site, 'keep')]);
  const at = pick(trees);
  const kept = path.join(away, String(i));
  if (at === undefined) { wait(5); continue; }
  try {
    fs.renameSync(at, kept);
  } catch { continue; }
  try { pick(exchanges)(at); } catch {}
  wait(Math.random() * 6);
  try { fs.rmSync(at, { recursive: true, force: true }); } catch {}
  try { fs.renameSync(kept, at); } catch {}
  wait(Math.random() * 4);
}
`;

/** What a site's own login can do to its database, to run something or to be read by somebody with more rights. */
const HOSTILE = (ran: string): string => `
  COMMENT ON TABLE page IS E'hours\\nCOMMENT ON EXTENSION plpgsql';
  COMMENT ON COLUMN page.title IS E';\\n\\\\! touch ${ran}-comment';
  CREATE TABLE stolen (who text, what text);
  CREATE TABLE "x; \\! touch ${ran}-name" (id int PRIMARY KEY, "y""; DROP TABLE page; --" text);
  INSERT INTO "x; \\! touch ${ran}-name" VALUES (1, E'\\\\! touch ${ran}-value\\n\\\\.\\n');
  CREATE FUNCTION steal(text) RETURNS text LANGUAGE plpgsql AS $f$ BEGIN
    IF current_user <> 'threadmill_live' AND current_user NOT LIKE 'threadmill%' THEN
      INSERT INTO stolen VALUES (current_user, $1); EXECUTE 'COPY (SELECT 1) TO PROGRAM ''touch ${ran}-function'''; END IF;
    RETURN $1; END $f$;
  CREATE FUNCTION public.lower(text) RETURNS text LANGUAGE sql AS $f$ SELECT steal($1) $f$;
  CREATE FUNCTION public.length(text) RETURNS int LANGUAGE sql AS $f$ SELECT pg_catalog.length(steal($1)) $f$;
  CREATE VIEW seen AS SELECT steal(title) AS title FROM page;
  CREATE INDEX ON page (md5(title));
`;

const digest = async (folder: string): Promise<string> => {
  const hash = createHash('sha256');
  for (const name of (await fs.readdir(folder, { recursive: true })).sort()) {
    const path = join(folder, name);
    const stat = await fs.lstat(path);
    hash.update(`${name} ${stat.mode} ${stat.nlink} ${stat.uid} ${stat.mtimeMs}`);
    if (stat.isFile()) hash.update(await fs.readFile(path));
  }
  return hash.digest('hex');
};

beforeAll(async () => {
  studio = await startStudio('live');
  outside = join(studio.data, 'outside');
  const away = join(studio.data, 'away');
  await fs.mkdir(join(outside, 'folder/deep'), { recursive: true });
  await fs.mkdir(away);
  enough = async () => {
    await fs.writeFile(join(away, 'enough'), '');
    if (exchanging?.exitCode === null) await once(exchanging, 'exit');
  };
  for (const name of ['file', 'key', 'folder/one', 'folder/deep/two', 'folder/logo.svg', 'folder/site.css'])
    await fs.writeFile(join(outside, name), SECRET);
  const { databases } = await studio.client.call('environmentShow', {
    params: { site: 'threadmill', environment: 'live' },
  });
  const own = new pg.Client({ ...studio.server, database: databases[0] as string });
  await own.connect();
  await own.query('SET ROLE threadmill_live');
  await own.query(HOSTILE(join(outside, 'ran')));
  await own.end();
  await makeCopy(studio, 'threadmill', 'staging');
  exchanging = spawn(process.execPath, ['-e', EXCHANGER, studio.hosts, outside, away], { stdio: 'ignore' });
}, 120_000);
afterAll(async () => {
  exchanging?.kill('SIGKILL');
  await studio?.stop();
});

/** Ends done, or refused in words that somebody chose. */
async function begun(what: string, start: () => Promise<Pick<Transfer, 'id'>>): Promise<string> {
  tried('hostile sites');
  let transfer: Pick<Transfer, 'id'>;
  try {
    transfer = await start();
  } catch (error) {
    expect(String(error), what).not.toContain('Something unexpected');
    return 'refused';
  }
  const end = await ended(studio, transfer);
  if (end.state === 'done') return 'done';
  expect([what, end.state, end.failure?.message, end.failure?.code]).not.toContain('unexpected');
  expect(end.failure?.next, what).toMatch(/./);
  return 'refused';
}

describe('a hostile site, step by step', { shuffle: false }, () => {
  it(
    `reaches nothing outside its own, in ${ROUNDS} rounds`,
    async () => {
      const { client } = studio;
      const before = await digest(outside);
      const ends: string[] = [];
      const asked: string[] = [];
      for (let round = 0; round < ROUNDS; round++) {
        const name = `copy-${round}`;
        const params = { site: 'threadmill', environment: name };
        ends.push(
          await begun('a copy', () =>
            client.call('environmentCreate', { params: { site: 'threadmill' }, body: { name, kind: 'dev' } }),
          ),
        );
        await onSite(studio, COPY, (query) => query(`UPDATE page SET title = 'Round ${round}' WHERE slug = 'dye'`));
        await onSite(studio, LIVE, (query) => query(`UPDATE page SET title = 'Round ${round}' WHERE slug = 'home'`));
        ends.push(
          await begun('a push', async () => {
            const forecast = await forecastOf(studio, COPY, LIVE);
            return client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } });
          }),
          await begun('a pull', async () => {
            const forecast = await forecastOf(studio, LIVE, COPY);
            return client.call('pullCreate', { body: { forecast: forecast.id } });
          }),
          await begun('a snapshot', () => client.call('snapshotTake', { body: { environment: LIVE } })),
          await begun('a restore', async () => {
            const [snapshot] = await client.call('snapshotList', { query: { site: 'threadmill' } });
            return client.call('restoreCreate', {
              body: { snapshot: snapshot?.id ?? 's-0000000000', onto: COPY, confirm: COPY },
            });
          }),
          await begun('a preview', async () => {
            const forecast = await forecastOf(studio, COPY, LIVE);
            const request = await client.call('requestOpen', {
              body: { forecast: forecast.id, title: `Round ${round}` },
            });
            asked.push(request.id);
            return client.call('previewMake', { params: { id: request.id } });
          }),
          await begun('a reset', () => client.call('resetCreate', { body: { from: LIVE, onto: COPY } })),
          await begun('an end', () =>
            client.call('environmentRemove', { params, query: { confirm: `threadmill/${name}` } }),
          ),
        );
        expect(await digest(outside), `round ${round}: nothing outside is written, linked, removed, or run`).toBe(
          before,
        );
      }
      await enough();
      // Previews go with their requests.
      for (const id of asked) await client.call('requestWithdraw', { params: { id }, body: { reason: 'Enough.' } });
      const wentWell = ends.filter((one) => one === 'done').length;
      console.info(`Of ${ends.length} acts ${wentWell} were done, and ${ends.length - wentWell} refused.`);
      expect(ends.length).toBe(8 * ROUNDS);
      const { stdout } = await promisify(execFile)('grep', ['-rlF', '--devices=skip', SECRET, studio.hosts]).catch(
        (error: { code: number; stdout: string }) => error,
      );
      expect(stdout, 'and nothing of it has come into a site').toBe('');
      const stolen = await onSite(studio, LIVE, (query) => query('SELECT * FROM stolen'));
      expect(stolen, 'nobody with more rights has run its functions').toEqual([]);
      const log = await fs.readFile(join(studio.data, 'service.log'), 'utf8');
      expect(log).not.toContain(SECRET);
    },
    900_000 + ROUNDS * 60_000,
  );

  it('goes on as soon as it is left alone', async () => {
    await done(studio, await studio.client.call('snapshotTake', { body: { environment: LIVE } }));
  });
});
