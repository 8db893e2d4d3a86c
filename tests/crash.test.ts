import * as fs from 'node:fs/promises';
import { dirname, join } from 'node:path';
import type { TransferDetail } from '@tessarion/contract';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Breakpoint } from './support/breakpoint.js';
import {
  done,
  ended,
  folderOf,
  leftOvers,
  onSite,
  pullInto,
  pushOnto,
  type Studio,
  startStudio,
  workerPids,
} from './support/studio.js';

let studio: Studio;
let breakpoint: Breakpoint;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

beforeAll(async () => {
  studio = await startStudio('staging', { args: ['--workers', '2'] });
  breakpoint = await Breakpoint.open(studio);
}, 120_000);
afterAll(async () => {
  await breakpoint?.close();
  await studio?.stop();
});

const one = async (path: string, sql: string): Promise<unknown> =>
  Object.values((await onSite(studio, path, (query) => query(sql)))[0] ?? {})[0];

/** Which of the workers stands at the breakpoint: the one that holds the transfer. */
async function pidOfTransfer(id: string): Promise<number> {
  const [row] = await breakpoint.query(
    `SELECT w.name FROM transfer t JOIN worker w ON w.id::text = t.worker WHERE t.id = '${id}'`,
  );
  return Number(String(row?.name).replace('worker ', ''));
}

async function killAt(transfer: { id: string }): Promise<void> {
  await breakpoint.reached();
  process.kill(await pidOfTransfer(transfer.id), 'SIGKILL');
  await breakpoint.clear();
}

describe('SIGKILL of the worker in a clone', () => {
  it.each(['check', 'reserve', 'copy', 'publish', 'tasks'])(
    'at "%s" leaves it wholly made or not at all',
    async (step) => {
      const before = await leftOvers(studio);
      await breakpoint.set(step);
      const transfer = await studio.client.call('environmentCreate', {
        params: { site: 'threadmill' },
        body: { name: 'killed', kind: 'dev' },
      });
      await killAt(transfer);
      const since = Date.now();
      const end = await ended(studio, transfer);
      expect(Date.now() - since).toBeLessThan(10_000);
      if (end.state === 'done') {
        expect(['publish', 'tasks']).toContain(step);
        const page = await visit(studio.gatewayPort, 'threadmill--killed.localhost', '/');
        expect(page.status).toBe(401);
        const removal = await studio.client.call('environmentRemove', {
          params: { site: 'threadmill', environment: 'killed' },
          query: { confirm: 'threadmill/killed' },
        });
        expect(await ended(studio, removal)).toMatchObject({ state: 'done', failure: null });
      } else {
        expect(end.state).toBe('failed');
        expect(end.failure?.message).toContain('The worker died');
      }
      expect(await leftOvers(studio)).toEqual(before);
      const [locks] = await breakpoint.query(
        "SELECT count(*)::int AS count FROM pg_locks WHERE locktype = 'advisory' AND classid = 29778",
      );
      expect(locks?.count).toBe(0);
    },
  );
});

const STEPS = [
  'compare',
  'safety',
  'stage',
  'hold',
  'commit',
  'switch',
  'release',
  'tasks',
  'health',
  'proof',
  'record',
];

describe('SIGKILL of the worker in a push', () => {
  it.each(STEPS)('at "%s" leaves live wholly old or wholly new', async (step) => {
    const mark = `${step} ${Date.now()}`;
    await onSite(studio, COPY, (query) => query('UPDATE page SET title = $1', [mark]));
    await fs.writeFile(join(folderOf(studio, COPY), 'main/media/mark.svg'), mark);
    await breakpoint.set(step);
    const transfer = await pushOnto(studio, COPY, LIVE);
    await killAt(transfer);
    const since = Date.now();
    const page = await visit(studio.gatewayPort, 'threadmill.localhost', '/');
    expect(page.status, 'live answers').toBe(200);
    expect(Date.now() - since).toBeLessThan(10_000);
    const end = await ended(studio, transfer);
    expect(Date.now() - since).toBeLessThan(15_000);
    const [rows, file] = [
      Number(await one(LIVE, `SELECT count(*) FROM page WHERE title = '${mark}'`)),
      await fs.readFile(join(folderOf(studio, LIVE), 'main/media/mark.svg'), 'utf8').catch(() => ''),
    ];
    if (end.state === 'done') expect([rows, file]).toEqual([2, mark]);
    else {
      expect(['compare', 'safety', 'stage', 'hold']).toContain(step);
      expect(rows).toBe(0);
      expect(file).not.toBe(mark);
    }
    expect(
      Number(
        await one(LIVE, "SELECT count(*) FROM pg_stat_activity WHERE application_name LIKE 'tessarion transfer%'"),
      ),
    ).toBe(0);
    const trees = await fs.readdir(join(folderOf(studio, LIVE), 'trees'));
    expect(end.state === 'done' || !trees.includes(`main-${transfer.id}`), 'no tree is left behind').toBe(true);
  });
});

describe('SIGKILL of the worker in a pull', () => {
  it.each(STEPS)('at "%s" leaves the copy wholly old or wholly new, and its own work whole', async (step) => {
    await done(studio, await studio.client.call('resetCreate', { body: { from: LIVE, onto: COPY } }));
    const mark = `pulled at ${step} ${Date.now()}`;
    await onSite(studio, COPY, (query) => query("UPDATE page SET body = 'In the works' WHERE slug = 'dye'"));
    await onSite(studio, LIVE, (query) => query('UPDATE page SET title = $1', [mark]));
    await onSite(studio, LIVE, (query) =>
      query('INSERT INTO customer (name, email) VALUES ($1, $2)', [mark, 'a@post.example']),
    );
    const upload = (path: string): string => join(folderOf(studio, path), 'main/media/uploads/mark.svg');
    await fs.mkdir(dirname(upload(LIVE)), { recursive: true });
    await fs.writeFile(upload(LIVE), mark);
    const customers = async (path: string): Promise<number> => Number(await one(path, 'SELECT count(*) FROM customer'));
    const before = await customers(COPY);
    await breakpoint.set(step);
    const transfer = await pullInto(studio, LIVE, COPY);
    await killAt(transfer);
    const end = await ended(studio, transfer);
    const found = [
      Number(await one(COPY, `SELECT count(*) FROM page WHERE title = '${mark}'`)),
      (await customers(COPY)) - before,
      await fs.readFile(upload(COPY), 'utf8').catch(() => ''),
    ];
    if (end.state === 'done') expect(found).toEqual([2, 1, mark]);
    else {
      expect(['compare', 'safety', 'stage', 'hold']).toContain(step);
      expect(found.slice(0, 2)).toEqual([0, 0]);
      expect(found[2]).not.toBe(mark);
    }
    expect(await one(COPY, "SELECT body FROM page WHERE slug = 'dye'")).toBe('In the works');
  });
});

/** The service itself may answer with a failure while its connections are gone. */
async function endedWhateverFails(transfer: { id: string }): Promise<TransferDetail> {
  for (;;) {
    try {
      return await ended(studio, transfer);
    } catch {
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
  }
}

describe('connections that are cut', () => {
  const CUTS = Number(process.env.TESSARION_CUTS ?? 4);

  const cut = {
    'to the site': () =>
      onSite(studio, LIVE, (query) =>
        query(
          "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name LIKE 'tessarion %' AND pid <> pg_backend_pid()",
        ),
      ),
    'to the records': () =>
      breakpoint.query(
        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'tessarion records' AND pid <> pg_backend_pid()",
      ),
    'to the records, and the lock with them,': () =>
      breakpoint.query(
        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE backend_type = 'client backend' AND pid <> pg_backend_pid()",
      ),
  } as const;

  it.each(Object.keys(cut) as (keyof typeof cut)[])(
    '%s anywhere in a push leave live wholly old or wholly new',
    async (which) => {
      await done(studio, await studio.client.call('resetCreate', { body: { from: LIVE, onto: COPY } }));
      const outcomes: string[] = [];
      for (let turn = 0; turn < CUTS; turn++) {
        const mark = `cut ${turn} ${Date.now()}`;
        await onSite(studio, COPY, (query) => query('UPDATE page SET title = $1', [mark]));
        await fs.writeFile(join(folderOf(studio, COPY), 'main/media/cut.svg'), mark);
        const transfer = await pushOnto(studio, COPY, LIVE);
        // Spread over the time that such a push takes.
        await new Promise((resolve) => setTimeout(resolve, ((turn * 37) % 50) * 30));
        await cut[which]();
        const end = await endedWhateverFails(transfer);
        const rows = Number(await one(LIVE, `SELECT count(*) FROM page WHERE title = '${mark}'`));
        const file = await fs.readFile(join(folderOf(studio, LIVE), 'main/media/cut.svg'), 'utf8').catch(() => '');
        outcomes.push(end.state);
        if (end.state === 'done') expect([rows, file], `cut ${turn}`).toEqual([2, mark]);
        else expect([rows, file === mark], `cut ${turn}, ${end.state}: ${end.failure?.message}`).toEqual([0, false]);
        expect((await visit(studio.gatewayPort, 'threadmill.localhost', '/')).status).toBe(200);
      }
      process.stdout.write(`cut ${which} ${CUTS} times: ${outcomes.join(', ')}\n`);
    },
    60_000 + CUTS * 15_000,
  );
});

describe('a worker that dies with rows locked', () => {
  it('keeps a visitor waiting for less than a second, and leaves live as it was', async () => {
    const former = await one(LIVE, "SELECT title FROM page WHERE slug = 'home'");
    await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'never arrives'"));
    await breakpoint.setBeforeCommit();
    const transfer = await pushOnto(studio, COPY, LIVE);
    await breakpoint.reached();
    const waited = await onSite(studio, LIVE, async (query) => {
      const order = query("UPDATE page SET body = body WHERE slug = 'home'").then(() => Date.now());
      const blocked = async (): Promise<unknown> =>
        one(LIVE, "SELECT count(*)::int FROM pg_stat_activity WHERE wait_event_type = 'Lock'");
      while ((await blocked()) === 0) await new Promise((resolve) => setTimeout(resolve, 20));
      const killedAt = Date.now();
      process.kill(await pidOfTransfer(transfer.id), 'SIGKILL');
      return (await order) - killedAt;
    });
    await breakpoint.clear();
    expect(waited).toBeLessThan(1000);
    expect((await ended(studio, transfer)).state).toBe('failed');
    expect(await one(LIVE, "SELECT title FROM page WHERE slug = 'home'")).toBe(former);
    expect((await visit(studio.gatewayPort, 'threadmill.localhost', '/')).status).toBe(200);
  });
});

describe('a worker that stands still', () => {
  it('is replaced, and writes nothing when it goes on', async () => {
    await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'By a paused worker'"));
    await breakpoint.set('hold');
    const transfer = await pushOnto(studio, COPY, LIVE);
    await breakpoint.reached();
    const paused = await pidOfTransfer(transfer.id);
    process.kill(paused, 'SIGSTOP');
    await breakpoint.clear();
    const end = await ended(studio, transfer);
    expect(end.state).toBe('failed');
    await onSite(studio, LIVE, (query) => query("UPDATE page SET title = 'After it was replaced'"));
    process.kill(paused, 'SIGCONT');
    for (let tries = 0; (await workerPids(studio)).includes(paused) && tries < 200; tries++)
      await new Promise((resolve) => setTimeout(resolve, 50));
    expect(await workerPids(studio)).not.toContain(paused);
    expect(Number(await one(LIVE, "SELECT count(*) FROM page WHERE title = 'By a paused worker'"))).toBe(0);
    expect((await studio.client.call('transferShow', { params: { id: transfer.id } })).state).toBe('failed');
  });

  it('lets visitors through within ten seconds when no worker returns, and keeps no lock of theirs', async () => {
    await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Never seen'"));
    await breakpoint.set('hold');
    const transfer = await pushOnto(studio, COPY, LIVE, { method: 'replace' });
    await breakpoint.reached();
    expect(transfer.id).toMatch(/^t-/);
    const pids = await workerPids(studio);
    studio.service.kill('SIGKILL');
    for (const pid of pids) process.kill(pid, 'SIGKILL');
    const since = Date.now();
    const page = await visit(studio.gatewayPort, 'threadmill.localhost', '/page/dye');
    expect(page.status).toBe(200);
    expect(Date.now() - since).toBeLessThan(10_000);
    const order = await visit(studio.gatewayPort, 'threadmill.localhost', '/order', {
      product: '1',
      name: 'Aud',
      email: 'aud@post.example',
      quantity: '1',
    });
    expect(order.status).toBe(200);
    await breakpoint.clear();
    const { GatewayControl } = await import('../packages/service/dist/gateway/control.js');
    const { pid } = await new GatewayControl(join(studio.data, 'tessarion/run/gateway.sock')).ping();
    process.kill(pid, 'SIGTERM');
  });
});
