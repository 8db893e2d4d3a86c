import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { setTimeout as later } from 'node:timers/promises';
import type { Client } from '@tessarion/client';
import type { TransferDetail } from '@tessarion/contract';
import { visit } from '@tessarion/demo';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Deaths } from './support/deaths.js';
import {
  addSite,
  folderOf,
  forecastOf,
  leftOvers,
  makeCopy,
  onRecords,
  onSite,
  SHOP,
  type Studio,
  startStudio,
} from './support/studio.js';

/** Rounds of work on four sites at once, in each of which something dies; a few in each run (docs/state.md). */
const ROUNDS = Number(process.env.TESSARION_DEATH_ROUNDS ?? 4);
const SEED = Number(process.env.TESSARION_DEATH_SEED ?? 1);
const SITES = ['anchor', 'beacon', 'capstan', 'dory'];

let studio: Studio;
let deaths: Deaths;
let client: Client;
beforeAll(async () => {
  studio = await startStudio('nothing', { args: ['--workers', '2'] });
  deaths = new Deaths(studio);
  client = studio.client;
  for (const name of SITES) await addSite(studio, { ...SHOP, name, client: name });
  for (const name of SITES) await makeCopy(studio, name, 'staging');
}, 240_000);
afterAll(() => studio?.stop());

type Below = (n: number) => number;
function diceOf(seed: number): Below {
  const numbers = fc.sample(fc.integer({ min: 0, max: 2 ** 30 }), { seed, numRuns: 50_000 });
  let at = 0;
  return (n) => (numbers[at++ % numbers.length] as number) % n;
}

/** Work on one site: what is asked for, and what must be true where it was done, and where it was not. */
interface Work {
  readonly site: string;
  readonly kind: string;
  readonly id: string;
  /** What is not as the record says. */
  readonly wrong: (isDone: boolean) => Promise<string[]>;
}

let written = 0;

/** What an end has of a mark: rows, and the file. */
async function markOn(path: string, mark: string): Promise<[boolean, boolean]> {
  const rows = await onSite(studio, path, (query) =>
    query('SELECT count(*)::int AS n FROM page WHERE title = $1', [mark]),
  );
  const file = await fs.readFile(join(folderOf(studio, path), 'main/media/mark.svg'), 'utf8').catch(() => '');
  return [rows[0]?.n === 2, file === mark];
}

async function write(path: string, mark: string): Promise<void> {
  await onSite(studio, path, (query) => query('UPDATE page SET title = $1', [mark]));
  await fs.writeFile(join(folderOf(studio, path), 'main/media/mark.svg'), mark);
}

const environments = async (site: string): Promise<{ path: string }[]> =>
  (await client.call('siteShow', { params: { site } })).environments.map(({ path }) => ({ path }));

/** Begins something on a site; what must be read before is read. */
async function begin(site: string, below: Below): Promise<() => Promise<Work>> {
  const [live, copy] = [`${site}/live`, `${site}/staging`];
  const there = (await environments(site)).map((one) => one.path);
  const extra = there.find((path) => path !== live && path !== copy);
  const mark = `mark ${++written}`;
  const work = async (
    kind: string,
    call: () => Promise<{ readonly id: string }>,
    wrong: Work['wrong'],
  ): Promise<Work> => ({ site, kind, id: (await call()).id, wrong });
  const moved =
    (path: string) =>
    async (isDone: boolean): Promise<string[]> => {
      const found = await markOn(path, mark);
      return found.every((one) => one === isDone)
        ? []
        : [`${path} has rows ${found[0]}, file ${found[1]} of "${mark}"`];
    };
  const isThere =
    (path: string, should: (isDone: boolean) => boolean) =>
    async (isDone: boolean): Promise<string[]> => {
      const is = (await environments(site)).some((one) => one.path === path);
      return is === should(isDone) ? [] : [`${path} is ${is ? '' : 'not '}there`];
    };
  switch (below(extra === undefined ? 7 : 8)) {
    case 0:
    case 1:
    case 2: {
      await write(copy, mark);
      const forecast = await forecastOf(studio, copy, live, { wishes: { rest: 'source' } });
      return () =>
        work('push', () => client.call('pushCreate', { body: { forecast: forecast.id, confirm: live } }), moved(live));
    }
    case 3: {
      await write(live, mark);
      const forecast = await forecastOf(studio, live, copy, { wishes: { rest: 'source' } });
      return () => work('pull', () => client.call('pullCreate', { body: { forecast: forecast.id } }), moved(copy));
    }
    case 4:
      await write(live, mark);
      return () => work('reset', () => client.call('resetCreate', { body: { from: live, onto: copy } }), moved(copy));
    case 5: {
      await write(copy, mark);
      const taken = await client.call('snapshotTake', { body: { environment: copy } });
      await settledIn([taken.id]);
      await write(copy, `${mark} after`);
      const [newest] = await client.call('snapshotList', { query: { environment: copy } });
      const snapshot = newest?.id as string;
      return () => work('restore', () => client.call('restoreCreate', { body: { snapshot, onto: copy } }), moved(copy));
    }
    default: {
      if (extra === undefined)
        return () =>
          work(
            'clone',
            () => client.call('environmentCreate', { params: { site }, body: { name: 'extra', kind: 'dev' } }),
            isThere(`${site}/extra`, (isDone) => isDone),
          );
      const name = extra.slice(site.length + 1);
      const params = { site, environment: name };
      if (below(2) === 0)
        return () =>
          work(
            'remove',
            () => client.call('environmentRemove', { params, query: { confirm: extra } }),
            isThere(extra, (isDone) => !isDone),
          );
      const other = name === 'extra' ? 'other' : 'extra';
      return () =>
        work(
          'rename',
          () => client.call('environmentRename', { params, body: { name: other } }),
          isThere(`${site}/${other}`, (isDone) => isDone),
        );
    }
  }
}

/** Waits until transfers have ended, whatever dies meanwhile. */
async function settledIn(ids: readonly string[]): Promise<void> {
  for (const since = Date.now(); ; ) {
    const open = await onRecords(
      studio,
      `SELECT id FROM transfer WHERE state IN ('waiting', 'running', 'stopping') AND id IN (${ids.map((id) => `'${id}'`).join(', ')})`,
    ).catch(() => [{}]);
    if (open.length === 0) return;
    if (Date.now() - since > 120_000) throw new Error(`These do not end: ${JSON.stringify(open)}`);
    await later(50);
  }
}

/** What lies on the server or stands in the records and belongs to nothing. */
async function leftBehind(): Promise<string[]> {
  const unready = await onRecords(studio, "SELECT path, status FROM environment WHERE status <> 'ready'");
  const wrong = unready.map(({ path, status }) => `${path} is ${status}`);
  const found = await leftOvers(studio);
  const databases: string[] = [];
  const folders: string[] = [];
  for (const site of SITES)
    for (const { path } of await environments(site)) {
      const name = path.slice(site.length + 1);
      databases.push(...(await client.call('environmentShow', { params: { site, environment: name } })).databases);
      folders.push(path.replace('/', '--'));
      const folder = folderOf(studio, path);
      const link = await fs.readlink(join(folder, 'main')).catch(() => '');
      const trees = await fs.readdir(join(folder, 'trees')).catch((): string[] => []);
      // Three former ones are kept; what was never live is not among them.
      const others = trees.filter((one) => !link.endsWith(`/${one}`));
      const never = await onRecords(
        studio,
        `SELECT 'main-' || id AS tree FROM transfer WHERE state IN ('failed', 'stopped') AND onto_path = '${path}'`,
      );
      const stray = others.filter((one) => never.some(({ tree }) => tree === one) && !trees.includes(`${one}-back`));
      if (link === '' || others.length > 3 || stray.length > 0)
        wrong.push(
          `${path} has trees ${trees.join(', ')}, of which ${stray.join(', ')} were never live; main is ${link}`,
        );
    }
  const unknown = (is: readonly string[], should: readonly string[], what: string): void => {
    for (const one of is) if (!should.includes(one)) wrong.push(`${what} ${one} belongs to nothing`);
    for (const one of should) if (!is.includes(one)) wrong.push(`${what} ${one} is gone`);
  };
  unknown(found.databases, databases, 'database');
  unknown(found.folders, folders, 'folder');
  if (found.roles.length !== databases.length)
    wrong.push(`roles: ${found.roles.join(', ')} of ${databases.join(', ')}`);
  return wrong;
}

/** Orders on all four sites while things die. */
class Orders {
  readonly taken: { readonly site: string; readonly mail: string }[] = [];
  #isOver = false;
  readonly #all: Promise<unknown>;
  constructor() {
    this.#all = Promise.all(SITES.map((site) => this.#order(site)));
  }
  async #order(site: string): Promise<void> {
    while (!this.#isOver) {
      const mail = `order-${++written}@post.example`;
      const form = { product: '1', name: 'Aud Lindgren', email: mail, quantity: '1' };
      const answer = await visit(studio.gatewayPort, `${site}.localhost`, '/order', form).catch(() => undefined);
      if (answer?.status === 200) this.taken.push({ site, mail });
      await later(60);
    }
  }
  async stop(): Promise<void> {
    this.#isOver = true;
    await this.#all;
  }
  async wrong(): Promise<string[]> {
    const wrong: string[] = [];
    for (const site of SITES) {
      const mails = this.taken.filter((one) => one.site === site).map((one) => one.mail);
      const rows = await onSite(studio, `${site}/live`, (query) =>
        query(
          'SELECT c.email, count(p.id)::int AS n FROM customer c LEFT JOIN purchase p ON p.customer_id = c.id WHERE c.email = ANY($1) GROUP BY 1',
          [mails],
        ),
      );
      const counts = new Map(rows.map((row) => [row.email, row.n]));
      for (const mail of mails)
        if (counts.get(mail) !== 1) wrong.push(`${site}: ${mail} is there ${counts.get(mail) ?? 0} times`);
    }
    return wrong;
  }
}

async function recordsAreTrue(work: Work): Promise<string[]> {
  const shown: TransferDetail = await client.call('transferShow', { params: { id: work.id } });
  const running = shown.steps.filter((step) => step.state === 'running').map((step) => step.name);
  const wrong = await work.wrong(shown.state === 'done');
  if (running.length > 0) wrong.push(`steps still run: ${running.join(', ')}`);
  if (shown.remains.length > 0) wrong.push(`remains: ${shown.remains.join('; ')}`);
  return wrong.map(
    (one) => `${work.kind} of ${work.site} (${work.id}, ${shown.state}: ${shown.failure?.message ?? ''}): ${one}`,
  );
}

describe('work on four sites at once while something dies at any moment', () => {
  it('leaves nothing behind, nothing half done, no record that is not true, and no order lost', {
    timeout: 120_000 + ROUNDS * 60_000,
  }, async () => {
    const below = diceOf(SEED);
    const counts = new Map<string, number>();
    const slowest = { ms: 0, of: '' };
    const failures: string[] = [];
    for (let round = 0; round < ROUNDS; round++) {
      const kind = Deaths.KINDS[below(Deaths.KINDS.length)] as (typeof Deaths.KINDS)[number];
      const told = [`round ${round}: ${kind}`];
      const begins: (() => Promise<Work>)[] = [];
      for (const site of SITES) begins.push(await begin(site, below));
      const orders = new Orders();
      const works = await Promise.all(begins.map((one) => one()));
      const after = below(1500);
      await later(after);
      const bringBack = await deaths.of(kind);
      await later(below(1000));
      await bringBack();
      const since = Date.now();
      told.push(`after ${after} ms, during ${works.map((one) => `${one.kind} of ${one.site}`).join(', ')}`);
      await settledIn(works.map((one) => one.id));
      const took = Date.now() - since;
      if (took > slowest.ms) Object.assign(slowest, { ms: took, of: told.join(' ') });
      await orders.stop();
      await expect
        .poll(
          () =>
            client.call('siteList').then(
              (one) => one.length,
              () => 0,
            ),
          { timeout: 30_000 },
        )
        .toBe(SITES.length);
      const wrong: string[] = [];
      for (const site of SITES) {
        await expect
          .poll(
            async () => (await visit(studio.gatewayPort, `${site}.localhost`, '/').catch(() => undefined))?.status,
            {
              timeout: 30_000,
            },
          )
          .toBe(200);
      }
      for (const one of works) {
        wrong.push(...(await recordsAreTrue(one)));
        const { state } = await client.call('transferShow', { params: { id: one.id } });
        counts.set(`${one.kind} ${state}`, (counts.get(`${one.kind} ${state}`) ?? 0) + 1);
      }
      wrong.push(...(await orders.wrong()), ...(await leftBehind()));
      if (wrong.length > 0) {
        failures.push([...told, ...wrong].join('\n  '));
        if (process.env.TESSARION_DEATH_GO_ON === undefined) break;
      }
    }
    console.info(
      `${[...counts]
        .sort()
        .map(([what, n]) => `${what} ${n}`)
        .join(', ')}; the slowest was settled ${slowest.ms} ms after all was back (${slowest.of}).`,
    );
    expect(failures.join('\n')).toBe('');
  });
});
