import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Breakpoint } from './support/breakpoint.js';
import { COPY, Dying, LIVE, STEPS } from './support/dying.js';
import { ended, folderOf, onSite, pushOnto, type Studio } from './support/studio.js';

let dying: Dying;
let studio: Studio;
let breakpoint: Breakpoint;

beforeAll(async () => {
  dying = await Dying.start();
  ({ studio, breakpoint } = dying);
}, 120_000);
afterAll(() => dying?.stop());

describe('SIGKILL of the worker in a push', () => {
  it.each(STEPS)('at "%s" leaves live wholly old or wholly new', async (step) => {
    const mark = `${step} ${Date.now()}`;
    await onSite(studio, COPY, (query) => query('UPDATE page SET title = $1', [mark]));
    await fs.writeFile(join(folderOf(studio, COPY), 'main/media/mark.svg'), mark);
    await breakpoint.set(step);
    const transfer = await pushOnto(studio, COPY, LIVE);
    await dying.killAtBreakpoint(transfer);
    const since = Date.now();
    const page = await visit(studio.gatewayPort, 'threadmill.localhost', '/');
    expect(page.status, 'live answers').toBe(200);
    expect(Date.now() - since).toBeLessThan(10_000);
    const end = await ended(studio, transfer);
    expect(Date.now() - since).toBeLessThan(15_000);
    const [rows, file] = [
      Number(await dying.one(LIVE, `SELECT count(*) FROM page WHERE title = '${mark}'`)),
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
        await dying.one(
          LIVE,
          "SELECT count(*) FROM pg_stat_activity WHERE application_name LIKE 'tessarion transfer%'",
        ),
      ),
    ).toBe(0);
    const trees = await fs.readdir(join(folderOf(studio, LIVE), 'trees'));
    expect(end.state === 'done' || !trees.includes(`main-${transfer.id}`), 'no tree is left behind').toBe(true);
  });
});
