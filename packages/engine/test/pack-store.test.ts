import { createDecipheriv, createHash, randomBytes } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { inflateRawSync } from 'node:zlib';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { FolderObjects } from '../src/store/objects-folder.js';
import { PackStore } from '../src/store/pack-store.js';

const KEY = Buffer.alloc(32, 7);
const sha256 = (content: Uint8Array): string => createHash('sha256').update(content).digest('hex');
const LONG_AGO = new Date(Date.now() + 60_000);

let folder: string;
beforeEach(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-store-'));
});
afterEach(() => fs.rm(folder, { recursive: true, force: true }));

async function put(store: PackStore, ...contents: Uint8Array[]): Promise<string[]> {
  const writer = await store.writer();
  const hashes = await Promise.all(contents.map((content) => writer.put(content)));
  await writer.close();
  return hashes;
}

const packs = async (): Promise<string[]> =>
  (await fs.readdir(join(folder, 'packs')).catch(() => [])).filter((name) => name.endsWith('.pack'));

describe('the blob store', () => {
  it('gives back what was put, named by its SHA-256, also to another process', async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(fc.uint8Array({ maxLength: 3000 }), { minLength: 1, maxLength: 30 }), async (given) => {
        const contents = given.map((one) => Buffer.from(one));
        const hashes = await put(new PackStore(new FolderObjects(folder), KEY), ...contents);
        expect(hashes).toEqual(contents.map(sha256));
        // Who has never seen it reads it from the disk alone.
        const elsewhere = await fs.mkdtemp(join(tmpdir(), 'tessarion-store-'));
        await fs.cp(folder, elsewhere, { recursive: true });
        const other = new PackStore(new FolderObjects(elsewhere), KEY);
        for (const [i, hash] of hashes.entries())
          expect((await other.get(hash)).equals(contents[i] as Buffer)).toBe(true);
        await fs.rm(elsewhere, { recursive: true });
      }),
      { numRuns: 30 },
    );
  });

  it('keeps large and incompressible content, and begins a new pack after eight mebibytes', async () => {
    const contents = Array.from({ length: 5 }, () => randomBytes(3 * 1024 * 1024));
    const store = new PackStore(new FolderObjects(folder), KEY);
    const hashes = await put(store, ...contents);
    expect((await packs()).length).toBe(2);
    for (const [i, hash] of hashes.entries()) expect((await store.get(hash)).equals(contents[i] as Buffer)).toBe(true);
  });

  it('stores nothing twice, and says what it added', async () => {
    const store = new PackStore(new FolderObjects(folder), KEY);
    const content = Buffer.from('the same words '.repeat(500));
    const first = await store.writer();
    await Promise.all([first.put(content), first.put(content)]);
    await first.close();
    expect(first.addedBytes).toBeGreaterThan(0);
    expect(first.addedBytes).toBeLessThan(content.length / 4);
    const second = await new PackStore(new FolderObjects(folder), KEY).writer();
    await second.put(content);
    await second.close();
    expect(second.addedBytes).toBe(0);
    expect((await packs()).length).toBe(1);
  });

  it('holds no word of the content in plain, and can be read by the format alone', async () => {
    const content = Buffer.from('Ingrid Solheim, 14 Kelpmakers Row. '.repeat(40));
    const [hash] = await put(new PackStore(new FolderObjects(folder), KEY), content);
    const [pack] = await packs();
    const stored = await fs.readFile(join(folder, 'packs', pack as string));
    expect(stored.includes('Ingrid')).toBe(false);
    // As docs/formats.md describes it, without any of our code.
    const sealed = await fs.readFile(join(folder, 'packs', (pack as string).replace('.pack', '.index')));
    expect(sealed.includes(hash as string), 'nor what would confirm a guess').toBe(false);
    const opening = createDecipheriv('aes-256-ctr', KEY, sealed.subarray(0, 16));
    const index = opening.update(sealed.subarray(16, -32)).toString();
    const [named, offset, length, size, how] = index.trim().split(' ');
    const counter = Buffer.from((named as string).slice(0, 32), 'hex');
    const decipher = createDecipheriv('aes-256-ctr', KEY, counter);
    const packed = decipher.update(stored.subarray(Number(offset), Number(offset) + Number(length)));
    const plain = how === 'deflate' ? inflateRawSync(packed) : packed;
    expect(named).toBe(hash);
    expect(plain.length).toBe(Number(size));
    expect(plain.equals(content)).toBe(true);
  });

  it('shows nothing of a writer that was given up or died, and leaves no half pack', async () => {
    const store = new PackStore(new FolderObjects(folder), KEY);
    const writer = await store.writer();
    const hash = await writer.put(Buffer.from('never finished'));
    expect(await new PackStore(new FolderObjects(folder), KEY).has(hash)).toBe(false);
    await writer.abandon();
    expect(await fs.readdir(join(folder, 'packs'))).toEqual([]);
    await expect(new PackStore(new FolderObjects(folder), KEY).get(hash)).rejects.toMatchObject({
      code: 'blob-missing',
    });
  });

  it('names a blob with a single damaged byte, wherever it lies, keeps the others, and takes it again', async () => {
    const contents = Array.from({ length: 20 }, (_one, i) => Buffer.from(`blob ${i} `.repeat(50)));
    const hashes = contents.map(sha256);
    for (const place of [0, 0.001, 0.5, 0.999]) {
      await fs.rm(folder, { recursive: true });
      await put(new PackStore(new FolderObjects(folder), KEY), ...contents);
      const path = join(folder, 'packs', (await packs())[0] as string);
      const damaged = await fs.readFile(path);
      const at = Math.floor(place * damaged.length);
      damaged[at] = (damaged[at] as number) ^ 1;
      await fs.writeFile(path, damaged);
      const store = new PackStore(new FolderObjects(folder), KEY);
      const failed = await Promise.all(
        hashes.map((hash) =>
          store.read(hash).then(
            () => undefined,
            (error: { code: string }) => error.code,
          ),
        ),
      );
      expect(failed.filter((code) => code !== undefined)).toEqual(['blob-damaged']);
      const lost = hashes[failed.indexOf('blob-damaged')] as string;
      expect(await new PackStore(new FolderObjects(folder), KEY).has(lost), 'it is known no more').toBe(false);
      expect((await fs.readdir(join(folder, 'damaged'))).length, 'and kept as it is').toBe(2);
      await put(new PackStore(new FolderObjects(folder), KEY), ...contents);
      for (const [i, hash] of hashes.entries())
        expect(await new PackStore(new FolderObjects(folder), KEY).read(hash)).toEqual(contents[i]);
    }
    const other = new PackStore(new FolderObjects(folder), Buffer.alloc(32, 8));
    await expect(other.read(hashes[0] as string)).rejects.toMatchObject({ code: 'blob-missing' });
    const [pack] = await packs();
    const index = join(folder, 'packs', (pack as string).replace('.pack', '.index'));
    const spoilt = await fs.readFile(index);
    spoilt[20] = (spoilt[20] as number) ^ 1;
    await fs.writeFile(index, spoilt);
    await put(new PackStore(new FolderObjects(folder), KEY), ...contents);
    for (const [i, hash] of hashes.entries())
      expect(await new PackStore(new FolderObjects(folder), KEY).read(hash)).toEqual(contents[i]);
  });

  it('frees exactly what nobody keeps, whatever was put and kept', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.tuple(fc.uint8Array({ minLength: 1, maxLength: 400 }), fc.boolean()), { maxLength: 40 }),
        fc.integer({ min: 1, max: 5 }),
        async (given, writers) => {
          await fs.rm(join(folder, 'packs'), { recursive: true, force: true });
          const store = new PackStore(new FolderObjects(folder), KEY);
          const share = Math.ceil(given.length / writers) || 1;
          for (let at = 0; at < given.length; at += share)
            await put(store, ...given.slice(at, at + share).map(([content]) => content));
          const keep = new Set(given.filter(([, kept]) => kept).map(([content]) => sha256(content)));
          const all = new Set(given.map(([content]) => sha256(content)));
          const freed = await store.collect(keep, LONG_AGO);
          expect(freed.blobs).toBe(all.size - keep.size);
          const after = new PackStore(new FolderObjects(folder), KEY);
          for (const hash of all) expect(await after.has(hash)).toBe(keep.has(hash));
          for (const hash of keep) expect(sha256(await after.get(hash))).toBe(hash);
        },
      ),
      { numRuns: 25 },
    );
  });

  it('gives what is kept to others all the while that packs are written anew', async () => {
    const contents = Array.from({ length: 400 }, () => randomBytes(2000));
    const hashes = await put(new PackStore(new FolderObjects(folder), KEY), ...contents);
    const kept = hashes.filter((_hash, i) => i % 2 === 0);
    let isOver = false;
    let read = 0;
    const reading = (async () => {
      while (!isOver)
        for (const hash of kept.slice(0, 20)) {
          expect((await new PackStore(new FolderObjects(folder), KEY).read(hash)).length).toBe(2000);
          read++;
        }
    })();
    const freed = await new PackStore(new FolderObjects(folder), KEY).collect(new Set(kept), LONG_AGO);
    isOver = true;
    await reading;
    expect(freed.blobs).toBe(200);
    expect(read).toBeGreaterThan(0);
  });

  it('spares packs that are younger than the oldest writer at work', async () => {
    const store = new PackStore(new FolderObjects(folder), KEY);
    const [hash] = await put(store, Buffer.from('just written, not yet named by a manifest'));
    expect(await store.collect(new Set(), new Date(Date.now() - 60_000))).toEqual({ blobs: 0, bytes: 0 });
    expect(await store.has(hash as string)).toBe(true);
  });
});

describe('a store that many have written to', () => {
  const contents = Array.from({ length: 150 }, (_, i) => Buffer.from(`page ${i} `.repeat(200 + i)));
  const fill = async (): Promise<string[]> => {
    const hashes: string[] = [];
    for (const content of contents) hashes.push(...(await put(new PackStore(new FolderObjects(folder), KEY), content)));
    return hashes;
  };
  const all = async (store: PackStore, hashes: readonly string[]): Promise<void> => {
    for (const [i, hash] of hashes.entries()) expect((await store.read(hash)).equals(contents[i] as Buffer)).toBe(true);
  };

  it('is joined into few packs, of which also those read who had looked before', async () => {
    const hashes = await fill();
    const before = new PackStore(new FolderObjects(folder), KEY);
    await before.has(hashes[0] as string);
    const large = await put(new PackStore(new FolderObjects(folder), KEY), randomBytes(3 * 1024 * 1024));
    expect(await new PackStore(new FolderObjects(folder), KEY).compact()).toBe(149);
    expect(await packs()).toHaveLength(2);
    await all(before, hashes);
    await all(new PackStore(new FolderObjects(folder), KEY), [...hashes, ...large].slice(0, hashes.length));
    expect(await new PackStore(new FolderObjects(folder), KEY).compact(), 'and once is enough').toBe(0);
    expect(await new PackStore(new FolderObjects(folder), KEY).has(large[0] as string)).toBe(true);
  });

  it('keeps a pack that is damaged as it is, and a blob that two packs have once', async () => {
    const hashes = await fill();
    for (const name of (await packs()).slice(0, 3))
      await fs.copyFile(join(folder, 'packs', name), join(folder, 'packs', `${name}.kept`));
    const [first = '', second = ''] = await packs();
    const damaged = await fs.readFile(join(folder, 'packs', first));
    damaged[3] = (damaged[3] as number) ^ 1;
    await fs.writeFile(join(folder, 'packs', first), damaged);
    // A rewriting that was broken off leaves a blob in two packs.
    for (const end of ['pack', 'index']) {
      const own = join(folder, 'packs', second.replace(/pack$/, end));
      await fs.cp(own, own.replace(/[^/]*$/, `twice.${end}`));
    }
    await new PackStore(new FolderObjects(folder), KEY).compact();
    const now = await packs();
    expect(now).toContain(first);
    expect(now.length).toBeLessThan(5);
    const store = new PackStore(new FolderObjects(folder), KEY);
    const reads = await Promise.all(
      hashes.map((hash) =>
        store.read(hash).then(
          () => true,
          () => false,
        ),
      ),
    );
    expect(reads.filter((is) => !is)).toHaveLength(1);
  });

  it('loses what a writer left that died a day ago, and nothing that somebody writes now', async () => {
    const [hash = ''] = await fill();
    const old = new Date(Date.now() - 25 * 3600_000);
    for (const name of ['a.pack.new', 'b.index.new', 'c.pack', 'd.pack.new']) {
      await fs.writeFile(join(folder, 'packs', name), 'half');
      if (!name.startsWith('d')) await fs.utimes(join(folder, 'packs', name), old, old);
    }
    await new PackStore(new FolderObjects(folder), KEY).compact();
    const left = (await fs.readdir(join(folder, 'packs'))).filter((name) => /^[a-d]\./.test(name));
    expect(left).toEqual(['d.pack.new']);
    expect(await new PackStore(new FolderObjects(folder), KEY).has(hash)).toBe(true);
  });
});
