import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import type { TransferDetail } from '@tessarion/contract';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import type { Breakpoint } from './support/breakpoint.js';
import { COPY, Dying, LIVE } from './support/dying.js';
import { KeptSite } from './support/kept-site.js';
import { ended, folderOf, onSite, pushOnto, type Studio, workerPids } from './support/studio.js';

let dying: Dying;
let studio: Studio;
let breakpoint: Breakpoint;
let kept: KeptSite;

beforeAll(async () => {
  dying = await Dying.start();
  ({ studio, breakpoint } = dying);
  kept = await KeptSite.of(studio, LIVE, COPY);
}, 120_000);
afterAll(() => dying?.stop());
beforeEach(() => kept.restore());

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
      const outcomes: string[] = [];
      for (let turn = 0; turn < CUTS; turn++) {
        const mark = `cut ${turn} ${Date.now()}`;
        await onSite(studio, COPY, (query) => query('UPDATE page SET title = $1', [mark]));
        await fs.writeFile(join(folderOf(studio, COPY), 'main/media/cut.svg'), mark);
        const transfer = await pushOnto(studio, COPY, LIVE);
        // Spread over the time that such a push takes.
        await new Promise((resolve) => setTimeout(resolve, ((turn * 37) % 50) * 12));
        await cut[which]();
        const end = await endedWhateverFails(transfer);
        const rows = Number(await dying.one(LIVE, `SELECT count(*) FROM page WHERE title = '${mark}'`));
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
    const former = await dying.one(LIVE, "SELECT title FROM page WHERE slug = 'home'");
    await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'never arrives'"));
    await breakpoint.setBeforeCommit();
    const transfer = await pushOnto(studio, COPY, LIVE);
    await breakpoint.reached();
    const waited = await onSite(studio, LIVE, async (query) => {
      const order = query("UPDATE page SET body = body WHERE slug = 'home'").then(() => Date.now());
      const blocked = async (): Promise<unknown> =>
        dying.one(LIVE, "SELECT count(*)::int FROM pg_stat_activity WHERE wait_event_type = 'Lock'");
      while ((await blocked()) === 0) await new Promise((resolve) => setTimeout(resolve, 20));
      const killedAt = Date.now();
      process.kill(await dying.pidOf(transfer), 'SIGKILL');
      return (await order) - killedAt;
    });
    await breakpoint.clear();
    expect(waited).toBeLessThan(1000);
    expect((await ended(studio, transfer)).state).toBe('failed');
    expect(await dying.one(LIVE, "SELECT title FROM page WHERE slug = 'home'")).toBe(former);
    expect((await visit(studio.gatewayPort, 'threadmill.localhost', '/')).status).toBe(200);
  });
});

describe('a worker that stands still', () => {
  it('is replaced, and writes nothing when it goes on', async () => {
    await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'By a paused worker'"));
    await breakpoint.set('hold');
    const transfer = await pushOnto(studio, COPY, LIVE);
    await breakpoint.reached();
    const paused = await dying.pidOf(transfer);
    process.kill(paused, 'SIGSTOP');
    await breakpoint.clear();
    const end = await ended(studio, transfer);
    expect(end.state).toBe('failed');
    await onSite(studio, LIVE, (query) => query("UPDATE page SET title = 'After it was replaced'"));
    process.kill(paused, 'SIGCONT');
    for (let tries = 0; (await workerPids(studio)).includes(paused) && tries < 200; tries++)
      await new Promise((resolve) => setTimeout(resolve, 50));
    expect(await workerPids(studio)).not.toContain(paused);
    expect(Number(await dying.one(LIVE, "SELECT count(*) FROM page WHERE title = 'By a paused worker'"))).toBe(0);
    expect((await studio.client.call('transferShow', { params: { id: transfer.id } })).state).toBe('failed');
  });
});
