import { spawn } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { CLI, done, ended, makeCopy, type Studio, startStudio } from './support/studio.js';

let studio: Studio;
beforeAll(async () => {
  studio = await startStudio('live');
}, 120_000);
afterAll(() => studio?.stop());

const liveAnswers = async (): Promise<number> =>
  (await visit(studio.gatewayPort, 'threadmill.localhost', '/page/dye')).status;

describe('one environment that was damaged in the records', () => {
  it('stands in nobody else’s way, at the next start neither, and its gate stays shut', async () => {
    const { client, records } = studio;
    await makeCopy(studio, 'threadmill', 'spoilt');
    for (const column of ['databases', 'settings', 'gate'])
      await records.query(
        `UPDATE environment SET ${column} = overlay(${column} placing (CASE WHEN ${column} LIKE 'A%' THEN 'B' ELSE 'A' END) from 1)
         WHERE path = 'threadmill/spoilt'`,
      );
    const seen = async (): Promise<unknown> => {
      const [site] = await client.call('siteList');
      return site?.environments.map((one) => [one.name, one.state]);
    };
    expect(await seen()).toContainEqual(['spoilt', 'not-reached']);
    const call = client.call('snapshotTake', { body: { environment: 'threadmill/spoilt' } });
    const refused = await call.then(
      async (transfer) => (await ended(studio, transfer)).failure?.message,
      (error: Error) => error.message,
    );
    expect(refused).toContain('was damaged');
    await done(studio, await client.call('snapshotTake', { body: { environment: 'threadmill/live' } }));
    const ports = JSON.parse(await fs.readFile(join(studio.data, 'tessarion/run/ports.json'), 'utf8'));
    const gone = new Promise((resolve) => studio.service.once('exit', resolve));
    studio.service.kill('SIGTERM');
    await gone;
    const args = ['--data', join(studio.data, 'tessarion'), '--port', String(ports.service)];
    const again = spawn(process.execPath, [CLI, 'serve', ...args], { stdio: ['ignore', 'ignore', 'ignore', 'ipc'] });
    try {
      const started = await new Promise((resolve, reject) => {
        again.once('message', resolve);
        again.once('exit', reject);
      });
      expect(started).toMatchObject({ gatewayPort: ports.gateway });
      expect(await liveAnswers()).toBe(200);
      expect(await seen()).toContainEqual(['spoilt', 'not-reached']);
      const page = await visit(studio.gatewayPort, 'threadmill--spoilt.localhost', '/');
      expect(page.status, 'shut').toBe(401);
    } finally {
      const over = new Promise((resolve) => again.once('exit', resolve));
      again.kill('SIGTERM');
      await over;
    }
  });
});
