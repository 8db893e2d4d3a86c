import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { SealedFile } from '../src/store/sealed-file.js';

let folder: string;
beforeAll(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'sealed-'));
});
afterAll(() => fs.rm(folder, { recursive: true, force: true }));

const VALUE = { roots: { main: [['styles/site.css', { hash: 'ab'.repeat(32) }]] } };

it('gives back what was written, and nothing where one byte of it was changed or it stands elsewhere', async () => {
  const path = join(folder, 'threadmill--live.sealed');
  const file = new SealedFile(path, Buffer.alloc(32, 1));
  expect(await file.read()).toBeUndefined();
  await file.write(VALUE);
  expect(await file.read()).toEqual(VALUE);
  const whole = await fs.readFile(path);
  expect(whole.includes('site.css')).toBe(false);
  for (let at = 0; at < whole.length; at += 7) {
    const changed = Buffer.from(whole);
    changed[at] = (changed[at] as number) ^ 1;
    await fs.writeFile(path, changed);
    expect(await file.read(), `byte ${at}`).toBeUndefined();
  }
  for (const short of [0, 10, whole.length - 1]) {
    await fs.writeFile(path, whole.subarray(0, short));
    expect(await file.read(), `${short} bytes`).toBeUndefined();
  }
  const other = new SealedFile(join(folder, 'threadmill--staging.sealed'), Buffer.alloc(32, 1));
  await fs.writeFile(other.path, whole);
  expect(await other.read()).toBeUndefined();
  await fs.writeFile(path, whole);
  expect(await new SealedFile(path, Buffer.alloc(32, 2)).read()).toBeUndefined();
  expect((await fs.readdir(folder)).sort()).toEqual(['threadmill--live.sealed', 'threadmill--staging.sealed']);
});
