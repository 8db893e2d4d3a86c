import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { DataFolder } from '../packages/service/src/ground/data-folder.js';
import { Breakpoint } from './support/breakpoint.js';
import { workersOf } from './support/processes.js';
import { done, ended, forecastOf, makeCopy, onRecords, onSite, type Studio, startStudio } from './support/studio.js';

let studio: Studio;
let breakpoint: Breakpoint;
const [LIVE, COPY] = ['threadmill/live', 'threadmill/staging'];

beforeAll(async () => {
  studio = await startStudio('staging', { args: ['--workers', '2'] });
  breakpoint = await Breakpoint.open(studio);
}, 120_000);
afterAll(async () => {
  await breakpoint?.close();
  await studio?.stop();
});

const stateOf = async ({ id }: { readonly id: string }): Promise<string> =>
  (await studio.client.call('transferShow', { params: { id } })).state;

describe('what was accepted later', () => {
  it('does not overtake a push by taking its source away', async () => {
    const { client } = studio;
    await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Of great worth' WHERE slug = 'dye'"));
    const forecast = await forecastOf(studio, COPY, LIVE);
    await breakpoint.setGate('take');
    const snapshot = await client.call('snapshotTake', { body: { environment: LIVE } });
    await breakpoint.reachedGate();
    const push = await client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } });
    const params = { site: 'threadmill', environment: 'staging' };
    const removal = await client.call('environmentRemove', { params, query: { confirm: COPY } });
    await new Promise((resolve) => setTimeout(resolve, 1500));
    expect([await stateOf(push), await stateOf(removal)]).toEqual(['waiting', 'waiting']);
    await breakpoint.letGo();
    for (const one of [snapshot, push, removal]) await done(studio, one);
    const [row] = await onSite(studio, LIVE, (query) => query("SELECT title FROM page WHERE slug = 'dye'"));
    expect(row).toEqual({ title: 'Of great worth' });
  });

  it('does not take a name that something else is to have', async () => {
    const { client } = studio;
    for (const name of ['one', 'two']) await makeCopy(studio, 'threadmill', name);
    const rename = (environment: string) =>
      client.call('environmentRename', { params: { site: 'threadmill', environment }, body: { name: 'wanted' } });
    const copy = () =>
      client.call('environmentCreate', { params: { site: 'threadmill' }, body: { name: 'wanted', kind: 'dev' } });
    const asked = await Promise.allSettled([rename('one'), rename('two'), copy()]);
    const accepted = asked.flatMap((one) => (one.status === 'fulfilled' ? [one.value] : []));
    expect(accepted.length).toBe(1);
    for (const one of asked) if (one.status === 'rejected') expect(String(one.reason)).toMatch(/wanted/);
    for (const one of accepted) expect((await ended(studio, one)).state).toBe('done');
    const [site] = await client.call('siteList');
    const names = site?.environments.map((one) => [one.name, one.state !== 'working']) ?? [];
    expect(names).toContainEqual(['wanted', true]);
    expect(names.every(([, isAtRest]) => isAtRest)).toBe(true);
  });

  it('is let go without a stir, however many wait', async () => {
    const { client } = studio;
    const take = () => client.call('snapshotTake', { body: { environment: LIVE } });
    const stop = ({ id }: { readonly id: string }) => client.call('transferStop', { params: { id } });
    /** Workers that are woken for a transfer of those, or will be. */
    const woken = async (): Promise<number> =>
      Number(
        (await onRecords(studio, "SELECT count(*) FROM graphile_worker.jobs WHERE key LIKE 'transfer:%'"))[0]?.count,
      );
    await breakpoint.setGate('take');
    const first = await take();
    await breakpoint.reachedGate();
    const line = await Promise.all(Array.from({ length: 120 }, take));
    // Each was looked at when it came; the one that stands at the gate has its job still.
    await expect.poll(woken, { timeout: 60_000 }).toBeLessThanOrEqual(1);
    await stop(line[0] as { id: string });
    expect(await woken()).toBeLessThanOrEqual(2);
    expect((await ended(studio, line[0] as { id: string })).state).toBe('stopped');
    for (const one of line.slice(1, -1)) await stop(one);
    await breakpoint.letGo();
    for (const one of [first, line.at(-1) as { id: string }]) await done(studio, one);
  });

  it('waits behind some others, and all come to their end', async () => {
    const { client } = studio;
    const waiting = await Promise.all(
      Array.from({ length: 6 }, () => client.call('snapshotTake', { body: { environment: LIVE } })),
    );
    for (const one of waiting) await done(studio, one);
  });

  it('goes to the worker that has what its forecast found, and to another one where that is gone', async () => {
    const { client } = studio;
    const onto = 'threadmill/wanted';
    const pushed = async (between: () => Promise<void>): Promise<string> => {
      await onSite(studio, onto, (query) => query("UPDATE page SET title = title || '.' WHERE slug = 'dye'"));
      const { id } = await forecastOf(studio, onto, LIVE);
      await between();
      const push = await client.call('pushCreate', { body: { forecast: id, confirm: LIVE } });
      return (await done(studio, push)).steps.find(({ name }) => name === 'compare')?.detail ?? '';
    };
    for (let i = 0; i < 4; i++) expect(await pushed(async () => undefined)).toMatch(/nothing was written since/);
    const kill = async (): Promise<void> => {
      const [{ worker }] = (await onRecords(
        studio,
        'SELECT w.name AS worker FROM forecast f JOIN worker w ON w.id = f.kept_by ORDER BY f.created_at DESC LIMIT 1',
      )) as [{ worker: string }];
      process.kill(Number(worker.replace('worker ', '')), 'SIGKILL');
    };
    expect(await pushed(kill), 'compared again').toMatch(/as forecast$/);
  });

  it('is left to the version that began it, where this one means something else by what it noted', async () => {
    const { client, data } = studio;
    const { keys } = await DataFolder.open(join(data, 'tessarion'));
    const note = (id: string, noted: unknown) =>
      studio.records.query('UPDATE transfer SET data = $1 WHERE id = $2', [keys.encrypt(JSON.stringify(noted)), id]);
    await breakpoint.setGate('take');
    const first = await client.call('snapshotTake', { body: { environment: LIVE } });
    await breakpoint.reachedGate();
    const second = await client.call('snapshotTake', { body: { environment: LIVE } });
    await note(second.id, { roots: 'all of them' });
    await breakpoint.letGo();
    await done(studio, first);
    const log = async () =>
      (await client.call('transferShow', { params: { id: second.id } })).log.map(({ text }) => text);
    await expect.poll(log, { timeout: 20_000 }).toEqual([expect.stringMatching(/another version.*roots/)]);
    expect(await stateOf(second)).toBe('running');
    // Nothing else waits for it but what concerns the same environment.
    await done(studio, await client.call('snapshotTake', { body: { environment: 'threadmill/wanted' } }));
    await note(second.id, {});
    for (const pid of await workersOf(data)) process.kill(pid, 'SIGKILL');
    await done(studio, second);
  });
});
