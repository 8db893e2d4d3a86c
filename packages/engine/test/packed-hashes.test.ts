import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { PackedHashes } from '../src/copy/packed-hashes.js';
import type { TreeNode } from '../src/ports/server.js';
import { HashMemory } from '../src/site/list-root.js';
import { SealedFile } from '../src/store/sealed-file.js';
import { profileOf, Yard } from './support/pair.js';

const PROFILE = profileOf(`
areas:
  - { name: code, path: ., class: authored, text: ["*.html"] }
  - { name: media, path: media, class: collected }`);

let yard: Yard;
beforeAll(async () => {
  yard = await Yard.open();
}, 60_000);
afterAll(() => yard?.close());

const CONTENT = { pieces: ['a'.repeat(64)], size: 3 };
const state = (mode: number) => ({ type: 'file', mode, ...CONTENT }) as const;

/** A file that was changed some seconds ago. */
const changed = async (name: string, mode: number, secondsAgo: number): Promise<TreeNode> => {
  const path = join(yard.folder, name);
  await fs.writeFile(path, 'abc', { mode });
  const server = (await copy()).environment.server;
  const node = (await server.nodeAt(path)) as TreeNode;
  return { ...node, identity: `as of ${secondsAgo}`, changedAtNs: BigInt(Date.now() - secondsAgo * 1000) * 1_000_000n };
};

const copy = () => yard.environment('staging', 'https://loom--staging.example', PROFILE, {});

async function learned(begunAt: Date | undefined) {
  const folder = await fs.mkdtemp(join(yard.folder, 'known-'));
  const open = (name: string) => HashMemory.open(new SealedFile(join(folder, name), Buffer.alloc(32, 5)));
  const memories = { copy: await open('copy'), source: await open('source') };
  return { memories, hashes: new PackedHashes((await copy()).environment, memories, 'v1', begunAt) };
}

it('lets files be known on both ends without reading them, where they were at rest when they were read', async () => {
  const { memories, hashes } = await learned(new Date(Date.now() - 20_000));
  const [onCopy, atRest, moving] = [
    await changed('c', 0o644, 10),
    await changed('s', 0o600, 60),
    await changed('m', 0o600, 21),
  ];
  hashes.note({ root: 'main', path: 'style.css', content: CONTENT, copy: onCopy, source: atRest });
  hashes.note({ root: 'main', path: 'media/new.jpg', content: CONTENT, copy: undefined, source: moving });
  // Its content differs between environments that agree: what was packed is not what lies there.
  hashes.note({ root: 'main', path: 'index.html', content: CONTENT, copy: onCopy, source: atRest });
  const of = (end: 'copy' | 'source') => memories[end].filesOf('main', 'v1');
  expect(of('copy').recall('style.css', onCopy)).toEqual(state(0o644));
  expect(of('source').recall('style.css', atRest)).toEqual(state(0o600));
  // Changed a second before copying began: it may have changed once more, under the same time, after it was read.
  expect(of('source').recall('media/new.jpg', moving)).toBeUndefined();
  expect(of('copy').recall('index.html', onCopy)).toBeUndefined();
});

it('knows nothing of a source that is no environment any more', async () => {
  const { memories, hashes } = await learned(undefined);
  const [onCopy, atRest] = [await changed('c', 0o644, 10), await changed('s', 0o600, 60)];
  hashes.note({ root: 'main', path: 'style.css', content: CONTENT, copy: onCopy, source: atRest });
  expect(memories.copy.filesOf('main', 'v1').recall('style.css', onCopy)).toEqual(state(0o644));
  expect(memories.source.filesOf('main', 'v1').recall('style.css', atRest)).toBeUndefined();
});
