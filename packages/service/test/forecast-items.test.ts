import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { PrivateCluster } from '@tessarion/cluster';
import { type ChangedItem, NOT_STAMPED } from '@tessarion/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { startCluster } from '../../../tests/support/clusters.js';
import { forgetForecasts, readItem, sealFormerItems, storeItems } from '../src/forecasts/forecast-items.js';
import { DataFolder } from '../src/ground/data-folder.js';
import { migrate } from '../src/ground/migrations.js';
import { openRecords, type Records } from '../src/ground/open.js';
import type { Installation } from '../src/transfers/installation.js';

const NAME = 'Ingrid Solheim';
const DAY_MS = 24 * 3600_000;

let folder: string;
let cluster: PrivateCluster;
let records: Records;
let data: DataFolder;
let now = new Date('2026-11-30T12:00:00Z');
const installation = (): Installation => ({ records, folder: data, now: () => now }) as Installation;

beforeAll(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-items-'));
  await fs.chmod(folder, 0o711);
  const started = await startCluster(join(folder, 'cluster'), 'records');
  cluster = started.cluster;
  const { host, port, user, password } = started.access;
  records = openRecords(`postgres://${user}:${password}@${host}:${port}/postgres`);
  await migrate(records);
  data = await DataFolder.open(join(folder, 'data'));
});
afterAll(async () => {
  await records?.destroy();
  await cluster?.stop('immediate');
  await fs.rm(cluster.folder, { recursive: true, force: true });
  await fs.rm(folder, { recursive: true, force: true });
});

const field = { name: 'name', base: null, source: NAME, before: null, after: NAME, collision: null };
const item = (id: string, fields: ChangedItem['fields']) =>
  ({
    id,
    kind: 'page',
    title: 'Dyes',
    outcome: 'written',
    hash: 'x',
    changed: NOT_STAMPED,
    fields,
  }) as unknown as ChangedItem;
const forecast = (id: string) =>
  records('forecast').insert({
    id,
    state: 'ready',
    from_path: 'threadmill/staging',
    onto_path: 'threadmill/live',
    person: 'Ida',
    created_at: now,
  });
const rowsOf = (forecast_id: string) => records('forecast_item').where({ forecast_id }).orderBy('position');
const stored = async (): Promise<string> =>
  JSON.stringify(await records.raw('SELECT i::text FROM forecast_item i').then((result) => result.rows));
const read = async (id: string) => (await rowsOf(id)).map((row) => readItem(row, data.keys));

describe('what a forecast lists', () => {
  it('is read as it was stored, and holds no value for who reads the records', async () => {
    await forecast('f-1');
    const items = [item('page:1', [field]), item('page:2', [])];
    await storeItems(records, data.keys, 'f-1', items);
    expect(await read('f-1')).toEqual(items);
    expect(await stored()).not.toContain(NAME);
    await storeItems(records, data.keys, 'f-1', items.slice(1));
    expect(await read('f-1'), 'in place of what was there').toEqual(items.slice(1));
  });

  it('of a former version is sealed, however much it is', async () => {
    await forecast('f-2');
    const items = Array.from({ length: 1201 }, (_one, i) => item(`page:${i}`, i % 3 === 0 ? [] : [field]));
    await records.batchInsert(
      'forecast_item',
      items.map((one, position) => ({ forecast_id: 'f-2', position, item: JSON.stringify(one) })),
      300,
    );
    expect(await stored()).toContain(NAME);
    await sealFormerItems(installation());
    expect(await stored()).not.toContain(NAME);
    expect(await read('f-2')).toEqual(items);
  });

  it('is forgotten after a month where nothing came of it, and its values where a request ended long ago', async () => {
    await forecast('f-open');
    await forecast('f-over');
    await forecast('f-unused');
    await records('person').insert({ id: 'p-1', name: 'Ida', mail: 'ida@x.example', state: 'active', created_at: now });
    for (const [id, state] of [
      ['open', 'asked'],
      ['over', 'delivered'],
    ]) {
      await records('change_request').insert({
        id: `r-${id}`,
        site: 'threadmill',
        from_path: 'threadmill/staging',
        onto_path: 'threadmill/live',
        title: 'Dyes',
        description: '',
        state,
        author: 'p-1',
        created_at: now,
        updated_at: now,
        revision: 1,
        forecast: `f-${id}`,
      });
      await records('request_revision').insert({
        request_id: `r-${id}`,
        number: 1,
        forecast: `f-${id}`,
        at: now,
        person_id: 'p-1',
        items: '[]',
      });
    }
    for (const id of ['f-open', 'f-over', 'f-unused'])
      await storeItems(records, data.keys, id, [item('page:1', [field])]);
    const left = async () => {
      await forgetForecasts(installation());
      const own = ['f-open', 'f-over', 'f-unused'];
      return (await records('forecast').whereIn('id', own).orderBy('id').select('id')).map((one) => one.id);
    };
    now = new Date(now.getTime() + 29 * DAY_MS);
    expect(await left()).toEqual(['f-open', 'f-over', 'f-unused']);
    now = new Date(now.getTime() + 2 * DAY_MS);
    expect(await left()).toEqual(['f-open', 'f-over']);
    expect((await read('f-over'))[0]?.fields).toEqual([field]);
    now = new Date(now.getTime() + 60 * DAY_MS);
    expect(await left()).toEqual(['f-open', 'f-over']);
    expect((await read('f-over')).map((one) => [one.title, one.fields])).toEqual([['Dyes', []]]);
    expect((await read('f-open'))[0]?.fields).toEqual([field]);
  });
});
