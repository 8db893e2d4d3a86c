import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Breakpoint } from './support/breakpoint.js';
import { Dying } from './support/dying.js';
import { ended, leftOvers, type Studio } from './support/studio.js';

let dying: Dying;
let studio: Studio;
let breakpoint: Breakpoint;

beforeAll(async () => {
  dying = await Dying.start();
  ({ studio, breakpoint } = dying);
}, 120_000);
afterAll(() => dying?.stop());

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
      await dying.killAtBreakpoint(transfer);
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
        expect(end.failure?.message).toContain('The worker ended');
      }
      expect(await leftOvers(studio)).toEqual(before);
      const [locks] = await breakpoint.query(
        "SELECT count(*)::int AS count FROM pg_locks WHERE locktype = 'advisory' AND classid = 29778",
      );
      expect(locks?.count).toBe(0);
    },
  );
});
