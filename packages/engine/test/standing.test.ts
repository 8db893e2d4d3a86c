import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import pg from 'pg';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { compareEnvironments } from '../src/compare/environments.js';
import { isUnwritten, type Standing } from '../src/compare/standing.js';
import type { Environment } from '../src/site/environment.js';
import { SnapshotLibrary } from '../src/store/library.js';
import { FolderObjects } from '../src/store/objects-folder.js';
import { profileOf, type Query, Yard } from './support/pair.js';

const PROFILE = profileOf(`
areas:
  - { name: code, path: ., class: authored }
  - { name: cache, path: cache, class: derived }
databases: { main: { tables: {
  page: { class: authored },
  visit: { class: collected },
  sale: { class: collected } } } }
references: [{ from: sale.page, to: page.id }]
`);
const SCHEMA = `
  CREATE TABLE page (id serial PRIMARY KEY, body text NOT NULL);
  CREATE TABLE visit (id serial PRIMARY KEY, at text);
  CREATE TABLE sale (id serial PRIMARY KEY, page int);
  INSERT INTO page (body) SELECT 'page ' || n FROM generate_series(1, 20) AS n;
  INSERT INTO visit (at) VALUES ('a'), ('b');`;

let yard: Yard;
let live: { environment: Environment; query: Query; root: string };
let copy: { environment: Environment; query: Query; root: string };
const library = () => new SnapshotLibrary(new FolderObjects(join(yard.folder, 'store')), Buffer.alloc(32));

beforeAll(async () => {
  yard = await Yard.open();
}, 60_000);
afterAll(() => yard?.close());

beforeEach(async () => {
  live = await yard.environment('live', 'https://loom.example', PROFILE, { kind: 'live', sql: SCHEMA });
  copy = await yard.environment('copy', 'http://loom--copy.localhost:7400', PROFILE, { sql: SCHEMA });
  for (const { root } of [live, copy]) {
    await fs.mkdir(join(root, 'cache'));
    for (const name of ['index.html', 'page.html', 'cache/one'])
      await fs.writeFile(join(root, name), `what ${name} holds`);
  }
}, 60_000);

const MANY_TRANSACTIONS = `DO $$ BEGIN FOR i IN 1..150 LOOP
  INSERT INTO visit (at) VALUES ('many'); COMMIT; END LOOP; END $$`;

/** @param method a merge without a baseline takes nothing away, a replacement does */
async function compared(method: 'merge' | 'replace' = 'merge'): Promise<Standing> {
  const { standing } = await compareEnvironments({
    source: { environment: copy.environment },
    destination: live.environment,
    baseline: undefined,
    library: library(),
    memories: { source: undefined, destination: undefined },
    changes: undefined,
    profileVersion: 'loom/1',
    method,
    direction: 'up',
    mask: (_rule, value) => value,
    takes: new Set<string>(),
  });
  if (!standing) throw new Error('a comparison of two running environments stands');
  return standing;
}

const isProved = (standing: Standing): Promise<boolean> => isUnwritten(standing, [copy.environment, live.environment]);

/** What is in a file is written anew, as long as before, and it looks as it looked. */
async function rewriteUnseen(path: string): Promise<void> {
  const { atime, mtime } = await fs.stat(path);
  const text = await fs.readFile(path, 'utf8');
  await fs.writeFile(path, text.replace('what', 'that'));
  await fs.utimes(path, atime, mtime);
}

describe('that nothing was written since', () => {
  it('is proved where nothing was, whatever else goes on', async () => {
    const standing = await compared();
    expect(await isProved(standing)).toBe(true);
    // Other tables, others on the same server, what is rolled back, and the server's own work.
    await live.query(
      "INSERT INTO visit (at) VALUES ('c'); DELETE FROM visit WHERE at = 'a'; UPDATE visit SET at = 'd'",
    );
    await live.query("BEGIN; INSERT INTO page (body) VALUES ('no'); ROLLBACK");
    await copy.query('VACUUM FREEZE page');
    await live.query('ANALYZE');
    await fs.writeFile(join(live.root, 'cache/two'), 'of the site’s own');
    expect(await isProved(standing)).toBe(true);
  });

  it('is told as well after more transactions than anybody would name one by one', async () => {
    const standing = await compared();
    await live.query(MANY_TRANSACTIONS);
    expect(await isProved(standing)).toBe(true);
    await copy.query("UPDATE page SET body = 'changed' WHERE id = 3");
    await live.query(MANY_TRANSACTIONS);
    expect(await isProved(standing)).toBe(false);
  });

  const ROWS: Readonly<Record<string, string>> = {
    'a new row': "INSERT INTO page (body) VALUES ('new')",
    'a changed row': "UPDATE page SET body = 'changed' WHERE id = 3",
    'a row that was written as it was': 'UPDATE page SET body = body WHERE id = 3',
    'a row that has gone': 'DELETE FROM page WHERE id = 3',
    'one gone and another one come': "DELETE FROM page WHERE id = 3; INSERT INTO page (body) VALUES ('new')",
    'a table that was emptied and filled again': `CREATE TEMP TABLE kept AS TABLE page; TRUNCATE page; INSERT INTO page TABLE kept; DROP TABLE kept`,
    'a new column': 'ALTER TABLE page ADD COLUMN more text',
    'another default of a column': "ALTER TABLE page ALTER COLUMN body SET DEFAULT ''",
    'a new constraint': "ALTER TABLE page ADD CHECK (body <> '')",
    'another type': 'ALTER TABLE page ALTER COLUMN body TYPE varchar(100)',
    'a new table': 'CREATE TABLE more (id int PRIMARY KEY)',
  };
  it.each(Object.entries(ROWS))('is not proved after %s on either end', async (_what, sql) => {
    for (const end of [live, copy]) {
      const standing = await compared();
      await end.query(sql);
      expect(await isProved(standing)).toBe(false);
    }
  });

  it('is not proved while a transaction that began before is still to end, nor after it wrote', async () => {
    const late = new pg.Client((live.environment.databases[0] as { login: pg.ClientConfig }).login);
    await late.connect();
    try {
      await late.query("BEGIN; UPDATE page SET body = 'late' WHERE id = 7");
      const standing = await compared();
      await late.query('COMMIT');
      expect(await isProved(standing)).toBe(false);
    } finally {
      await late.end();
    }
  });

  const FILES: Readonly<Record<string, (root: string) => Promise<unknown>>> = {
    'a new file': (root) => fs.writeFile(join(root, 'new.html'), ''),
    'a changed file': (root) => fs.appendFile(join(root, 'page.html'), '.'),
    'another mode': (root) => fs.chmod(join(root, 'page.html'), 0o600),
    'a file that has gone': (root) => fs.rm(join(root, 'page.html')),
    'a file for another': (root) => fs.rename(join(root, 'page.html'), join(root, 'index.html')),
    'a link for a file': async (root) => {
      await fs.rm(join(root, 'page.html'));
      await fs.symlink('index.html', join(root, 'page.html'));
    },
    'a file that looks as it looked': (root) => rewriteUnseen(join(root, 'page.html')),
  };
  it.each(Object.entries(FILES))('is not proved after %s on either end', async (_what, act) => {
    for (const { root } of [live, copy]) {
      const standing = await compared();
      await act(root);
      expect(await isProved(standing)).toBe(false);
    }
  });

  it('is not proved where something new refers to what would go', async () => {
    await live.query("INSERT INTO page (id, body) VALUES (99, 'live alone')");
    const standing = await compared('replace');
    await live.query('INSERT INTO sale (page) VALUES (99)');
    expect(await isProved(standing)).toBe(false);
  });

  it('is not proved for an environment that is another one by now', async () => {
    const standing = await compared();
    expect(await isUnwritten(standing, [copy.environment])).toBe(false);
  });
});
