import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import type { FileChange, RowChange, SnapshotManifest, TableManifest } from '@tessarion/core';
// Building a copy has a thread of its own for files, which runs what was built.
import * as built from '@tessarion/engine';
import fc from 'fast-check';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { advanceImage } from '../src/copy/advance-image.js';
import { TreeBuilder, takeParts } from '../src/copy/take.js';
import type { Environment } from '../src/site/environment.js';
import { SnapshotLibrary } from '../src/store/library.js';
import { FolderObjects } from '../src/store/objects-folder.js';
import { readListing, readPieces } from '../src/store/read-tree.js';
import { RowImageWriter, readRowImage } from '../src/store/row-image.js';
import { idle, profileOf, type Query, Yard } from './support/pair.js';

const PROFILE = profileOf(`
areas:
  - { name: code, path: ., class: authored, text: ["*.html"] }
  - { name: media, path: media, class: collected }
databases: { main: { tables: { "*": { class: authored } } } }`);
const KEY = Buffer.alloc(32, 4);
const SQL = `
  CREATE TABLE page (id int PRIMARY KEY, body text, at timestamptz, raw bytea, twice int GENERATED ALWAYS AS (id * 2) STORED);
  INSERT INTO page SELECT i, 'See https://loom.example/' || i || repeat(md5(i::text), 8), '2026-03-29 01:30+00', decode(md5(i::text), 'hex') FROM generate_series(1, 3000) i;
  CREATE TABLE tag (word text, n int);
  INSERT INTO tag SELECT 'same', 1 FROM generate_series(1, 50);
  INSERT INTO tag VALUES (NULL, NULL), ('https://loom.example', 2), (E'tab\\there', 3);
  CREATE SEQUENCE ticket START 500; SELECT nextval('ticket');
  CREATE VIEW newest AS SELECT max(id) FROM page;
  CREATE TABLE nothing (id int PRIMARY KEY);`;

let yard: Yard;
let live: { environment: Environment; query: Query; root: string };
let library: SnapshotLibrary;
let number = 0;

beforeAll(async () => {
  yard = await Yard.open();
}, 60_000);
afterAll(() => yard?.close());
beforeEach(async () => {
  live = await yard.environment('live', 'https://loom.example', PROFILE, { kind: 'live', sql: SQL });
  library = new SnapshotLibrary(new FolderObjects(await fs.mkdtemp(join(yard.folder, 'store-'))), KEY);
  await fs.writeFile(join(live.root, 'index.html'), 'https://loom.example');
  await fs.mkdir(join(live.root, 'deep/er'), { recursive: true });
  for (let i = 0; i < 30; i++)
    await fs.writeFile(join(live.root, `deep/er/${i}`), `${i} `.repeat(800), { mode: 0o640 });
  await fs.symlink('index.html', join(live.root, 'start'));
  await fs.mkdir(join(live.environment.folder, 'keep/main/media'), { recursive: true });
  await fs.writeFile(join(live.environment.folder, 'keep/main/media/photo'), 'of a visitor');
  await fs.symlink('../../keep/main/media', join(live.root, 'media'));
});

async function take(): Promise<SnapshotManifest> {
  const writer = await library.store.writer();
  const parts = await takeParts(live.environment, writer, idle).catch(async (error: unknown) => {
    await writer.abandon();
    throw error;
  });
  await writer.close();
  const manifest: SnapshotManifest = {
    format: 'tessarion-snapshot/1',
    id: `s-${String(number++).padStart(10, '0')}`,
    site: 'loom',
    environment: 'live',
    kind: 'live',
    takenAt: new Date(0).toISOString(),
    profile: null,
    ...parts,
  };
  await library.save(manifest);
  return library.load(manifest.id);
}

async function bytesIn(folder: string): Promise<number> {
  let sum = 0;
  for (const name of await fs.readdir(folder, { recursive: true })) {
    const stat = await fs.stat(join(folder, name));
    if (stat.isFile()) sum += stat.size;
  }
  return sum;
}

const all = async ({ query }: { query: Query }): Promise<unknown> => ({
  page: await query('SELECT id, body, at::text, raw, twice FROM page ORDER BY id'),
  tag: await query('SELECT word, n FROM tag ORDER BY word, n'),
  ticket: await query('SELECT last_value::text, is_called FROM ticket'),
  newest: await query('SELECT * FROM newest'),
});

describe('a snapshot', () => {
  it('brought back exactly is what it was taken of, in every row and file', async () => {
    const manifest = await take();
    const before = await all(live);
    await live.query(
      "UPDATE page SET body = 'changed'; DELETE FROM tag; DROP VIEW newest; CREATE VIEW newest AS SELECT 1",
    );
    const back = await yard.environment('live', 'https://loom.example', PROFILE, { kind: 'live' });
    await built.buildCopy(
      {
        source: new built.SnapshotSource(new built.SnapshotLibrary(library.objects, KEY), manifest, PROFILE),
        destination: back.environment,
        leftOut: { tables: [], areas: [], paths: [] },
        exact: true,
        treeId: 'back',
        like: back.environment,
        traces: undefined,
        guarded: undefined,
        hash: () => Buffer.alloc(32),
        spools: undefined,
      },
      idle,
    );
    expect(await all(back)).toEqual(before);
    const tree = join(back.environment.folder, 'trees/main-back');
    expect(await fs.readFile(join(tree, 'index.html'), 'utf8')).toBe('https://loom.example');
    expect(await fs.readlink(join(tree, 'start'))).toBe('index.html');
    expect((await fs.stat(join(tree, 'deep/er/7'))).mode & 0o777).toBe(0o640);
    expect(await fs.readFile(join(tree, 'deep/er/7'), 'utf8')).toBe('7 '.repeat(800));
    expect(await fs.readFile(join(tree, 'media/photo'), 'utf8')).toBe('of a visitor');
  });

  it('costs what changed since the one before', async () => {
    await take();
    const folder = library.objects.place.at;
    const first = await bytesIn(folder);
    const same = await take();
    const SEAL_BYTES = 16 + 32;
    const manifestBytes = Buffer.byteLength(JSON.stringify(same, null, 1)) + 1 + SEAL_BYTES;
    expect((await bytesIn(folder)) - first).toBeLessThanOrEqual(manifestBytes);
    await live.query("UPDATE page SET body = 'one row' WHERE id = 1500");
    await fs.writeFile(join(live.root, 'deep/er/3'), 'one file');
    const before = await bytesIn(folder);
    await take();
    expect((await bytesIn(folder)) - before).toBeLessThan(0.15 * first);
  });

  it('shares with others, and leaves them whole when it goes', async () => {
    const one = await take();
    await live.query('INSERT INTO page (id, body) SELECT i, md5(i::text) FROM generate_series(9000, 9500) i');
    const two = await take();
    await live.query('DELETE FROM page WHERE id > 2000');
    const three = await take();
    const later = new Date(Date.now() + 60_000);
    const freed = await library.remove(two.id, later);
    expect(freed.blobs).toBeGreaterThan(0);
    for (const manifest of [one, three]) expect(await library.verify(manifest)).toEqual([]);
    await expect(library.load(two.id)).rejects.toMatchObject({ code: 'blob-missing' });
    await library.remove(one.id, later);
    expect(await library.verify(three)).toEqual([]);
    await library.remove(three.id, later);
    expect(await library.manifests()).toEqual([]);
  });

  it('is not read where somebody has changed what it says, or has put another one in its place', async () => {
    const [one, two] = [await take(), await take()];
    const path = (id: string): string => join(library.objects.place.at, 'manifests', `${id}.manifest`);
    const [whole, other] = [await fs.readFile(path(one.id)), await fs.readFile(path(two.id))];
    expect(whole.includes('public'), 'nothing of it in the clear').toBe(false);
    const refused = async (bytes: Buffer): Promise<void> => {
      await fs.writeFile(path(one.id), bytes);
      await expect(library.load(one.id)).rejects.toMatchObject({ code: 'blob-missing' });
    };
    for (const at of [0, 20, whole.length >> 1, whole.length - 1]) {
      const altered = Buffer.from(whole);
      altered[at] = (altered[at] as number) ^ 1;
      await refused(altered);
    }
    await refused(other);
    await refused(Buffer.from(JSON.stringify({ ...one, databases: [] })));
    await fs.writeFile(path(one.id), whole);
    expect(await library.load(one.id)).toEqual(one);
    await fs.rename(path(one.id), path('x'));
    await fs.writeFile(join(library.objects.place.at, 'manifests', `${one.id}.json`), JSON.stringify(one));
    await library.sealFormer();
    expect(await library.load(one.id)).toEqual(one);
    expect(await fs.readdir(join(library.objects.place.at, 'manifests'))).not.toContain(`${one.id}.json`);
  });

  it('keeps what was stored after the oldest running writer began', async () => {
    const one = await take();
    const freed = await library.remove(one.id, new Date(0));
    expect(freed.blobs).toBe(0);
    expect(await library.verify(one)).toEqual([]);
  });

  it('names what lies on a server as it is, and tells plainly what cannot be kept', async () => {
    const { spawnSync } = await import('node:child_process');
    spawnSync('mkfifo', [join(live.root, 'pipe')]);
    await expect(take()).rejects.toMatchObject({ code: 'file-refused', message: expect.stringContaining('pipe') });
  });
});

describe('a change set', () => {
  const change: fc.Arbitrary<RowChange> = fc.record({
    part: fc.constant('row' as const),
    database: fc.constant('main'),
    table: fc.constant('public.page'),
    op: fc.constant('insert' as const),
    key: fc.array(fc.string(), { minLength: 1, maxLength: 2 }),
    row: fc.dictionary(fc.string(), fc.option(fc.string({ unit: 'binary' })), { noNullPrototype: true }),
  });
  const read = async (id: string): Promise<unknown[]> => {
    const changes: unknown[] = [];
    for await (const one of library.readChanges(id)) changes.push(one);
    return changes;
  };

  it('is read as it was saved, whatever is in it, and says nothing to whoever finds the file', async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(change, { maxLength: 20 }), async (changes) => {
        await library.saveChanges('t-1', changes);
        expect(await read('t-1')).toEqual(changes);
      }),
      { numRuns: 60 },
    );
    const row = { id: '1', mail: 'ingrid.solheim@post.example' };
    await library.saveChanges('t-2', [
      { part: 'row', database: 'main', table: 'public.person', op: 'insert', key: ['1'], row },
    ]);
    const stored = await fs.readFile(join(library.objects.place.at, 'changes/t-2.changes'));
    expect(stored.includes('ingrid')).toBe(false);
    expect(stored.includes('person')).toBe(false);
    expect((await fs.stat(join(library.objects.place.at, 'changes/t-2.changes'))).mode & 0o077).toBe(0);
  });

  it('of many changes is read in pieces', async () => {
    async function* many(): AsyncGenerator<RowChange> {
      for (let i = 0; i < 30_000; i++)
        yield {
          part: 'row',
          database: 'main',
          table: 'public.page',
          op: 'insert',
          key: [String(i)],
          row: { body: 'text '.repeat(20) },
        };
    }
    await library.saveChanges('t-3', many());
    let seen = 0;
    for await (const one of library.readChanges('t-3')) if (one.part === 'row' && one.key[0] === String(seen)) seen++;
    expect(seen).toBe(30_000);
  });

  it('that is gone or damaged is told by name', async () => {
    await expect(read('t-none')).rejects.toMatchObject({ code: 'blob-missing' });
    await library.saveChanges('t-4', [
      { part: 'row', database: 'main', table: 'public.page', op: 'delete', key: ['1'], row: {} },
    ]);
    const path = join(library.objects.place.at, 'changes/t-4.changes');
    const stored = await fs.readFile(path);
    const spoilt = (at: number): Buffer => {
      const copy = Buffer.from(stored);
      copy[at] = (copy[at] as number) ^ 0x55;
      return copy;
    };
    // One bit anywhere, or one byte less: nothing of it may be used.
    const cases = [...[0, 20, 40, stored.length - 1].map(spoilt), stored.subarray(0, -1), stored.subarray(0, 10)];
    for (const content of [...cases, Buffer.alloc(0)]) {
      await fs.writeFile(path, content);
      await expect(read('t-4')).rejects.toMatchObject({
        code: 'blob-damaged',
        message: expect.stringContaining('t-4'),
      });
    }
    await fs.writeFile(path, stored);
    expect(await read('t-4')).toHaveLength(1);
  });
});

describe('an image of a baseline', () => {
  const shape: Pick<TableManifest, 'schema' | 'name' | 'columns' | 'key' | 'keyOrders'> = {
    schema: 'public',
    name: 'page',
    columns: ['id', 'a', 'b'].map((name) => ({ name, type: 'text', generated: false })),
    key: ['id'],
    keyOrders: ['integer'],
  };
  const manifestOf = (table: TableManifest, root: SnapshotManifest['roots'][0]): SnapshotManifest => ({
    format: 'tessarion-snapshot/1',
    id: 'b-0000000000',
    site: 'loom',
    environment: 'live',
    kind: 'live',
    takenAt: new Date(0).toISOString(),
    profile: null,
    databases: [
      {
        name: 'main',
        server: 'PostgreSQL 15',
        schemaBefore: '',
        schemaAfter: '',
        extensions: [],
        sequences: [],
        tables: [table],
      },
    ],
    roots: [root],
  });
  const cell = fc.oneof(fc.constant(null), fc.constantFrom('x', 'y', 'long '.repeat(40), 'tab\there'));
  const rows = fc.uniqueArray(fc.record({ id: fc.nat(60), a: cell, b: cell }), {
    selector: (one) => one.id,
    maxLength: 40,
  });
  type Row = { id: number; a: string | null; b: string | null };

  const field = (value: string | null): string => (value === null ? '\\N' : value.replaceAll('\t', '\\t'));
  async function imageOf(given: readonly Row[]): Promise<TableManifest> {
    const writer = await library.store.writer();
    const image = new RowImageWriter(writer, [0]);
    const sorted = given.toSorted((one, other) => one.id - other.id);
    await image.add(sorted.map((row) => `${row.id}\t${field(row.a)}\t${field(row.b)}\n`).join(''));
    const blocks = await image.end();
    await writer.close();
    return {
      ...shape,
      contents: 'rows',
      rows: image.rows,
      bytes: image.bytes,
      ...(blocks === undefined ? {} : { blocks }),
    };
  }

  it('advanced by changes is the image of what they make, block for block', async () => {
    await fc.assert(
      fc.asyncProperty(rows, rows, async (before, after) => {
        const on = { part: 'row', database: 'main', table: 'public.page' } as const;
        const changes: RowChange[] = [];
        for (const row of before)
          if (!after.some((one) => one.id === row.id))
            changes.push({ ...on, op: 'delete', key: [String(row.id)], row: {} });
        for (const row of after) {
          const old = before.find((one) => one.id === row.id);
          const key = [String(row.id)];
          if (!old) changes.push({ ...on, op: 'insert', key, row: { id: String(row.id), a: row.a, b: row.b } });
          else if (old.a !== row.a || old.b !== row.b)
            changes.push({
              ...on,
              op: 'update',
              key,
              cells: {
                ...(old.a === row.a ? {} : { a: { before: old.a, after: row.a } }),
                ...(old.b === row.b ? {} : { b: { before: old.b, after: row.b } }),
              },
            });
        }
        const root = { name: 'main', tree: '', files: 0, bytes: 0 };
        const writer = await library.store.writer();
        const advanced = await advanceImage(
          library,
          writer,
          manifestOf(await imageOf(before), root),
          'b-0000000001',
          new Date(1).toISOString(),
          changes,
          [],
        );
        await writer.close();
        const table = advanced.databases[0]?.tables[0] as TableManifest;
        expect(table).toEqual(await imageOf(after));
        let lines = '';
        for await (const batch of readRowImage(library.store, table)) lines += batch;
        expect(lines.split('\n').length - 1).toBe(after.length);
      }),
      { numRuns: 60 },
    );
  });

  it('counts rows without a key: one more, or one fewer, of those that are alike', async () => {
    const words = fc.array(fc.constantFrom('a', 'b', 'c', '9', 'z'), { maxLength: 12 });
    const keyless = { ...shape, columns: [{ name: 'a', type: 'text', generated: false }], key: [], keyOrders: [] };
    const linesOf = async (table: TableManifest): Promise<string[]> => {
      let lines = '';
      for await (const batch of readRowImage(library.store, table)) lines += batch;
      return lines === '' ? [] : lines.slice(0, -1).split('\n');
    };
    await fc.assert(
      fc.asyncProperty(words, words, async (before, after) => {
        const first = await library.store.writer();
        const image = new RowImageWriter(first, []);
        await image.add(
          before
            .toSorted()
            .map((word) => `${word}\n`)
            .join(''),
        );
        const blocks = await image.end();
        await first.close();
        const count = (list: readonly string[], word: string): number => list.filter((one) => one === word).length;
        const changes = [...new Set([...before, ...after])].flatMap((word): RowChange[] => {
          const more = count(after, word) - count(before, word);
          const on = { part: 'row', database: 'main', table: 'public.page', key: [word] } as const;
          const one: RowChange =
            more > 0 ? { ...on, op: 'insert', row: { a: word } } : { ...on, op: 'delete', row: {} };
          return new Array(Math.abs(more)).fill(one);
        });
        const writer = await library.store.writer();
        const table: TableManifest = {
          ...keyless,
          contents: 'rows',
          rows: before.length,
          bytes: image.bytes,
          ...(blocks === undefined ? {} : { blocks }),
        };
        const root = { name: 'main', tree: '', files: 0, bytes: 0 };
        const advanced = await advanceImage(library, writer, manifestOf(table, root), 'b-2', '', changes, []);
        await writer.close();
        expect(await linesOf(advanced.databases[0]?.tables[0] as TableManifest)).toEqual(after.toSorted());
      }),
      { numRuns: 60 },
    );
  });

  it('has the files that changes made, and shares all others', async () => {
    const writer = await library.store.writer();
    const put = async (text: string) => ({ pieces: [await writer.put(Buffer.from(text))], size: text.length });
    const tree = new TreeBuilder();
    tree.add('kept', { type: 'file', name: '', mode: 0o644, ...(await put('kept')) });
    tree.add('gone', { type: 'file', name: '', mode: 0o644, ...(await put('gone')) });
    tree.add('folder', { type: 'folder', name: '', mode: 0o755, tree: '' });
    tree.add('folder/changed', { type: 'file', name: '', mode: 0o644, ...(await put('old')) });
    const root = { name: 'main', ...(await tree.store(writer)) };
    await writer.close();
    const second = await library.store.writer();
    const file = async (text: string) => ({
      type: 'file' as const,
      mode: 0o600,
      pieces: [await second.put(Buffer.from(text))],
      size: text.length,
    });
    const on = { part: 'file', root: 'main' } as const;
    const changes: FileChange[] = [
      { ...on, path: 'gone', before: await file('gone'), after: { type: 'absent' } },
      { ...on, path: 'folder/changed', before: await file('old'), after: await file('new') },
      { ...on, path: 'folder/link', before: { type: 'absent' }, after: { type: 'link', target: 'changed' } },
    ];
    const table: TableManifest = { ...shape, columns: [...shape.columns], contents: 'rows', rows: 0, bytes: 0 };
    const advanced = await advanceImage(
      library,
      second,
      manifestOf(table, root),
      'b-1',
      new Date(1).toISOString(),
      [],
      changes,
    );
    await second.close();
    const listing = await readListing(library.store, advanced.roots[0] as (typeof advanced.roots)[0]);
    expect([...listing.keys()].sort()).toEqual(['folder/changed', 'folder/link', 'kept']);
    const changed = listing.get('folder/changed');
    if (changed?.type !== 'file') throw new Error('no file');
    expect((await readPieces(library.store, changed.pieces)).toString()).toBe('new');
    expect(changed.mode).toBe(0o600);
    expect(advanced.databases[0]?.tables[0]).toBe(table);
  });
});
