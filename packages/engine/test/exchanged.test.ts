import { type ChildProcess, execFileSync, spawn, spawnSync } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { tried } from '../../../tests/attacks/tried.js';
import { isMeant } from '../src/local/below.js';
import { LocalServer } from '../src/local/local-server.js';
import { EngineError } from '../src/ports/errors.js';
import type { ServerConnection } from '../src/ports/server.js';
import { SshServer } from '../src/ssh/ssh-server.js';
import { type Sshd, startSshd } from './support/sshd.js';

const SECRET = 'another client’s';
const hasAcls = spawnSync('setfacl', ['--version']).status === 0;
/** How often each act is tried while things are exchanged. */
const ROUNDS = Number(process.env.TESSARION_EXCHANGES ?? 8);

/** How a folder is reached, which the site's own user writes in. */
const KINDS = ['local', 'ssh'] as const;

let base: string;
let outside: string;
let server: ServerConnection;
let sshd: Sshd;
const at = (path: string): string => join(base, 'loom--live', path);

beforeAll(async () => {
  base = await fs.mkdtemp(join(tmpdir(), 'tessarion-exchanged-'));
  outside = await fs.mkdtemp(join(tmpdir(), 'tessarion-outside-'));
  sshd = await startSshd();
});
afterAll(async () => {
  await sshd.stop();
  await fs.rm(base, { recursive: true });
  await fs.rm(outside, { recursive: true });
});
beforeEach(async () => {
  for (const folder of [base, outside]) {
    await fs.rm(folder, { recursive: true, force: true });
    await fs.mkdir(folder);
  }
  await fs.mkdir(join(outside, 'deep'));
  for (const name of ['file', 'deep/file']) await fs.writeFile(join(outside, name), SECRET);
  await fs.mkdir(at('trees/main-1/media/deep'), { recursive: true });
  await fs.symlink('trees/main-1', at('main'));
  for (const name of ['file', 'deep/file']) await fs.writeFile(at(`main/media/${name}`), 'own');
});

/** Everything outside, by its path. */
async function outsideNow(): Promise<string[]> {
  const found: string[] = [];
  for (const entry of await fs.readdir(outside, { recursive: true, withFileTypes: true })) {
    const path = join(entry.parentPath, entry.name);
    const { mode, nlink } = await fs.lstat(path);
    found.push(`${path} ${mode.toString(8)} ${nlink} ${entry.isFile() ? await fs.readFile(path, 'utf8') : ''}`);
  }
  return found.sort();
}

/** A site of its own that exchanges a path for another thing and back, as fast as it can. */
async function exchanging(path: string, other: string, make: string): Promise<ChildProcess> {
  const child = spawn(process.execPath, [
    '-e',
    `const fs = require('fs'), [path, other] = process.argv.slice(1), aside = path + '.aside';
     const tried = (act) => { try { act(); } catch {} };
     process.stdout.write('.');
     // It ends with whoever started it.
     for (const parent = process.ppid; process.ppid === parent; ) {
       tried(() => fs.renameSync(path, aside));
       tried(() => ${make});
       tried(() => fs.rmSync(path, { recursive: false }));
       tried(() => fs.renameSync(aside, path));
     }`,
    path,
    other,
  ]);
  await new Promise((resolve) => child.stdout?.once('data', resolve));
  return child;
}

const ACTS: readonly (readonly [string, (i: number) => Promise<unknown>])[] = [
  ['reads a file', () => server.readFile(at('main/media/deep/file')).then(String)],
  [
    'reads a file in pieces',
    async () => {
      let text = '';
      for await (const piece of server.readPieces(at('main/media/file'), 4)) text += piece.toString();
      return text;
    },
  ],
  [
    'lists a tree',
    async () => {
      const nodes = [];
      for await (const node of server.listTree(at('main'))) nodes.push(node);
      return nodes;
    },
  ],
  ['lists a tree at once', async () => (await server.listWhole(at('main/media'))).nodes],
  ['looks at an entry', () => server.nodeAt(at('main/media/deep/file'))],
  ['writes a file', (i) => server.writeFile(at('main/media/deep/file'), Buffer.from(`own ${i}`), 0o600)],
  ['writes a new file', (i) => server.writeFile(at(`main/media/deep/new-${i}`), Buffer.from('own'), 0o666)],
  ['makes a folder', (i) => server.makeFolder(at(`main/media/deep/more-${i}/below`), 0o777)],
  ['gives a folder a mode', () => server.makeFolder(at('main/media/deep'), 0o777)],
  [
    'gives access control lists',
    async (i) => {
      const acl = `user::rwx\nuser:${1000 + i}:rwx\ngroup::r-x\nmask::rwx\nother::rwx`;
      const paths = ['main/media/deep', 'main/media/deep/file'].map(at);
      if (hasAcls) await server.writeAcls(new Map(paths.map((path) => [path, acl])));
    },
  ],
  ['makes a link', (i) => server.makeLink(at(`main/media/deep/link-${i}`), '/etc')],
  ['makes a second name', (i) => server.makeHardLink(at(`main/second-${i}`), at('main/media/deep/file'))],
  [
    'makes a second name there',
    (i) => server.makeHardLink(at(`main/media/deep/second-${i}`), at('trees/main-1/other')),
  ],
  [
    'makes second names of a whole folder',
    async (i) => {
      await server.makeFolder(at(`second-${i}/media/deep`));
      await server.linkTree(at(`second-${i}`), at('main'), ['media/deep/file', 'media/file']);
    },
  ],
  [
    'makes second names in a whole folder',
    async (i) => {
      await server.makeFolder(at(`from-${i}/media/deep`));
      await server.writeFile(at(`from-${i}/media/deep/again-${i}`), Buffer.from('own'), 0o600);
      await server.linkTree(at('main'), at(`from-${i}`), [`media/deep/again-${i}`]);
    },
  ],
  ['renames into it', (i) => server.rename(at('trees/main-1/other'), at(`main/media/deep/renamed-${i}`))],
  ['renames out of it', (i) => server.rename(at('main/media/deep/file'), at(`renamed-${i}`))],
  ['exchanges a link', () => server.replaceLink(at('main/media/deep/a'), 'b', at('main/media/deep/.a'))],
  ['removes a file', () => server.remove(at('main/media/deep/file'))],
  ['removes a folder', () => server.remove(at('main/media'))],
];

describe.each(KINDS)('by a connection of the kind %s', (kind) => {
  beforeAll(() => {
    server = kind === 'local' ? new LocalServer(base) : new SshServer({ kind, base, at: sshd.place });
  });

  describe.each<readonly [string, string, string]>([
    ['a folder for a link out', 'main/media', 'fs.symlinkSync(other, path)'],
    ['a folder below for a link out', 'main/media/deep', "fs.symlinkSync(other + '/deep', path)"],
    ['a file for a link out', 'main/media/deep/file', "fs.symlinkSync(other + '/file', path)"],
    ['a file for a pipe', 'main/media/file', "require('child_process').execFileSync('mkfifo', [path])"],
    ['the root for a link out', 'main', 'fs.symlinkSync(other, path)'],
  ])('while a site exchanges %s', (_what, victim, make) => {
    it.each(ACTS)('whoever %s touches nothing outside', async (_act, act) => {
      const before = await outsideNow();
      const site = await exchanging(at(victim), outside, make);
      try {
        for (let i = 0; i < ROUNDS; i++) {
          await fs.writeFile(at('trees/main-1/other'), 'own').catch(() => undefined);
          tried('files exchanged');
          const found = await act(i).catch((error: unknown) => {
            if (!(error instanceof EngineError)) throw error;
            return error.code;
          });
          const text = JSON.stringify(found, (_key, value) => (typeof value === 'bigint' ? `${value}` : value));
          expect(text ?? '').not.toContain(SECRET);
        }
      } finally {
        site.kill('SIGKILL');
        await new Promise((resolve) => site.once('exit', resolve));
      }
      expect(await outsideNow()).toEqual(before);
    });
  });

  describe('a link that stands still', () => {
    it.each(ACTS)('keeps whoever %s inside', async (_act, act) => {
      await fs.rm(at('main/media'), { recursive: true });
      await fs.symlink(outside, at('main/media'));
      const before = await outsideNow();
      tried('files exchanged');
      await act(0).catch((error: EngineError) => expect(error).toBeInstanceOf(EngineError));
      expect(await outsideNow()).toEqual(before);
    });

    it('in place of a file is refused by name, and a pipe makes nobody wait', async () => {
      await fs.rm(at('main/media/file'));
      await fs.symlink(join(outside, 'file'), at('main/media/file'));
      await expect(server.readFile(at('main/media/file'))).rejects.toMatchObject({
        code: 'file-refused',
        message: expect.stringContaining('is no file any more'),
      });
      await fs.rm(at('main/media/file'));
      execFileSync('mkfifo', [at('main/media/file')]);
      await expect(server.readFile(at('main/media/file'))).rejects.toMatchObject({ code: 'file-refused' });
    });

    it('of another environment, or in another folder, is outside as well', async () => {
      await fs.mkdir(join(base, 'other--live/main'), { recursive: true });
      await fs.writeFile(join(base, 'other--live/main/file'), SECRET);
      await fs.rm(at('main/media'), { recursive: true });
      await fs.symlink('../../../other--live/main', at('main/media'));
      await expect(server.readFile(at('main/media/file'))).rejects.toMatchObject({ code: 'file-refused' });
      await fs.mkdir(at('main/config'));
      await fs.writeFile(at('main/config/file'), SECRET);
      await fs.rm(at('main/media'));
      await fs.symlink('config', at('main/media'));
      await expect(server.readFile(at('main/media/file'))).rejects.toMatchObject({ code: 'file-refused' });
      await expect(server.readFile('/etc/passwd')).rejects.toMatchObject({ code: 'file-refused' });
      await expect(server.makeFolder(join(outside, 'new'))).rejects.toMatchObject({ code: 'file-refused' });
      await expect(server.remove(join(outside, 'file'))).rejects.toMatchObject({ code: 'file-refused' });
      expect(await fs.readdir(outside)).toEqual(['deep', 'file']);
    });
  });
});

describe('the links of a layout', () => {
  it('lead from a root to its tree, and from a tree to a kept area, and nowhere else', () => {
    const yes: [string, string][] = [
      ['loom/main/a/b', 'loom/main/a/b'],
      ['loom/main', 'loom/trees/main-1'],
      ['loom/main/a/b', 'loom/trees/main-1/a/b'],
      ['loom/main/media/a', 'loom/keep/main/uploads/a'],
      ['loom/main/media', 'loom/keep/main/uploads'],
      ['loom/trees/main-1/media/a', 'loom/keep/main/uploads/a'],
    ];
    const no: [string, string][] = [
      ['loom/main/a/b', 'other/main/a/b'],
      ['loom/main/a/b', 'loom/trees/main-1/a/c'],
      ['loom/main/a/b', 'loom/main/a/c'],
      ['loom/main/a', 'loom/trees'],
      ['loom/main/a', 'loom/keep'],
      ['loom/main/media/a', 'loom/keep/main/uploads/b'],
      ['loom/main/media/a', 'loom/keep/main/uploads/media/a/main/media/a'],
    ];
    for (const [asked, found] of yes) expect([asked, found, isMeant(asked, found)]).toEqual([asked, found, true]);
    for (const [asked, found] of no) expect([asked, found, isMeant(asked, found)]).toEqual([asked, found, false]);
  });

  it('never lead to another name, or out of their environment', () => {
    const name = fc.constantFrom('a', 'b', 'main', 'trees', 'keep');
    const path = fc.array(name, { minLength: 1, maxLength: 6 });
    fc.assert(
      fc.property(path, path, (asked, found) => {
        if (!isMeant(asked.join('/'), found.join('/'))) return;
        expect(found[0]).toBe(asked[0]);
        const last = ['trees', 'keep'].includes(found[1] ?? '') && found.length <= (found[1] === 'keep' ? 4 : 3);
        if (!last) expect(found.at(-1)).toBe(asked.at(-1));
      }),
    );
  });
});
