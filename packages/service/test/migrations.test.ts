import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { PrivateCluster } from '@tessarion/cluster';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { startCluster } from '../../../tests/support/clusters.js';
import { migrate } from '../src/ground/migrations.js';
import { openRecords, type Records } from '../src/ground/open.js';

let folder: string;
let cluster: PrivateCluster;
let records: Records;

beforeAll(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-records-'));
  await fs.chmod(folder, 0o711);
  const started = await startCluster(join(folder, 'cluster'));
  cluster = started.cluster;
  const { host, port, user, password } = started.access;
  records = openRecords(`postgres://${user}:${password}@${host}:${port}/postgres`);
});
afterAll(async () => {
  await records?.destroy();
  await cluster?.stop('immediate');
  await fs.rm(cluster.folder, { recursive: true, force: true });
  await fs.rm(folder, { recursive: true, force: true });
});

const at = new Date('2026-11-01T08:00:00Z');

/** Records as an installation has them that was used before. */
async function fill(): Promise<void> {
  for (const [id, name] of [
    ['p-ida', 'Ida Moe'],
    ['p-odd', 'Odd Rye'],
    ['p-odd-2', 'Odd Rye'],
  ])
    await records('person').insert({ id, name, mail: `${id}@copperlane.example`, created_at: at });
  for (const [id, person] of [
    ['t-ida', 'Ida Moe'],
    ['t-odd', 'Odd Rye'],
    ['t-itself', 'schedule of threadmill/staging'],
  ])
    await records('transfer').insert({
      id,
      kind: 'push',
      state: 'done',
      onto_path: 'threadmill/live',
      site: 'threadmill',
      sentence: '[]',
      person,
      created_at: at,
      input: '',
      data: '',
    });
  await records('profile').insert({
    name: 'quayside',
    version: 1,
    title: 'Q',
    text: '',
    created_at: at,
    person: 'Ida Moe',
  });
  await records('change_request').insert({
    id: 'q-1',
    site: 'threadmill',
    from_path: 'threadmill/staging',
    onto_path: 'threadmill/live',
    title: 'Autumn',
    description: '',
    state: 'in-review',
    author: 'p-ida',
    created_at: at,
    updated_at: at,
    revision: 1,
    forecast: 'f-1',
  });
  await records('notice').insert({
    id: 'o-1',
    person_id: 'p-ida',
    kind: 'comment',
    request_id: 'q-1',
    by: 'p-odd',
    words: 'Look.',
    at,
  });
}

it('keeps what an older installation holds, and knows more of it', async () => {
  await migrate(records, '023_tags');
  await fill();
  await migrate(records);

  const doers = (await records('transfer').orderBy('id').select('id', 'person', 'person_id')) as unknown[];
  expect(doers, 'a name that two people have tells of neither').toEqual([
    { id: 't-ida', person: 'Ida Moe', person_id: 'p-ida' },
    { id: 't-itself', person: 'schedule of threadmill/staging', person_id: null },
    { id: 't-odd', person: 'Odd Rye', person_id: null },
  ]);
  expect(await records('profile').first('person_id')).toEqual({ person_id: 'p-ida' });
  expect(await records('change_request').first('title', 'wanted_for')).toEqual({ title: 'Autumn', wanted_for: null });
  expect(await records('told_notice').first('id', 'site', 'onto_path', 'title', 'state', 'by_name')).toEqual({
    id: 'o-1',
    site: 'threadmill',
    onto_path: 'threadmill/live',
    title: 'Autumn',
    state: 'in-review',
    by_name: 'Odd Rye',
  });
  expect(await records('person').where({ id: 'p-ida' }).first('digest_at', 'digest_zone')).toEqual({
    digest_at: '06:00',
    digest_zone: 'UTC',
  });
  await migrate(records);
  const notice = { id: 'o-2', person_id: 'p-ida', kind: 'guest', words: '', at };
  await expect(records('notice').insert(notice), 'a notice is about something').rejects.toThrow('notice_is_about_one');
});
