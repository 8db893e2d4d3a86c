import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { type FileChange, type FileState, Rewriter, toBytes } from '@tessarion/core';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { switchTrees } from '../src/copy/build.js';
import { carryOver, type StagedTree, stageTree, storeContents, treeInUse } from '../src/deliver/stage-tree.js';
import { type Environment, layout } from '../src/site/environment.js';
import { listFiles } from '../src/site/list-root.js';
import { hashOf } from '../src/site/root-reader.js';
import { SnapshotLibrary } from '../src/store/library.js';
import { FolderObjects } from '../src/store/objects-folder.js';
import { idle, profileOf, Yard } from './support/pair.js';

const PROFILE = profileOf(`
areas:
  - { name: code, path: ., class: authored, text: ["*.html"] }
  - { name: media, path: media, class: collected }`);

let yard: Yard;
beforeAll(async () => {
  yard = await Yard.open();
}, 60_000);
afterAll(() => yard?.close());

let site: { environment: Environment; root: string };
let library: SnapshotLibrary;
const main = (path = ''): string => join(site.environment.folder, 'main', path);
const write = async (path: string, content: string): Promise<void> => {
  await fs.mkdir(join(main(path), '..'), { recursive: true });
  await fs.writeFile(main(path), content, { mode: 0o644 });
};

beforeEach(async () => {
  site = await yard.environment('live', 'https://loom.example', PROFILE, { kind: 'live' });
  library = new SnapshotLibrary(new FolderObjects(await fs.mkdtemp(join(yard.folder, 'store-'))), Buffer.alloc(32, 1));
  await write('index.html', '<a href="https://loom.example/x">');
  await write('style.css', 'old');
  await write('deep/a', 'a');
  await write('deep/b', 'b');
  await fs.mkdir(join(site.environment.folder, 'keep/main/media'), { recursive: true });
  await fs.symlink('../../keep/main/media', main('media'));
  await write('media/photo', 'of a visitor');
});

/** What everybody sees below the root. */
async function seen(): Promise<Record<string, string>> {
  const found: Record<string, string> = {};
  for (const entry of await fs.readdir(main(), { recursive: true }))
    if ((await fs.lstat(main(entry))).isFile()) found[entry] = await fs.readFile(main(entry), 'utf8');
  return found;
}

const stateOf = async (path: string): Promise<FileState> =>
  (await listFiles(site.environment, 'main', new Rewriter(site.environment.place), undefined, 'v')).files.get(
    toBytes(path),
  ) ?? { type: 'absent' };

async function file(content: string, mode = 0o644): Promise<FileState> {
  const bytes = Buffer.from(content);
  const writer = await library.store.writer();
  await writer.put(bytes);
  await writer.close();
  return { type: 'file', mode, size: bytes.length, pieces: [hashOf(bytes)] };
}

const change = async (path: string, after: FileState): Promise<FileChange> => ({
  part: 'file',
  root: 'main',
  path: toBytes(path),
  before: await stateOf(path),
  after,
});

const stage = (changes: readonly FileChange[], mode: 'strict' | 'lenient' = 'strict'): Promise<StagedTree> =>
  stageTree(site.environment, 'main', 't1', changes, { store: library.store, mode, work: idle });
const switchOver = (): Promise<void> => switchTrees(site.environment, 't1', 1);

describe('a tree staged beside the one in use', () => {
  it('is seen all at once after the switch and not before', async () => {
    const before = await seen();
    const changes = [
      await change(
        'index.html',
        await file(new Rewriter(site.environment.place).canonicalise('<a href="https://loom.example/y">').value),
      ),
      await change('deep/a', { type: 'absent' }),
      await change('new/page.php', await file('<?php', 0o755)),
      await change('short', { type: 'link', target: 'deep/b' }),
    ];
    const staged = await stage(changes);
    expect(staged).toMatchObject({ written: 4, remains: [] });
    expect(await seen()).toEqual(before);
    await switchOver();
    expect(await seen()).toEqual({
      'deep/b': 'b',
      'index.html': '<a href="https://loom.example/y">',
      'media/photo': 'of a visitor',
      'new/page.php': '<?php',
      'style.css': 'old',
    });
    expect((await fs.stat(main('new/page.php'))).mode & 0o777).toBe(0o755);
    expect(await fs.readlink(main('short'))).toBe('deep/b');
    expect(await treeInUse(site.environment, 'main')).toBe(staged.to);
  });

  it('shares unchanged files with the former tree, so that nothing is written for them', async () => {
    const inode = (await fs.stat(main('style.css'))).ino;
    await stage([await change('deep/a', await file('A'))]);
    await switchOver();
    expect((await fs.stat(main('style.css'))).ino).toBe(inode);
    expect(await fs.readFile(main('deep/a'), 'utf8')).toBe('A');
    expect(await fs.readFile(join(site.root, 'deep/a'), 'utf8')).toBe('a');
  });

  it('is refused when a file is no longer as it was compared, or is left out when taking back', async () => {
    const changes = [await change('style.css', await file('new')), await change('deep/b', await file('B'))];
    await write('style.css', 'by a colleague');
    await expect(stage(changes)).rejects.toMatchObject({
      code: 'outdated',
      message: expect.stringContaining('style.css was changed meanwhile'),
    });
    const staged = await stage(changes, 'lenient');
    expect(staged.remains).toEqual([{ table: 'root main', key: 'style.css', what: 'was changed meanwhile' }]);
    await switchOver();
    expect(await fs.readFile(main('style.css'), 'utf8')).toBe('by a colleague');
    expect(await fs.readFile(main('deep/b'), 'utf8')).toBe('B');
  });

  it('can be staged again over what a dead worker left', async () => {
    await fs.mkdir(layout.tree(site.environment.folder, 'main', 't1'), { recursive: true });
    await fs.writeFile(join(layout.tree(site.environment.folder, 'main', 't1'), 'half'), 'x');
    await stage([await change('style.css', await file('new'))]);
    await switchOver();
    expect((await seen()).half).toBeUndefined();
    expect((await seen())['style.css']).toBe('new');
  });

  it('says that a root which is a plain folder must get the layout first', async () => {
    await fs.rm(join(site.environment.folder, 'main'));
    await fs.mkdir(join(site.environment.folder, 'main'));
    await expect(treeInUse(site.environment, 'main')).rejects.toMatchObject({ code: 'file-refused' });
  });
});

describe('what is written to the former tree meanwhile', () => {
  it('is carried over: new, changed, replaced, removed and linked files, but not what the transfer writes', async () => {
    const changes = [await change('style.css', await file('from the transfer'))];
    const staged = await stage(changes);
    await write('late/upload.txt', 'came late');
    await fs.rm(main('deep/a'));
    await fs.writeFile(main('deep/b.new'), 'replaced');
    await fs.rename(main('deep/b.new'), main('deep/b'));
    await fs.appendFile(main('index.html'), ' and more');
    await fs.symlink('index.html', main('home'));
    await write('style.css', 'late and overruled');
    const carried = await carryOver(site.environment, staged, new Set([toBytes('style.css')]));
    expect([...carried].sort()).toEqual(['deep/a', 'deep/b', 'home', 'late/upload.txt']);
    expect(await carryOver(site.environment, staged, new Set([toBytes('style.css')]))).toEqual([]);
    await switchOver();
    expect(await seen()).toMatchObject({
      'style.css': 'from the transfer',
      'deep/b': 'replaced',
      'late/upload.txt': 'came late',
      'index.html': '<a href="https://loom.example/x"> and more',
    });
    expect(await fs.readlink(main('home'))).toBe('index.html');
    expect((await seen())['deep/a']).toBeUndefined();
  });

  it('is carried over too where a process kept the file open past the switch', async () => {
    const open = await fs.open(main('deep/b'), 'a');
    await stage([await change('style.css', await file('new'))]);
    await switchOver();
    await open.appendFile(' written late');
    await open.close();
    expect(await fs.readFile(main('deep/b'), 'utf8')).toBe('b written late');
  });
});

describe('contents kept for taking back', () => {
  it('are those that were compared; a file that changed since is refused', async () => {
    const changes = [await change('style.css', await file('new'))];
    const writer = await library.store.writer();
    await storeContents(site.environment, changes, 'before', writer);
    await writer.close();
    expect((await library.store.get(hashOf(Buffer.from('old')))).toString()).toBe('old');
    await write('style.css', 'changed');
    const other = await library.store.writer();
    await expect(storeContents(site.environment, changes, 'before', other)).rejects.toMatchObject({
      code: 'outdated',
    });
    await other.close();
  });
});
