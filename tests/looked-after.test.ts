import { execFile } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { CLI, done, makeCopy, type Studio, startStudio } from './support/studio.js';

let studio: Studio;
beforeAll(async () => {
  studio = await startStudio('live');
}, 120_000);
afterAll(() => studio?.stop());

const liveAnswers = async (): Promise<number> =>
  (await visit(studio.gatewayPort, 'threadmill.localhost', '/page/dye')).status;

/** How another service on the same data folder ends. */
const startAnother = (...args: string[]): Promise<string> =>
  promisify(execFile)(process.execPath, [CLI, 'serve', '--data', join(studio.data, 'tessarion'), ...args], {
    timeout: 60_000,
  }).then(
    () => 'ended well',
    (error: { stderr: string }) => error.stderr,
  );

describe('a second service on one data folder', () => {
  it.each([
    ['another port', ['--port', '0', '--gateway-port', '0']],
    ['the same port', []],
  ])('does not start at %s, and the first one goes on as it was', async (_where, args) => {
    const ports = join(studio.data, 'tessarion/run/ports.json');
    const before = await fs.readFile(ports, 'utf8');
    expect(await startAnother(...args)).toContain('Another service has these records');
    expect(await fs.readFile(ports, 'utf8')).toBe(before);
    expect((await studio.client.call('siteList')).length).toBe(1);
    expect(await liveAnswers()).toBe(200);
  });
});

describe('a service whose data folder cannot be made', () => {
  it('says so, and does not wait for ever', async () => {
    const end = promisify(execFile)(process.execPath, [CLI, 'serve', '--data', '/proc/no-such'], { timeout: 60_000 });
    await expect(end).rejects.toMatchObject({ code: 1, stderr: expect.stringContaining('/proc/no-such') });
  });
});

describe('records whose server dies', () => {
  it('are there again by themselves, and work goes on', async () => {
    const cluster = join(studio.data, 'tessarion/records');
    const [pid] = (await fs.readFile(join(cluster, 'data/postmaster.pid'), 'utf8')).split('\n');
    process.kill(Number(pid), 'SIGKILL');
    await expect.poll(async () => (await studio.client.call('siteList').catch(() => [])).length).toBe(1);
    expect(await liveAnswers()).toBe(200);
    await makeCopy(studio, 'threadmill', 'staging');
    await done(studio, await studio.client.call('snapshotTake', { body: { environment: 'threadmill/staging' } }));
    expect(await startAnother(), 'and they are still its own').toContain('Another service has these records');
  });
});
