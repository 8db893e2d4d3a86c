import { createHmac } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import type { ByteString, Profile } from '@tessarion/core';
// A copy has a thread of its own for files, which runs what was built.
import * as built from '@tessarion/engine';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { copyRoot } from '../src/copy/files.js';
import { LiveSource } from '../src/copy/sources.js';
import { takeParts } from '../src/copy/take.js';
import { LocalServer } from '../src/local/local-server.js';
import type { Work } from '../src/ports/progress.js';
import type { Environment } from '../src/site/environment.js';
import type { LeftOut } from '../src/site/left-out.js';
import { SnapshotLibrary } from '../src/store/library.js';
import { FolderObjects } from '../src/store/objects-folder.js';
import { readListing, readPieces } from '../src/store/read-tree.js';
import { idle, profileOf, type Query, Yard } from './support/pair.js';

const PROFILE = profileOf(`
areas:
  - { name: code, path: ., class: authored, text: ["*.html", "*.conf"] }
  - { name: media, path: media, class: collected }
  - { name: cache, path: cache, class: derived }
  - { name: private, path: private, class: local }
databases: { main: { tables: {
  page: { class: authored },
  person: { class: authored, staff: { role: [editor] }, columns: { mail: { personal: mail }, name: { personal: name } } },
  setting: { class: authored, rows: [{ when: { name: [session*] }, class: local }] },
  cached: { class: derived },
  visit: { class: local } } } }
settings:
  - { name: mailer, in: { file: site.conf, format: env, key: MAILER }, values: { live: real, staging: caught, dev: caught } }
`);
const LIVE = 'https://loom.example';
const COPY = 'http://loom--copy.localhost:7400';
const SQL = `
  CREATE TABLE page (id int PRIMARY KEY, body text);
  INSERT INTO page SELECT i, 'See ${LIVE}/' || i FROM generate_series(1, 500) i;
  CREATE TABLE person (id int PRIMARY KEY, name text, mail text, role text);
  INSERT INTO person VALUES (1, 'Maren Brask', 'maren@loom.example', 'editor'), (2, 'Ingrid Solheim', 'ingrid@post.example', 'customer');
  CREATE TABLE setting (name text PRIMARY KEY, value text);
  INSERT INTO setting VALUES ('title', '${LIVE}'), ('session-1', 'secret');
  CREATE TABLE cached (id int); INSERT INTO cached VALUES (1);
  CREATE TABLE visit (id int); INSERT INTO visit VALUES (1);
  CREATE TABLE strange (id int); INSERT INTO strange VALUES (1);`;

let yard: Yard;
beforeAll(async () => {
  yard = await Yard.open();
}, 60_000);
afterAll(() => yard?.close());

interface Ends {
  readonly live: { environment: Environment; query: Query; root: string };
  readonly copy: { environment: Environment; query: Query; root: string };
}

async function ends(profile: Profile = PROFILE, sql = SQL): Promise<Ends> {
  const live = await yard.environment('live', LIVE, profile, { kind: 'live', sql, settings: { mailer: 'real' } });
  const copy = await yard.environment('copy', COPY, profile, { settings: { mailer: 'caught' } });
  await fs.rm(copy.root, { recursive: true });
  const files: Record<string, string> = {
    'index.html': `<a href="${LIVE}/x">`,
    'logo.bin': `${LIVE} stays in what is no text`,
    'site.conf': 'MAILER=real\nPORT=1\n',
    'deep/er/page.html': 'plain',
    'cache/old': 'never copied',
    'private/key': 'never copied',
  };
  for (const [path, content] of Object.entries(files)) {
    await fs.mkdir(join(live.root, path, '..'), { recursive: true });
    await fs.writeFile(join(live.root, path), content, { mode: path.endsWith('.bin') ? 0o755 : 0o640 });
  }
  const media = join(live.environment.folder, 'keep/main/media');
  await fs.mkdir(media, { recursive: true });
  await fs.writeFile(join(media, 'photo.jpg'), 'bytes');
  await fs.symlink('../../keep/main/media', join(live.root, 'media'));
  await fs.symlink('index.html', join(live.root, 'start.html'));
  return { live, copy };
}

async function build(
  { live, copy }: Ends,
  facts: { leftOut?: Partial<LeftOut>; exact?: boolean; work?: Work; source?: Environment } = {},
): Promise<built.TraceFinder> {
  const source = facts.source ?? live.environment;
  const traces = new built.TraceFinder(source);
  await built.buildCopy(
    {
      source: new built.LiveSource(source),
      destination: copy.environment,
      leftOut: { tables: [], areas: [], paths: [], ...facts.leftOut },
      exact: facts.exact ?? false,
      treeId: '1',
      like: source,
      traces,
      guarded: source,
      hash: (value: ByteString) => createHmac('sha256', 'key').update(value, 'latin1').digest(),
      spools: undefined,
    },
    facts.work ?? idle,
  );
  return traces;
}

const treeOf = ({ copy }: Ends): string => join(copy.environment.folder, 'trees/main-1');
const read = (ends: Ends, path: string): Promise<string> => fs.readFile(join(treeOf(ends), path), 'utf8');

describe('a copy', () => {
  it('has rows with its own address, masked people, staff as they are, and nothing that does not travel', async () => {
    const made = await ends();
    await build(made);
    const { query } = made.copy;
    const pages = await query('SELECT id, body FROM page ORDER BY id');
    expect(pages.length).toBe(500);
    for (const { id, body } of pages) expect(body).toBe(`See ${COPY}/${id}`);
    const people = await query('SELECT * FROM person ORDER BY id');
    expect(people[0]).toEqual({ id: 1, name: 'Maren Brask', mail: 'maren@loom.example', role: 'editor' });
    expect(people[1]?.role).toBe('customer');
    expect(people[1]?.name).not.toContain('Ingrid');
    expect(String(people[1]?.mail)).toMatch(/^[^@ ]+@[^@ ]+$/);
    expect(String(people[1]?.mail)).not.toContain('ingrid');
    expect(await query('SELECT * FROM setting')).toEqual([{ name: 'title', value: COPY }]);
    for (const empty of ['cached', 'visit', 'strange'])
      expect(await query(`SELECT count(*)::int AS n FROM ${empty}`)).toEqual([{ n: 0 }]);
  });

  it('has files with their modes, its own settings and links, and nothing of local or derived areas', async () => {
    const made = await ends();
    await build(made);
    expect(await read(made, 'index.html')).toBe(`<a href="${COPY}/x">`);
    expect(await read(made, 'logo.bin')).toBe(`${LIVE} stays in what is no text`);
    expect(await read(made, 'site.conf')).toBe('MAILER=caught\nPORT=1\n');
    expect(await read(made, 'start.html')).toBe(`<a href="${COPY}/x">`);
    expect(await fs.readlink(join(treeOf(made), 'start.html'))).toBe('index.html');
    expect((await fs.stat(join(treeOf(made), 'logo.bin'))).mode & 0o777).toBe(0o755);
    expect((await fs.stat(join(treeOf(made), 'index.html'))).mode & 0o777).toBe(0o640);
    expect(await read(made, 'media/photo.jpg')).toBe('bytes');
    expect(await fs.readdir(join(made.copy.environment.folder, 'keep/main/cache'))).toEqual([]);
    expect(await fs.readdir(join(made.copy.environment.folder, 'keep/main/private'))).toEqual([]);
  });

  it('leaves out tables, areas and paths on wish', async () => {
    const made = await ends();
    await build(made, { leftOut: { tables: ['page'], areas: ['media'], paths: ['deep'] } });
    expect(await made.copy.query('SELECT count(*)::int AS n FROM page')).toEqual([{ n: 0 }]);
    expect(await made.copy.query('SELECT count(*)::int AS n FROM person')).toEqual([{ n: 2 }]);
    expect((await fs.readdir(treeOf(made))).sort()).toEqual([
      'cache',
      'index.html',
      'logo.bin',
      'media',
      'private',
      'site.conf',
      'start.html',
    ]);
    expect(await fs.readdir(join(treeOf(made), 'media'))).toEqual([]);
  });

  it('is exact on wish: nothing masked, rows and files of local classes too', async () => {
    const made = await ends();
    await build(made, { exact: true });
    expect(await made.copy.query('SELECT name FROM person WHERE id = 2')).toEqual([{ name: 'Ingrid Solheim' }]);
    expect(await made.copy.query('SELECT count(*)::int AS n FROM visit')).toEqual([{ n: 1 }]);
    expect(await read(made, 'private/key')).toBe('never copied');
  });

  it('is searched for what leads back to its source, in rows and files, whole words only', async () => {
    const made = await ends();
    const [{ login }] = made.live.environment.databases as [Environment['databases'][0]];
    await made.live.query('UPDATE page SET body = $1 WHERE id = 7', [`db=${login.database};`]);
    await made.live.query('UPDATE page SET body = $1 WHERE id = 8', [`${login.database}s are not it`]);
    await fs.writeFile(join(made.live.root, 'deep/notes.txt'), `line\n\nuse ${login.password} there`);
    await fs.writeFile(join(made.live.root, 'old.php'), `include '${made.live.environment.folder}/main/lib.php'`);
    const { found } = await build(made);
    expect(found.map((one) => `${one.where} (${one.what})`).sort()).toEqual([
      'file deep/notes.txt, line 3 (database-password)',
      'file old.php, line 1 (root-path)',
      'table page, id 7, column body (database-name)',
    ]);
  });

  it.each([
    ['a link out of the root', (root: string) => fs.symlink('../../../etc/passwd', join(root, 'out')), 'leads to'],
    ['an absolute link', (root: string) => fs.symlink('/etc/passwd', join(root, 'out')), 'leads to /etc/passwd'],
    ['a settings file without its key', (root: string) => fs.writeFile(join(root, 'site.conf'), 'PORT=1\n'), 'MAILER'],
    [
      'a key that stands twice',
      (root: string) => fs.writeFile(join(root, 'site.conf'), 'MAILER=a\nMAILER=b\n'),
      'MAILER',
    ],
  ])('refuses %s, by name', async (_what, spoil, message) => {
    const made = await ends();
    await spoil(made.live.root);
    await expect(build(made)).rejects.toMatchObject({
      code: 'file-refused',
      message: expect.stringContaining(message),
    });
  });

  it('stops both rows and files when one of them fails', async () => {
    const made = await ends();
    await made.copy.query('CREATE TABLE page (id text)');
    const before = performance.now();
    await expect(build(made)).rejects.toMatchObject({ code: 'command-failed' });
    expect(performance.now() - before).toBeLessThan(20_000);
    const left = await fs.readdir(made.copy.environment.folder);
    await new Promise((resolve) => setImmediate(resolve));
    expect(await fs.readdir(made.copy.environment.folder)).toEqual(left);
  });

  it('stops when it is told to, before and in the middle', async () => {
    const made = await ends();
    const stopped = new AbortController();
    const reason = new Error('a person said stop');
    const work: Work = {
      signal: stopped.signal,
      count: ({ bytes }) => {
        if (bytes) stopped.abort(reason);
      },
    };
    await expect(build(made, { work })).rejects.toBe(reason);
    await expect(build(await ends(), { work })).rejects.toBe(reason);
  });
});

const PIECE = 500_000;

/** A server on which somebody writes while files are read. */
class BusyServer extends LocalServer {
  reads = 0;

  constructor(
    base: string,
    private readonly path: string,
    private readonly disturb: (reads: number) => Promise<unknown>,
  ) {
    super(base);
  }

  override async *readPieces(path: ByteString, bytes: number): AsyncGenerator<Buffer> {
    for await (const piece of super.readPieces(path, path.endsWith(this.path) ? PIECE : bytes)) {
      if (path.endsWith(this.path)) await this.disturb(++this.reads);
      yield piece;
    }
  }
}

describe('files that change while they are read', () => {
  const LARGE = 17 * 1024 * 1024;
  const onBusy = async (disturb: (path: string, reads: number) => Promise<unknown>) => {
    const made = await ends();
    const path = join(made.live.root, 'large.bin');
    await fs.writeFile(path, Buffer.alloc(LARGE, 'a'));
    const server = new BusyServer(join(made.live.environment.folder, '..'), 'large.bin', (reads) =>
      disturb(path, reads),
    );
    return { made, path, server, busy: { ...made.live.environment, server } };
  };
  const copyFiles = (made: Ends, source: Environment): Promise<void> =>
    copyRoot(
      {
        source: new LiveSource(source),
        destination: made.copy.environment,
        leftOut: { tables: [], areas: [], paths: [] },
        exact: false,
        treeId: '1',
        like: source,
        traces: undefined,
      },
      'main',
      undefined,
      idle,
    );

  it('are read again by a copy, which has them as they were at one moment', async () => {
    const { made, busy, server } = await onBusy(async (path, reads) => {
      if (reads === 3) await fs.writeFile(path, Buffer.alloc(LARGE, 'b'));
    });
    await copyFiles(made, busy);
    const copied = await fs.readFile(join(treeOf(made), 'large.bin'));
    expect(copied.equals(Buffer.alloc(LARGE, 'b'))).toBe(true);
    expect(server.reads).toBeGreaterThan(LARGE / PIECE);
  });

  it('are passed over when they go away, with nothing half-made left', async () => {
    const { made, busy } = await onBusy(async () => undefined);
    await copyFiles(made, { ...busy, server: new GoneServer(join(busy.folder, '..'), 'large.bin') });
    expect((await fs.readdir(treeOf(made))).includes('large.bin')).toBe(false);
    expect(await read(made, 'index.html')).toContain(COPY);
  });

  it('are refused by name when they never come to rest', async () => {
    const { made, busy } = await onBusy(async (path, reads) => {
      if (reads % 20 === 1) await fs.appendFile(path, 'more');
    });
    await expect(copyFiles(made, busy)).rejects.toMatchObject({
      code: 'file-changed',
      message: expect.stringContaining('large.bin'),
    });
  });

  it('are read again by a snapshot', async () => {
    const { busy } = await onBusy(async (path, reads) => {
      if (reads === 3) await fs.writeFile(path, Buffer.alloc(LARGE, 'b'));
    });
    const library = new SnapshotLibrary(new FolderObjects(join(yard.folder, 'store')), Buffer.alloc(32, 1));
    const writer = await library.store.writer();
    const { roots } = await takeParts(busy, writer, idle);
    await writer.close();
    const listing = await readListing(library.store, roots[0] as (typeof roots)[0]);
    const state = listing.get('large.bin');
    if (state?.type !== 'file') throw new Error('no file');
    expect((await readPieces(library.store, state.pieces)).equals(Buffer.alloc(LARGE, 'b'))).toBe(true);
  });
});

/** A server on which a listed file is gone once it is to be read. */
class GoneServer extends LocalServer {
  constructor(
    base: string,
    private readonly path: string,
  ) {
    super(base);
  }

  override async *readPieces(path: ByteString, bytes: number): AsyncGenerator<Buffer> {
    yield* super.readPieces(path.endsWith(this.path) ? `${path} that was` : path, bytes);
  }
}
