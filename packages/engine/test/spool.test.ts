import { createHash } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { parseLocation, Rewriter } from '@tessarion/core';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { type PackedFile, packSpools } from '../src/copy/pack.js';
import { LocalServer } from '../src/local/local-server.js';
import { FolderObjects } from '../src/store/objects-folder.js';
import { PackStore } from '../src/store/pack-store.js';
import { readListing, readPieces } from '../src/store/read-tree.js';
import { readRowImage } from '../src/store/row-image.js';
import { readSpool, type SpoolEvent, type SpoolRecord, SpoolWriter } from '../src/store/spool.js';

const KEY = Buffer.alloc(32, 3);
const work = { signal: new AbortController().signal, count: () => undefined };
let folder: string;
let path: string;
beforeEach(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-spool-'));
  path = join(folder, 'rows.spool');
});
afterEach(() => fs.rm(folder, { recursive: true, force: true }));

async function read(): Promise<SpoolRecord[]> {
  const records: SpoolRecord[] = [];
  for await (const record of readSpool(path, KEY))
    records.push(record.type === 'bytes' ? { ...record, bytes: Buffer.from(record.bytes) } : record);
  return records;
}

const latin1 = fc.uint8Array({ maxLength: 200 }).map((bytes) => Buffer.from(bytes).toString('latin1'));
const event: fc.Arbitrary<SpoolEvent> = fc.oneof(
  fc.record({ is: fc.constant('folder' as const), path: latin1, mode: fc.nat(0o777) }),
  fc.record({ is: fc.constant('link' as const), path: latin1, target: latin1 }),
  fc.record({ is: fc.constant('root' as const), name: latin1 }),
);

describe('a spool', () => {
  it('gives back what was put in, whatever it is, in order', async () => {
    const record = fc.oneof(
      event.map((one): SpoolRecord => ({ type: 'event', event: one })),
      fc.tuple(fc.uint8Array({ maxLength: 4000 }), fc.boolean()).map(
        ([bytes, isCopy]): SpoolRecord => ({
          type: 'bytes',
          side: isCopy ? 'copy' : 'source',
          bytes: Buffer.from(bytes),
        }),
      ),
    );
    await fc.assert(
      fc.asyncProperty(fc.array(record, { maxLength: 40 }), fc.boolean(), async (records, asText) => {
        const writer = new SpoolWriter(path, KEY);
        for (const one of records) {
          if (one.type === 'event') writer.event(one.event);
          else writer.bytes(asText ? one.bytes.toString('latin1') : one.bytes, one.side);
        }
        writer.end();
        expect(await read()).toEqual(records);
      }),
      { numRuns: 60 },
    );
  });

  it('takes records that are larger than its memory', async () => {
    const large = Buffer.alloc(5_000_000, 'large ');
    const writer = new SpoolWriter(path, KEY);
    writer.bytes(Buffer.from('before'));
    writer.bytes(large);
    writer.bytes(large.toString('latin1'), 'copy');
    writer.end();
    const records = await read();
    expect(records.map((one) => (one.type === 'bytes' ? one.bytes.length : 0))).toEqual([6, 5_000_000, 5_000_000]);
  });

  it('holds no word in plain', async () => {
    const writer = new SpoolWriter(path, KEY);
    writer.bytes('Ingrid Solheim\n'.repeat(100));
    writer.end();
    expect((await fs.readFile(path)).includes('Ingrid')).toBe(false);
  });

  it('is not read where a byte of it is another, or a piece is left out, put twice or moved', async () => {
    const writer = new SpoolWriter(path, KEY);
    // Each fills a piece of its own, of one length.
    for (let i = 0; i < 4; i++) writer.bytes(Buffer.alloc(1024 * 1024, i));
    writer.end();
    const whole = await fs.readFile(path);
    const pieces: Buffer[] = [];
    for (let at = 8; at < whole.length; ) {
      const length = 20 + whole.readUInt32BE(at);
      pieces.push(whole.subarray(at, at + length));
      at += length;
    }
    const id = whole.subarray(0, 8);
    const refused = async (what: string, bytes: Buffer): Promise<void> => {
      await fs.writeFile(path, bytes);
      await expect(read(), what).rejects.toMatchObject({ code: 'blob-damaged' });
    };
    for (const at of [0, 7, 8, 12, 27, 28, 100_000, whole.length - 1]) {
      const altered = Buffer.from(whole);
      altered[at] = (altered[at] as number) ^ 1;
      await refused(`byte ${at}`, altered);
    }
    const [first, second, ...rest] = pieces as [Buffer, Buffer];
    expect(rest.length).toBeGreaterThan(2);
    await refused('left out', Buffer.concat([id, second, ...rest]));
    await refused('twice', Buffer.concat([id, first, first, second, ...rest]));
    await refused('moved', Buffer.concat([id, second, first, ...rest]));
    await fs.writeFile(path, Buffer.concat([id, ...pieces]));
    expect((await read()).length).toBe(4);
  });

  it('is not read as whole when it was cut anywhere, or has another key', async () => {
    const writer = new SpoolWriter(path, KEY);
    for (let i = 0; i < 20; i++) writer.bytes(`row ${i}\n`);
    writer.end();
    const whole = await fs.readFile(path);
    for (let length = 0; length < whole.length; length++) {
      await fs.writeFile(path, whole.subarray(0, length));
      await expect(read(), `cut at ${length}`).rejects.toMatchObject({ code: 'blob-damaged' });
    }
    await fs.writeFile(path, whole);
    const readWithOther = async (): Promise<void> => {
      for await (const _record of readSpool(path, Buffer.alloc(32, 4)));
    };
    await expect(readWithOther()).rejects.toMatchObject({ code: 'blob-damaged' });
    await fs.rm(path);
    await expect(read()).rejects.toMatchObject({ code: 'blob-missing' });
  });
});

describe('packing a spool', () => {
  const place = { addresses: [{ name: 'main', ...parseLocation('https://shop.example'), aliases: [] }], roots: [] };
  const columns = ['id', 'body'].map((name) => ({
    name,
    rewrite: true,
    reach: { bareHosts: false, rootPaths: false },
  }));
  const shape = {
    schema: 'public',
    name: 'page',
    columns: columns.map(({ name }) => ({ name, type: 'text', generated: false })),
    key: ['id'],
    keyOrders: ['integer' as const],
  };
  const database = { is: 'database', name: 'main', server: 'PostgreSQL 15', extensions: [], sequences: [] } as const;
  const lines = (count: number): string =>
    Array.from({ length: count }, (_one, i) => `${i}\tsee https://shop.example/page/${i} twice\n`).join('');

  async function pack(): Promise<
    Awaited<ReturnType<typeof packSpools>> & { store: PackStore; known: readonly PackedFile[] }
  > {
    const store = new PackStore(new FolderObjects(join(folder, 'store')), KEY);
    const known: PackedFile[] = [];
    const writer = await store.writer();
    const images = await packSpools([path], KEY, new LocalServer(folder), writer, work, (file) => known.push(file));
    await writer.close();
    return { ...images, store, known };
  }
  const rowsOf = async (store: PackStore, table: Parameters<typeof readRowImage>[1]): Promise<string> => {
    let all = '';
    for await (const batch of readRowImage(store, table)) all += batch;
    return all;
  };

  it('turns rows as the source wrote them into canonical ones', async () => {
    const writer = new SpoolWriter(path, KEY);
    writer.event(database);
    writer.bytes('CREATE TABLE page ();');
    writer.bytes('CREATE INDEX;');
    writer.event({ is: 'table', shape, contents: 'rows', isMasked: false, written: { place, columns } });
    const rows = lines(3000);
    for (let at = 0; at < rows.length; ) {
      const end = rows.indexOf('\n', at + 1000) + 1 || rows.length;
      writer.bytes(rows.slice(at, end));
      at = end;
    }
    writer.event({ is: 'table', shape: { ...shape, name: 'empty' }, contents: 'structure', isMasked: false });
    writer.end();
    const { source, copy, store } = await pack();
    const [page, empty] = source.databases[0]?.tables ?? [];
    expect(page?.rows).toBe(3000);
    const stored = await rowsOf(store, page);
    expect(stored).not.toContain('shop.example');
    expect(stored).toBe(new Rewriter(place).canonicalise(rows).value);
    expect(copy.databases[0]?.tables[0]).toEqual(page);
    expect(empty).toMatchObject({ name: 'empty', contents: 'structure', rows: 0 });
    expect((await store.get(source.databases[0]?.schemaAfter as string)).toString()).toBe('CREATE INDEX;');
  });

  it('keeps what the copy holds apart from what the source had where rows are masked', async () => {
    const writer = new SpoolWriter(path, KEY);
    writer.event(database);
    writer.bytes('before');
    writer.bytes('after');
    writer.event({ is: 'table', shape, contents: 'rows', isMasked: true });
    writer.bytes('1\tIngrid\n2\tBram\n');
    writer.bytes('1\tCarys\n', 'copy');
    writer.end();
    const { source, copy, store } = await pack();
    expect(await rowsOf(store, source.databases[0]?.tables[0])).toBe('1\tIngrid\n2\tBram\n');
    expect(await rowsOf(store, copy.databases[0]?.tables[0])).toBe('1\tCarys\n');
  });

  it('reads unchanged files where they lie, then at the source, and names those that changed on both sides', async () => {
    const server = new LocalServer(folder);
    const writer = new SpoolWriter(path, KEY);
    writer.event({ is: 'root', name: 'main' });
    writer.event({ is: 'folder', path: 'media', mode: 0o755 });
    for (const name of ['same', 'copy-changed', 'both-changed']) {
      const places = [];
      for (const side of ['copy', 'source']) {
        const realPath = join(folder, `${side}-${name}`);
        places.push({ realPath, identity: await server.writeFile(realPath, Buffer.from(name), 0o644) });
      }
      writer.event({ is: 'file', path: `media/${name}`, mode: 0o644, at: places });
    }
    writer.event({ is: 'file', path: 'settings.env', mode: 0o600, plain: createHash('sha256').digest('hex') });
    writer.bytes('KEY=~tsr.s.key~\n');
    writer.event({ is: 'link', path: 'latest', target: 'media/same' });
    writer.end();
    await fs.writeFile(join(folder, 'copy-copy-changed'), 'edited');
    await fs.writeFile(join(folder, 'copy-both-changed'), 'edited');
    await fs.rm(join(folder, 'source-both-changed'));

    const { source, lost, store, known } = await pack();
    expect(lost).toEqual(['media/both-changed']);
    // What lies somewhere as it was packed is known there; what was written as something else, or has changed, is not.
    expect(known.map((one) => [one.path, one.copy !== undefined, one.source !== undefined])).toEqual([
      ['media/same', true, true],
      ['media/copy-changed', false, true],
    ]);
    const listing = await readListing(store, source.roots[0] as { tree: string });
    expect([...listing.keys()]).toEqual(['latest', 'media/copy-changed', 'media/same', 'settings.env']);
    for (const name of ['same', 'copy-changed']) {
      const state = listing.get(`media/${name}`);
      expect(state?.type === 'file' && (await readPieces(store, state.pieces)).toString()).toBe(name);
    }
    expect(listing.get('settings.env')).toMatchObject({ mode: 0o600, size: 16 });
    expect(listing.get('latest')).toEqual({ type: 'link', target: 'media/same' });
  });

  it('can be run again, and then adds nothing', async () => {
    const writer = new SpoolWriter(path, KEY);
    writer.event(database);
    writer.bytes('before');
    writer.bytes('after');
    writer.event({ is: 'table', shape, contents: 'rows', isMasked: false, written: { place, columns } });
    writer.bytes(lines(500));
    writer.end();
    const { store: _store, known: _known, ...first } = await pack();
    const store = new PackStore(new FolderObjects(join(folder, 'store')), KEY);
    const again = await store.writer();
    expect(await packSpools([path], KEY, new LocalServer(folder), again, work)).toEqual(first);
    await again.close();
    expect(again.addedBytes).toBe(0);
  });
});
