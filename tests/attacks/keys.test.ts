import { execFile } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { CLI, type Studio, startStudio } from '../support/studio.js';
import { tried } from './tried.js';

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
  expect(await start({ TESSARION_KEY_FILE: elsewhere })).toContain('ENOENT');
  await fs.writeFile(elsewhere, 'ab'.repeat(32));
  tried('keys');
  expect(await start({ TESSARION_KEY_FILE: elsewhere })).toContain('written with another master key');
  expect(await fs.readdir(data)).not.toContain('master.key');
});
