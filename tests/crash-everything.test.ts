import { join } from 'node:path';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Breakpoint } from './support/breakpoint.js';
import { COPY, Dying, LIVE } from './support/dying.js';
import { onSite, pushOnto, type Studio, workerPids } from './support/studio.js';

let dying: Dying;
let studio: Studio;
let breakpoint: Breakpoint;

beforeAll(async () => {
  dying = await Dying.start();
  ({ studio, breakpoint } = dying);
}, 120_000);
afterAll(() => dying?.stop());

describe('a service that dies with all its workers while visitors are held', () => {
  it('lets visitors through within ten seconds when no worker returns, and keeps no lock of theirs', async () => {
    await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Never seen'"));
    await breakpoint.set('hold');
    const transfer = await pushOnto(studio, COPY, LIVE, { method: 'replace' });
    await breakpoint.reached();
    expect(transfer.id).toMatch(/^t-/);
    const pids = await workerPids(studio);
    studio.service.kill('SIGKILL');
    for (const pid of pids) process.kill(pid, 'SIGKILL');
    const since = Date.now();
    const page = await visit(studio.gatewayPort, 'threadmill.localhost', '/page/dye');
    expect(page.status).toBe(200);
    expect(Date.now() - since).toBeLessThan(10_000);
    const order = await visit(studio.gatewayPort, 'threadmill.localhost', '/order', {
      product: '1',
      name: 'Aud',
      email: 'aud@post.example',
      quantity: '1',
    });
    expect(order.status).toBe(200);
    await breakpoint.clear();
    const { GatewayControl } = await import('../packages/service/dist/front/control.js');
    const { pid } = await new GatewayControl(join(studio.data, 'tessarion/run/gateway.sock')).ping();
    process.kill(pid, 'SIGTERM');
  });
});
