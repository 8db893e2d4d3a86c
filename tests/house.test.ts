import * as fs from 'node:fs';
import { join, relative } from 'node:path';
import { describe, expect, it } from 'vitest';

/** What the linter cannot hold: which words stand in which rooms, how large those are, and what the documents name. */

const ROOT = new URL('..', import.meta.url).pathname;

interface Source {
  /** From the repository's root. */
  readonly path: string;
  readonly text: string;
}

function sourcesIn(folder: string): Source[] {
  return fs.readdirSync(join(ROOT, folder), { withFileTypes: true, recursive: true }).flatMap((entry) => {
    const path = join(entry.parentPath, entry.name);
    return entry.isFile() && /\.tsx?$/.test(entry.name)
      ? [{ path: relative(ROOT, path), text: fs.readFileSync(path, 'utf8') }]
      : [];
  });
}

/** Files of some folders, but for some others, in which a pattern stands outside of comments. */
function filesWith(pattern: RegExp, folders: readonly string[], except: readonly string[]): string[] {
  return folders
    .flatMap(sourcesIn)
    .filter(({ path }) => !except.some((one) => path.startsWith(one)))
    .filter(({ text }) => pattern.test(text.replace(/\/\*[\s\S]*?\*\/|^\s*\/\/.*$/gm, '')))
    .map(({ path }) => path);
}

const ENGINE = 'packages/engine/src';
const SERVICE = 'packages/service/src';
const ABOVE = [ENGINE, SERVICE, 'packages/core/src', 'packages/contract/src', 'packages/client/src'];

describe('above the ports', () => {
  it('nobody speaks the language of a database', () => {
    const own = ['postgres', 'mariadb'].map((room) => `${ENGINE}/${room}/`);
    expect(filesWith(/from 'pg(-copy-streams)?'/, [ENGINE], own.slice(0, 1))).toEqual([]);
    expect(filesWith(/'mysql2'/, [ENGINE], own.slice(1))).toEqual([]);
    expect(filesWith(/'ssh2'/, [ENGINE], [`${ENGINE}/ssh/`])).toEqual([]);
    const sql = /\b(SELECT |INSERT INTO|DELETE FROM|ALTER TABLE|CREATE TABLE|pg_[a-z]+|::text|::regclass|xmin)\b/;
    expect(filesWith(sql, [ENGINE, 'packages/core/src'], own)).toEqual([]);
    // The records are PostgreSQL's by decision; sites' databases are reached through the engine alone.
    const records = ['ground/', 'journal/verify-', 'http/event-stream.ts', 'work/worker-identity.ts'];
    expect(
      filesWith(
        /from 'pg'/,
        [SERVICE],
        records.map((one) => `${SERVICE}/${one}`),
      ),
    ).toEqual([]);
  });

  it('nobody names a kind of database or server', () => {
    const kinds = /\b((?:Postgres|Maria)[A-Z]\w*|postgresql|LocalServer|SshServer|connectTo|borrowSession)\b/;
    // Where a database is, that of the records too, is told as an address.
    const own = [
      'packages/core/src/address/database-address.ts',
      `${ENGINE}/mariadb/`,
      `${ENGINE}/ssh/`,
      `${ENGINE}/postgres/`,
      `${ENGINE}/local/`,
      `${ENGINE}/systems.ts`,
      `${SERVICE}/main/serve.ts`,
    ];
    expect(filesWith(kinds, ABOVE, own)).toEqual([]);
    expect(filesWith(/'public'/, ABOVE, [`${ENGINE}/postgres/`, 'packages/core/src/table-name.ts'])).toEqual([]);
  });
});

describe('rooms', () => {
  const linesOf = (sources: readonly Source[]): number =>
    sources.reduce((sum, one) => sum + one.text.split('\n').length, 0);

  it.each(['core', 'engine', 'service'])('of %s are none of them larger than a quarter of it', (name) => {
    const folder = `packages/${name}/src`;
    const all = linesOf(sourcesIn(folder));
    const rooms = fs.readdirSync(join(ROOT, folder), { withFileTypes: true }).filter((entry) => entry.isDirectory());
    for (const { name: room } of rooms)
      expect(linesOf(sourcesIn(`${folder}/${room}`)) / all, `${name}/${room}`).toBeLessThan(0.255);
  });
});

describe('the records', () => {
  const tables = [
    ...fs.readFileSync(join(ROOT, `${SERVICE}/ground/schema.sql`), 'utf8').matchAll(/^CREATE TABLE (\w+)/gm),
  ];
  const sources = sourcesIn(SERVICE).filter(({ path }) => !path.includes('/migrations'));
  /** Where a table is written on purpose beside its own room: in a statement that visitors wait for, and by who holds a lock. */
  const beside: Readonly<Record<string, readonly string[]>> = {
    event: ['transfers/transfers.ts'],
    environment: ['work/worker-identity.ts'],
    installation: ['main/serve.ts'],
  };

  it.each(tables.map(([, name]) => name as string))('have %s written by one room', (table) => {
    // Of a query that names the table, all up to its end: what it calls may lie some lines below.
    const built = new RegExp(
      `\\(\\s*'${table}(?: as \\w+)?'\\)(?:(?!\\b(?:select|first|pluck)\\()[^;])*?\\.(?:insert|update|delete|increment)\\(`,
    );
    const plain = new RegExp(`(?:INSERT INTO|UPDATE|DELETE FROM) ${table}\\b`);
    const writers = sources
      .filter(({ text }) => built.test(text) || plain.test(text))
      .map(({ path }) => relative(SERVICE, path))
      .filter((path) => beside[table]?.includes(path) !== true);
    const rooms = new Set(writers.map((path) => path.split('/')[0]));
    expect([...rooms], `${table}: ${writers.join(', ')}`).toHaveLength(1);
  });
});

it('transfers are started in one place, but for requests and schedules, which stand below or start by themselves', () => {
  expect(filesWith(/\btransfers\.create\(/, [SERVICE], [`${SERVICE}/work/start/`])).toEqual(
    ['requests/deliver.ts', 'requests/preview.ts', 'work/schedules.ts'].map((path) => `${SERVICE}/${path}`),
  );
});

describe('the documents', () => {
  it.each(['architecture.md', 'operating.md', 'performance.md', 'profile.md', 'security.md', 'state.md'])(
    'name no file that is not there: %s',
    (document) => {
      const there = ['packages', 'tests', 'bench'].flatMap((folder) => sourcesIn(folder).map(({ path }) => path));
      const text = fs.readFileSync(join(ROOT, 'docs', document), 'utf8');
      const named = [...text.matchAll(/`([\w./-]+\/[\w.-]+\.tsx?)`/g)].map(([, path]) => path as string);
      const short = (path: string): string => path.replace(/^(service|engine|core|console|cli|contract|client)\//, '');
      const isThere = (path: string): boolean =>
        there.some(
          (one) => one.endsWith(`/${path}`) || one === path || one.replace('/src/', '/').endsWith(`/${short(path)}`),
        );
      expect(named.filter((path) => !isThere(path))).toEqual([]);
    },
  );
});

it('what packages offer says what it is', () => {
  const exported = /^export (?:async )?(?:abstract )?(?:function\*?|class|const|interface|type) (\w+)/;
  // A type that is read off the schema above it, and the answers to calls, of which the contract tells.
  const told = /^export (type (\w+) = z\.infer<typeof \2>|const \w+Handlers: Handlers<)/;
  const untold = [...ABOVE, 'packages/console/src']
    .flatMap(sourcesIn)
    .filter(({ path }) => !path.includes('/migrations/'))
    .flatMap(({ path, text }) => {
      const lines = text.split('\n');
      return lines.flatMap((line, at) =>
        exported.test(line) && !told.test(line) && !lines[at - 1]?.endsWith('*/') ? [`${path}: ${line}`] : [],
      );
    });
  expect(untold).toEqual([]);
});
