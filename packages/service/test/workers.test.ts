import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { PrivateCluster } from '@tessarion/cluster';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { startCluster } from '../../../tests/support/clusters.js';
import { openRecords, type Records } from '../src/ground/open.js';
import { WorkerIdentity } from '../src/work/worker-identity.js';

let folder: string;
let cluster: PrivateCluster;
let url: string;
let records: Records;
const alive: WorkerIdentity[] = [];

beforeAll(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-workers-'));
  await fs.chmod(folder, 0o711);
  const started = await startCluster(join(folder, 'cluster'), 'records');
  cluster = started.cluster;
  const { host, port, user, password } = started.access;
  url = `postgres://${user}:${password}@${host}:${port}/postgres`;
  records = openRecords(url);
});
afterEach(async () => {
  for (const one of alive.splice(0)) await one.leave(false);
});
afterAll(async () => {
  await records?.destroy();
  await cluster?.stop('immediate');
  await fs.rm(cluster.folder, { recursive: true, force: true });
  await fs.rm(folder, { recursive: true, force: true });
});

async function take(name: string): Promise<WorkerIdentity> {
  const one = await WorkerIdentity.take(url, name, () => undefined);
  alive.push(one);
  return one;
}

/** Ends a worker as a power cut does: without a word, and with it every lock that it held. */
async function kill(name: string): Promise<void> {
  await records.raw(
    `SELECT pg_terminate_backend(l.pid) FROM pg_locks l JOIN worker w ON w.id = l.objid::int
     WHERE l.locktype = 'advisory' AND w.name = ?`,
    [name],
  );
}

describe('a worker', () => {
  it('is never taken for dead while it starts, however often others look', async () => {
    const looking = await take('looks');
    let isLooking = true;
    const found = (async () => {
      const dead: number[] = [];
      while (isLooking) dead.push(...(await looking.findDead()));
      return dead;
    })();
    for (let i = 0; i < 40; i++) await take(`starts ${i}`);
    isLooking = false;
    const started: number[] = await records('worker').whereLike('name', 'starts %').pluck('id');
    expect(started).toHaveLength(40);
    expect((await found).filter((id) => started.includes(id))).toEqual([]);
  });

  it('that died is found by everyone until somebody has taken over its work', async () => {
    const [first, second, dying] = [await take('first'), await take('second'), await take('dies')];
    expect(await first.findDead()).toEqual([]);
    await kill('dies');
    await expect.poll(() => first.findDead()).toEqual([dying.id]);
    expect(await second.findDead(), 'whoever found it may have died as well').toEqual([dying.id]);
    await second.forget([dying.id]);
    expect(await first.findDead()).toEqual([]);
    expect(await records('worker').where({ id: dying.id }).first()).toBeUndefined();
  });

  it('writes alone to an environment, and each writer has a number of its own', async () => {
    const [first, second] = [await take('writes'), await take('wants to write')];
    const before = await first.tryWrite('threadmill/live');
    expect([before, await second.tryWrite('threadmill/live')]).toEqual([0, undefined]);
    await kill('writes');
    await expect.poll(() => second.tryWrite('threadmill/live')).toBeDefined();
    await second.forget([first.id]);
  });
});
