import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { PrivateCluster } from '@tessarion/cluster';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { startCluster } from '../../../tests/support/clusters.js';
import { DataFolder } from '../src/ground/data-folder.js';
import { openRecords, type Records } from '../src/ground/open.js';
import { enqueue, findUnqueued } from '../src/ground/queue.js';
import { Transfers } from '../src/transfers/transfers.js';

let folder: string;
let cluster: PrivateCluster;
let records: Records;
let transfers: Transfers;

beforeAll(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-queue-'));
  await fs.chmod(folder, 0o711);
  const started = await startCluster(join(folder, 'cluster'), 'records');
  cluster = started.cluster;
  const { host, port, user, password } = started.access;
  records = openRecords(`postgres://${user}:${password}@${host}:${port}/postgres`);
  transfers = new Transfers(await DataFolder.open(join(folder, 'data')), () => new Date());
});
afterAll(async () => {
  await records?.destroy();
  await cluster?.stop('immediate');
  await fs.rm(cluster.folder, { recursive: true, force: true });
  await fs.rm(folder, { recursive: true, force: true });
});

const reset = async (): Promise<string> => {
  const [from, onto] = ['threadmill/live', 'threadmill/staging'];
  const input = { origin: { from }, source: from, exact: false };
  const by = { id: 'p-0000000000', name: 'Ida', token: null };
  const wanted = { kind: 'reset' as const, from, onto, site: 'threadmill', sentence: [], by, input };
  return (await transfers.create(records, wanted)).id;
};
/** What the queue itself does to a job, which no test can wait for. */
const job = (id: string, change: string): Promise<unknown> =>
  records.raw(`UPDATE graphile_worker._private_jobs SET ${change} WHERE key = ?`, [`transfer:${id}`]);
const unqueued = async (): Promise<string[]> => (await findUnqueued(records)).map(({ task, id }) => `${task} ${id}`);

describe('what waits', () => {
  it('is found when no job will come to it, and has one again when it is woken', async () => {
    const [first, second, third] = [await reset(), await reset(), await reset()];
    expect(await unqueued(), 'each has its job').toEqual([]);
    await job(first, 'attempts = max_attempts');
    expect(await unqueued(), 'its last try failed').toEqual([`transfer ${first}`]);
    await job(second, "attempts = max_attempts, locked_at = now(), locked_by = 'w'");
    expect(await unqueued(), 'one that is at its last try may still come').toEqual([`transfer ${first}`]);
    await records.raw('DELETE FROM graphile_worker._private_jobs WHERE key = ?', [`transfer:${third}`]);
    expect(await unqueued(), 'who is not the first in line has no turn yet').toEqual([`transfer ${first}`]);
    for (const id of [first, third, third]) await enqueue(records, 'transfer', id);
    expect(await unqueued()).toEqual([]);
    const tries = await records('graphile_worker.jobs').whereNotNull('key').orderBy('key').pluck('attempts');
    expect(tries.sort(), 'woken twice, it is one job, with all its tries anew').toEqual([0, 0, 5]);
    await transfers.update(records, first, { state: 'stopped' });
    await records.raw('DELETE FROM graphile_worker._private_jobs');
    expect(await unqueued(), 'what has ended needs none').toEqual([`transfer ${second}`]);
  });
});
