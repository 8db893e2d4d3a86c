import { createHash, randomBytes } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Change, SnapshotManifest } from '@tessarion/core';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import type { ObjectStore } from '../src/ports/objects.js';
import { SnapshotLibrary } from '../src/store/library.js';
import { FolderObjects } from '../src/store/objects-folder.js';
import { PackStore } from '../src/store/pack-store.js';
import { openObjects } from '../src/systems.js';
import { MemoryObjects } from './conformance/memory-objects.js';

let folder: string;
beforeEach(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-objects-'));
});
afterEach(() => fs.rm(folder, { recursive: true, force: true }));

const KEY = Buffer.alloc(32, 5);
const IN_AN_HOUR = new Date(Date.now() + 3600_000);
const all = async (stream: AsyncIterable<Buffer>): Promise<string> => {
  let text = '';
  for await (const piece of stream) text += piece.toString();
  return text;
};
const codeOf = (done: unknown): Promise<unknown> =>
  Promise.resolve()
    .then(() => done)
    .then(
      () => undefined,
      (error: { code: string }) => error.code,
    );

/** Of every kind of store of objects, and of what stands on it. */
const KINDS: readonly (readonly [string, () => ObjectStore])[] = [
  ['a folder', () => new FolderObjects(folder)],
  ['one that exists in tests only', () => new MemoryObjects(folder)],
];
describe.each(KINDS)('a store of objects: %s', (_kind, open) => {
  it('shows an object once it is finished, as a whole, and nothing of one that was given up', async () => {
    const objects = open();
    const object = await objects.create('packs/one.pack');
    await object.append([Buffer.from('first '), Buffer.from('second ')]);
    expect(await objects.get('packs/one.pack')).toBeUndefined();
    expect(await objects.list('packs')).toEqual([]);
    await object.append([Buffer.from('third')]);
    await object.finish();
    await object.abandon();
    expect((await objects.get('packs/one.pack'))?.toString()).toBe('first second third');
    const second = await objects.create('packs/two.pack');
    await second.append([Buffer.from('half')]);
    await second.abandon();
    expect(await objects.list('packs')).toEqual(['one.pack']);
    expect(await objects.changedAt('packs/two.pack')).toBeUndefined();
    expect(Number(await objects.changedAt('packs/one.pack'))).toBeGreaterThan(Date.now() - 60_000);
  });

  it('takes what is put in place of what was, whole, and lets who has opened that read on', async () => {
    const objects = open();
    await objects.put('manifests/a.manifest', Buffer.from('0123456789'));
    const former = await objects.open('manifests/a.manifest');
    expect((await objects.part('manifests/a.manifest', 2, 3)).toString()).toBe('234');
    await objects.put('manifests/a.manifest', Buffer.from('abc'));
    expect((await objects.get('manifests/a.manifest'))?.toString()).toBe('abc');
    expect((await objects.part('manifests/a.manifest', 1, 9)).toString(), 'what there is').toBe('bc');
    expect(former?.size).toBe(10);
    expect((await former?.read(8, 5))?.toString()).toBe('89');
    expect(await all(former?.stream(3, 6) as AsyncIterable<Buffer>)).toBe('345');
    expect(await all(former?.stream(4, 4) as AsyncIterable<Buffer>)).toBe('');
    await former?.close();
  });

  it('lists a group, copies and removes, and says what is not there', async () => {
    const objects = open();
    for (const name of ['packs/a.pack', 'packs/b.pack', 'changes/t-1.changes'])
      await objects.put(name, Buffer.from(name));
    expect((await objects.list('packs')).sort()).toEqual(['a.pack', 'b.pack']);
    await objects.copy('packs/a.pack', 'damaged/a.pack');
    await objects.remove('packs/a.pack');
    await objects.remove('packs/a.pack');
    expect(await objects.list('packs')).toEqual(['b.pack']);
    expect((await objects.get('damaged/a.pack'))?.toString()).toBe('packs/a.pack');
    expect(await objects.list('manifests')).toEqual([]);
    expect(await objects.open('packs/a.pack')).toBeUndefined();
    expect(await codeOf(objects.copy('packs/c.pack', 'damaged/c.pack'))).toBe('file-gone');
    expect(await codeOf(Promise.resolve().then(() => objects.part('packs/c.pack', 0, 1)))).toBe('file-gone');
  });

  it('loses what was begun long ago and never finished, and nothing else', async () => {
    const objects = open();
    await objects.put('packs/whole.pack', Buffer.from('whole'));
    const half = await objects.create('packs/half.pack');
    await half.append([Buffer.from('half')]);
    await objects.removeUnfinished('packs', new Date(Date.now() - 3600_000));
    await objects.removeUnfinished('packs', IN_AN_HOUR);
    expect(await objects.list('packs')).toEqual(['whole.pack']);
    await half.abandon();
  });

  it('takes large objects in many pieces', async () => {
    const objects = open();
    const pieces = Array.from({ length: 1500 }, () => randomBytes(3000));
    const object = await objects.create('packs/large.pack');
    await object.append(pieces);
    await object.finish();
    expect((await objects.get('packs/large.pack'))?.equals(Buffer.concat(pieces))).toBe(true);
  });

  it('carries packs: put, read, freed, joined, and a damaged blob taken again', async () => {
    const objects = open();
    const store = (): PackStore => new PackStore(objects, KEY);
    const contents = Array.from({ length: 90 }, (_, i) => Buffer.from(`page ${i} `.repeat(60)));
    const hashes: string[] = [];
    for (const content of contents) hashes.push(await store().write((writer) => writer.put(content)));
    expect(hashes[0]).toBe(
      createHash('sha256')
        .update(contents[0] as Buffer)
        .digest('hex'),
    );
    expect(await store().compact()).toBe(89);
    for (const [i, hash] of hashes.entries()) expect(await store().read(hash)).toEqual(contents[i]);
    const kept = new Set(hashes.slice(0, 40));
    expect((await store().collect(kept, new Date(0))).blobs, 'young packs are spared').toBe(0);
    expect((await store().collect(kept, IN_AN_HOUR)).blobs).toBe(50);
    const [pack = ''] = (await objects.list('packs')).filter((name) => name.endsWith('.pack'));
    const damaged = (await objects.get(`packs/${pack}`)) as Buffer;
    damaged[1] = (damaged[1] as number) ^ 1;
    await objects.put(`packs/${pack}`, damaged);
    const codes = await Promise.all([...kept].map((hash) => codeOf(store().read(hash))));
    expect(codes.filter((code) => code !== undefined)).toEqual(['blob-damaged']);
    expect(await objects.list('damaged')).toHaveLength(2);
    await store().write(async (writer) => {
      for (const content of contents) await writer.put(content);
    });
    for (const [i, hash] of hashes.entries()) expect(await store().read(hash)).toEqual(contents[i]);
  });

  it('carries snapshots and change sets, and names what is missing or damaged', async () => {
    const objects = open();
    const library = new SnapshotLibrary(objects, KEY);
    const [schema, row] = await library.store.write(async (writer) => [
      await writer.put(Buffer.from('-- schema')),
      await writer.put(Buffer.from('-- rest')),
    ]);
    const manifest: SnapshotManifest = {
      format: 'tessarion-snapshot/1',
      id: 's-1',
      site: 'loom',
      environment: 'live',
      kind: 'live',
      takenAt: new Date(0).toISOString(),
      profile: null,
      databases: [
        {
          name: 'main',
          server: 'PostgreSQL 15',
          schemaBefore: schema as string,
          schemaAfter: row as string,
          extensions: [],
          tables: [],
          sequences: [],
        },
      ],
      roots: [],
    };
    await library.save(manifest);
    expect(await library.manifests()).toEqual(['s-1']);
    expect(await library.load('s-1')).toEqual(manifest);
    expect(await library.verify(manifest)).toEqual([]);
    const changes: Change[] = Array.from({ length: 3000 }, (_, i) => ({
      part: 'row',
      database: 'main',
      table: 'public.page',
      op: 'insert',
      key: [String(i)],
      row: { id: String(i), title: 'ä'.repeat(i % 40) },
    }));
    await library.saveChanges('t-1', changes);
    const read: Change[] = [];
    for await (const change of library.readChanges('t-1')) read.push(change);
    expect(read).toEqual(changes);
    const stored = (await objects.get('changes/t-1.changes')) as Buffer;
    await objects.put('changes/t-1.changes', stored.subarray(0, -40));
    expect(await codeOf(library.readChanges('t-1').next())).toBe('blob-damaged');
    expect(await codeOf(library.readChanges('t-2').next())).toBe('blob-missing');
    await objects.remove('changes/t-1.changes');
    expect((await library.remove('s-1', IN_AN_HOUR)).blobs).toBe(2);
    expect(await codeOf(library.load('s-1'))).toBe('blob-missing');
  });
});

describe('a store of objects', () => {
  it('is opened by its place, as a thread does, and a kind that there is not is refused by name', async () => {
    await new FolderObjects(folder).put('packs/a.pack', Buffer.from('a'));
    const again = openObjects(structuredClone(new FolderObjects(folder).place));
    expect(await again.list('packs')).toEqual(['a.pack']);
    for (const kind of ['cupboard', 'constructor'])
      expect(() => openObjects({ kind, at: folder })).toThrow(`no stores of the kind "${kind}"`);
  });

  it('in a folder is not for others to read', async () => {
    await new FolderObjects(join(folder, 'store')).put('packs/a.pack', Buffer.from('a'));
    for (const name of ['store', 'store/packs', 'store/packs/a.pack'])
      expect((await fs.stat(join(folder, name))).mode & 0o077, name).toBe(0);
  });
});
