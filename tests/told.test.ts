import type { Client } from '@tessarion/client';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { done, ended, newcomer, onRecords, onSite, type Studio, startStudio } from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

let studio: Studio;
let ida: Client;
beforeAll(async () => {
  studio = await startStudio('staging');
  ida = await newcomer(studio, 'ida.moe@copperlane.example', 'administrator', 'everything', 'Ida Moe');
}, 120_000);
afterAll(() => studio?.stop());

const told = async () => {
  const { items } = await ida.call('noticeList', { query: {} });
  return items.map(({ kind, title, onto, words, transfer }) => ({ kind, title, onto, words, transfer }));
};

/** Lets a worker look at the schedules now instead of within a minute, and waits until it has. */
async function lookAtSchedules(): Promise<void> {
  const [job] = await onRecords(
    studio,
    "SELECT (graphile_worker.add_job('schedule', queue_name := 'schedule')).id::text",
  );
  await expect
    .poll(() => onRecords(studio, `SELECT 1 FROM graphile_worker.jobs WHERE id = ${job?.id}`), { timeout: 60_000 })
    .toEqual([]);
}

describe('who started a transfer', { shuffle: false }, () => {
  it('is told how it ended, well or not; nobody else is', async () => {
    const made = await ida.call('snapshotTake', { body: { environment: COPY } });
    await done(studio, made);
    const params = { site: 'threadmill' };
    const failed = await ida.call('environmentCreate', {
      params,
      body: { name: 'dev', kind: 'dev', leaveOut: { tables: ['nosuch'], areas: [], paths: [] } },
    });
    const { failure } = await ended(studio, failed);
    expect(await told()).toEqual([
      expect.objectContaining({
        kind: 'transfer-failed',
        title: `Clone from ${LIVE}`,
        onto: 'threadmill/dev',
        words: failure?.message,
        transfer: failed.id,
      }),
      expect.objectContaining({ kind: 'transfer-done', title: `Snapshot of ${COPY}`, onto: COPY, transfer: made.id }),
    ]);
    expect(failure?.message).toContain('nosuch');
    expect((await ida.call('noticeList', { query: {} })).unseen, 'what went well is listed, and not counted').toBe(1);
    const { items } = await studio.client.call('noticeList', { query: {} });
    expect(items.filter(({ transfer }) => transfer === made.id || transfer === failed.id)).toEqual([]);
    const mailed = await onRecords(
      studio,
      'SELECT kind FROM notice WHERE mail_due_at IS NOT NULL AND transfer_id IS NOT NULL',
    );
    expect(mailed, 'what went wrong is mailed unasked').toEqual([{ kind: 'transfer-failed' }]);
    await ida.call('noticeWish', { params: { kind: 'transfer-done' }, body: { mail: 'daily' } });
    const again = await ida.call('snapshotTake', { body: { environment: COPY } });
    await done(studio, again);
    expect(await onRecords(studio, `SELECT is_digest FROM notice WHERE transfer_id = '${again.id}'`)).toEqual([
      { is_digest: true },
    ]);
  });

  it('is told of what a schedule brought, and of why it brought nothing', async () => {
    const params = { site: 'threadmill', environment: 'staging' };
    const { etag } = await ida.call('environmentShow', { params });
    await ida.call('environmentEdit', { params, body: { schedule: { from: LIVE, at: '03:00', days: [] } }, etag });
    const makeDue = (): Promise<unknown> =>
      onRecords(
        studio,
        `UPDATE environment SET schedule = jsonb_set(schedule, '{since}', '"2026-01-01T00:00:00Z"') WHERE path = '${COPY}'`,
      );
    await onSite(studio, LIVE, (query) => query("UPDATE page SET title = 'News' WHERE slug = 'dye'"));
    await makeDue();
    await lookAtSchedules();
    await expect
      .poll(async () => (await told())[0], { timeout: 60_000 })
      .toMatchObject({ kind: 'transfer-done', title: `Pull from ${LIVE}`, onto: COPY });
    await onSite(studio, LIVE, (query) => query("UPDATE page SET title = 'Of live' WHERE slug = 'home'"));
    await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Of the copy' WHERE slug = 'home'"));
    await makeDue();
    await lookAtSchedules();
    expect((await told())[0]).toEqual({
      kind: 'transfer-failed',
      title: 'Scheduled pull',
      onto: COPY,
      words: '1 item collides; nothing was brought in.',
      transfer: null,
    });
  });
});
