import { execFile, spawn } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { Client } from '@tessarion/client';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { CLI, type Studio, startStudio } from '../support/studio.js';
import { tried } from './tried.js';

const run = promisify(execFile);

let studio: Studio;
let data: string;
let key: string;
beforeAll(async () => {
  studio = await startStudio();
  data = join(studio.data, 'tessarion');
  key = await fs.readFile(join(data, 'master.key'), 'utf8');
  await new Promise<void>((resolve) => {
    studio.service.once('exit', () => resolve());
    studio.service.kill('SIGTERM');
  });
}, 120_000);
afterAll(() => studio?.stop());

/** How a start ends that does not come far. */
const start = (variables: Record<string, string> = {}): Promise<string> =>
  new Promise((resolve) =>
    execFile(
      process.execPath,
      [CLI, 'serve', '--data', data, '--port', '0'],
      { env: { ...process.env, ...variables }, timeout: 60_000 },
      (error, out, err) => resolve(`ended with ${(error as { code?: number } | null)?.code}: ${out}${err}`),
    ),
  );

it.each([
  ['another', 'ab'.repeat(32), 'written with another master key'],
  ['none', '', 'holds no master key'],
  ['half of one', 'ab'.repeat(16), 'holds no master key'],
  ['something else', 'not a key at all, but as long as one would be, which is 64 signs', 'holds no master key'],
])('starts with no master key but its own: %s', async (_what, text, words) => {
  await fs.writeFile(join(data, 'master.key'), text);
  tried('keys');
  const end = await start();
  expect(end).toContain(words);
  expect(end).toMatch(/^ended with [1-9]/);
  expect(await fs.readFile(join(data, 'master.key'), 'utf8'), 'nothing is made in its place').toBe(text);
  await fs.writeFile(join(data, 'master.key'), key);
});

it('takes its master key from elsewhere where that is said, and makes none', async () => {
  const elsewhere = join(studio.data, 'kept.key');
  await fs.rm(join(data, 'master.key'));
  expect(await start({ TESSARION_KEY_FILE: elsewhere })).toContain('The master key is not there');
  await fs.writeFile(elsewhere, 'ab'.repeat(32));
  tried('keys');
  expect(await start({ TESSARION_KEY_FILE: elsewhere })).toContain('written with another master key');
  expect(await fs.readdir(data)).not.toContain('master.key');
});

it('is exchanged on the command line for one that opens what the former one did, which opens nothing any more', async () => {
  const [own, former] = [join(data, 'master.key'), join(studio.data, 'former.key')];
  await fs.writeFile(own, key);
  await fs.writeFile(former, key);
  const tell = async (...args: string[]): Promise<string> =>
    (await run(process.execPath, [CLI, 'key', ...args, '--data', data])).stdout;
  expect(await tell('check', former)).toContain('holds the master key');
  expect(await tell('exchange')).toContain('holds a new master key');
  await expect(tell('check', former)).rejects.toMatchObject({ stderr: expect.stringContaining('does not open') });
  tried('keys');
  await fs.writeFile(join(data, 'kept.key'), await fs.readFile(own));
  await fs.writeFile(own, key);
  expect(await start(), 'by the former one').toContain('written with another master key');
  await fs.rename(join(data, 'kept.key'), own);
  const service = spawn(process.execPath, [CLI, 'serve', '--data', data, '--port', '0'], {
    stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
  });
  const { url } = await new Promise<{ url: string }>((resolve, reject) => {
    service.once('message', resolve);
    service.once('exit', reject);
  });
  const client = new Client({ url, token: studio.token });
  const { items } = await client.call('journalList', { query: { act: 'masterKeyExchange' } });
  expect(items.length, 'and it is on record').toBe(1);
  expect((await client.call('journalVerify')).faults, 'which holds as before').toEqual([]);
  const ended = new Promise((resolve) => service.once('exit', resolve));
  service.kill('SIGTERM');
  await ended;
  key = await fs.readFile(own, 'utf8');
}, 120_000);
