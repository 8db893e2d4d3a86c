import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Breakpoint } from './support/breakpoint.js';
import { COPY, Dying, LIVE } from './support/dying.js';
import { ended, folderOf, onSite, pushOnto, type Studio } from './support/studio.js';

let dying: Dying;
let studio: Studio;
let breakpoint: Breakpoint;

beforeAll(async () => {
  dying = await Dying.start();
  ({ studio, breakpoint } = dying);
}, 120_000);
afterAll(() => dying?.stop());

const gateway = async (): Promise<{ pid: number }> => {
  const { GatewayControl } = await import('../packages/service/dist/front/control.js');
  return new GatewayControl(join(studio.data, 'tessarion/run/gateway.sock')).ping();
};

/** Rows and the file that live has of a push that wrote a mark. */
const found = async (mark: string): Promise<[rows: number, file: string]> => [
  Number(await dying.one(LIVE, `SELECT count(*) FROM page WHERE title = '${mark}'`)),
  await fs.readFile(join(folderOf(studio, LIVE), 'main/media/mark.svg'), 'utf8').catch(() => ''),
];

async function beginPush(mark: string): Promise<{ readonly id: string }> {
  await onSite(studio, COPY, (query) => query('UPDATE page SET title = $1', [mark]));
  await fs.writeFile(join(folderOf(studio, COPY), 'main/media/mark.svg'), mark);
  return pushOnto(studio, COPY, LIVE);
}

describe('a worker that is stopped in order in the middle of a push', () => {
  it.each(['stage', 'hold', 'commit', 'switch', 'release', 'health', 'proof'])(
    'behind "%s" leaves live wholly old or wholly new, and the record says which',
    async (step) => {
      const mark = `stopped ${step} ${Date.now()}`;
      await breakpoint.setGate(step);
      const transfer = await beginPush(mark);
      await breakpoint.reachedGate();
      const pid = await dying.pidOf(transfer);
      process.kill(pid, 'SIGTERM');
      await breakpoint.letGo();
      const end = await ended(studio, transfer);
      expect((await visit(studio.gatewayPort, 'threadmill.localhost', '/')).status, 'live answers').toBe(200);
      const [rows, file] = await found(mark);
      if (end.state === 'done') expect([rows, file]).toEqual([2, mark]);
      else {
        expect([end.state, step]).toEqual(['failed', expect.stringMatching(/^(stage|hold)$/)]);
        expect(rows).toBe(0);
        expect(file).not.toBe(mark);
        expect(end.remains).toEqual([]);
      }
      const trees = await fs.readdir(join(folderOf(studio, LIVE), 'trees'));
      // One of a push before, to which live went back, may be kept as the tree before.
      expect(trees).not.toContain(`main-${transfer.id}-back`);
    },
  );
});

describe('what is away for a while after the files were switched', () => {
  const away: Record<string, () => Promise<() => Promise<unknown>>> = {
    'the database server of the site': async () => {
      await studio.siteCluster.stop('immediate');
      return () => studio.siteCluster.start();
    },
    'the gateway': async () => {
      const { pid } = await gateway();
      process.kill(pid, 'SIGKILL');
      return async () => undefined;
    },
  };
  it.each(Object.keys(away))('%s leaves live wholly old or wholly new, and the record says which', async (what) => {
    const mark = `away ${what} ${Date.now()}`;
    await breakpoint.setGate('switch');
    const transfer = await beginPush(mark);
    await breakpoint.reachedGate();
    const comeBack = await (away[what] as () => Promise<() => Promise<unknown>>)();
    await breakpoint.letGo();
    await new Promise((resolve) => setTimeout(resolve, 2500));
    await comeBack();
    const end = await ended(studio, transfer);
    await expect
      .poll(async () => (await visit(studio.gatewayPort, 'threadmill.localhost', '/')).status, { timeout: 15_000 })
      .toBe(200);
    const [rows, file] = await found(mark);
    expect([end.state, end.remains]).toEqual([expect.stringMatching(/^(done|failed)$/), []]);
    expect([rows, file === mark]).toEqual(end.state === 'done' ? [2, true] : [0, false]);
  });
});
