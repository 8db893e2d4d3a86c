import { execFileSync } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Worker } from 'node:worker_threads';
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { LocalServer } from '../src/local/local-server.js';
import { EngineError } from '../src/ports/errors.js';
import type { ServerConnection, TreeNode } from '../src/ports/server.js';
import { SshServer } from '../src/ssh/ssh-server.js';
import { type Sshd, startSshd } from './support/sshd.js';

/** Does something by way of a connection whose user is not the superuser, who may read everything. */
type AsNobody = (act: (server: ServerConnection) => Promise<void>) => Promise<void>;

/** What every kind of server connection must do, against a real folder of a real machine. */
function serverConnectionSuite(name: string, connect: () => ServerConnection, asNobody: AsNobody): void {
  describe(`${name} as a server connection`, () => {
    let server: ServerConnection;
    let folder: string;
    const at = (path: string): string => `${folder}/${path}`;
    const listed = async (path = ''): Promise<TreeNode[]> => {
      const nodes: TreeNode[] = [];
      for await (const node of server.listTree(path === '' ? folder : at(path))) nodes.push(node);
      return nodes;
    };
    const failure = async (act: Promise<unknown>): Promise<EngineError> => {
      const error = await act.then(
        () => undefined,
        (thrown: unknown) => thrown,
      );
      if (!(error instanceof EngineError)) throw new Error(`no engine error, but ${String(error)}`);
      return error;
    };

    beforeEach(async () => {
      server = connect();
      folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-server-'));
    });
    afterEach(() => fs.rm(folder, { recursive: true, force: true }));

    it('writes files with content and mode whatever the umask, and reads them back', async () => {
      for (const mode of [0o600, 0o644, 0o777, 0o755]) {
        await server.writeFile(at(`f${mode}`), Buffer.from(`mode ${mode}`), mode);
        expect((await fs.stat(at(`f${mode}`))).mode & 0o7777).toBe(mode);
        expect((await server.readFile(at(`f${mode}`))).toString()).toBe(`mode ${mode}`);
      }
    });

    it('replaces a file in one step: whoever has the old one open keeps it whole', async () => {
      await server.writeFile(at('page'), Buffer.from('old content'), 0o644);
      const open = await fs.open(at('page'));
      await server.writeFile(at('page'), Buffer.from('new'), 0o600);
      expect((await open.readFile()).toString()).toBe('old content');
      await open.close();
      expect((await server.readFile(at('page'))).toString()).toBe('new');
      expect((await fs.stat(at('page'))).mode & 0o777).toBe(0o600);
      expect(await fs.readdir(folder)).toEqual(['page']);
    });

    it('leaves nothing of a file whose content fails half-way, and the old one as it was', async () => {
      async function* broken(): AsyncGenerator<Buffer> {
        yield Buffer.from('half of it');
        throw new Error('the source is gone');
      }
      await failure(server.writeFile(at('fresh'), broken(), 0o644));
      expect(await fs.readdir(folder)).toEqual([]);
      await server.writeFile(at('kept'), Buffer.from('as it was'), 0o644);
      await failure(server.writeFile(at('kept'), broken(), 0o644));
      expect(await fs.readdir(folder)).toEqual(['kept']);
      expect((await server.readFile(at('kept'))).toString()).toBe('as it was');
    });

    it.each([0, 1, 99, 100, 101, 250, 300])('reads %i bytes in pieces of 100', async (size) => {
      const content = Buffer.from(Array.from({ length: size }, (_one, i) => i % 251));
      await server.writeFile(at('big'), content, 0o644);
      const pieces: Buffer[] = [];
      for await (const piece of server.readPieces(at('big'), 100)) pieces.push(piece);
      expect(Buffer.concat(pieces).equals(content)).toBe(true);
      expect(pieces.length).toBe(Math.max(1, Math.ceil(size / 100)));
    });

    it('reads into given memory where the file fits, and whole where it does not', async () => {
      const memory = Buffer.alloc(10);
      for (const text of ['', 'short', '123456789', '1234567890', 'longer than ten bytes']) {
        await server.writeFile(at('f'), Buffer.from(text), 0o644);
        expect((await server.readFile(at('f'), memory)).toString()).toBe(text);
      }
    });

    it('says that a file changed instead of giving its last piece', async () => {
      await server.writeFile(at('f'), Buffer.alloc(250, 1), 0o644);
      const got: number[] = [];
      const read = async (): Promise<void> => {
        for await (const piece of server.readPieces(at('f'), 100)) {
          got.push(piece.length);
          if (got.length === 2) await fs.writeFile(at('f'), Buffer.alloc(250, 2));
        }
      };
      expect((await failure(read())).code).toBe('file-changed');
      expect(got).toEqual([100, 100]);
    });

    it('tells a file that is gone from one that cannot be read', async () => {
      const pieces = async (path: string): Promise<void> => {
        for await (const _piece of server.readPieces(path, 100)) expect.unreachable();
      };
      expect((await failure(server.readFile(at('nothing')))).code).toBe('file-gone');
      expect((await failure(pieces(at('nothing')))).code).toBe('file-gone');
      await fs.writeFile(at('file'), '');
      expect((await failure(server.readFile(at('file/below')))).code).toBe('file-unreadable');
    });

    it('passes over what goes away while a tree is listed', async () => {
      for (const name of ['a', 'b', 'c']) await fs.mkdir(at(name));
      await fs.writeFile(at('c/kept'), '');
      const seen: string[] = [];
      for await (const node of server.listTree(folder)) {
        seen.push(node.path);
        if (node.path === 'a') await fs.rm(at('b'), { recursive: true });
      }
      expect(seen.filter((path) => path !== 'b')).toEqual(['a', 'c', 'c/kept']);
      expect((await failure(listed('nothing'))).code).toBe('file-unreadable');
    });

    it('writes what comes in pieces', async () => {
      async function* pieces(): AsyncGenerator<Buffer> {
        for (let i = 0; i < 5; i++) yield Buffer.alloc(1000, i);
      }
      await server.writeFile(at('streamed'), pieces(), 0o640);
      const content = await fs.readFile(at('streamed'));
      expect(content.length).toBe(5000);
      expect(content[4999]).toBe(4);
    });

    it.each([
      ['few', 0],
      ['many', 300],
    ])('lists everything at once as it does one by one, whatever the names and times, of %s', async (_what, more) => {
      const raw = (name: string): Buffer => Buffer.from(at(name), 'latin1');
      await fs.mkdir(at('a folder/below'), { recursive: true });
      await fs.mkdir(at('empty'), { mode: 0o700 });
      for (const name of ['a folder/below/x', 'a-b', 'with\nline', 'caf\xc3\xa9', 'not utf-8 \xff', '-printf', ' '])
        await fs.writeFile(raw(name), name);
      await fs.symlink('a folder/below/x', at('link'));
      await fs.symlink(Buffer.from('nowhere \xff', 'latin1'), at('a folder/broken'));
      execFileSync('mkfifo', [at('pipe')]);
      for (let i = 0; i < more; i++) await fs.writeFile(at(`a folder/below/${i}`), '');
      await fs.chmod(at('a-b'), 0o4711);
      await fs.utimes(at('a-b'), 1, 1.25);
      await fs.utimes(at('-printf'), -5, -5);
      await fs.utimes(at(' '), 0, 0);
      const whole = [...(await server.listWhole(folder)).nodes].sort((a, b) => (a.path < b.path ? -1 : 1));
      const plainly = ({
        path,
        type,
        mode,
        bytes,
        identity,
        file,
        written,
        changedAtNs,
        modified,
        target,
      }: TreeNode) => ({
        ...{ path, type, mode, bytes, file, changedAtNs, modified, target },
        written: path === '-printf' ? '' : written,
        identity: path === '-printf' ? '' : identity,
      });
      expect(whole.map(plainly)).toEqual((await listed()).sort((a, b) => (a.path < b.path ? -1 : 1)).map(plainly));
      expect(whole.length).toBe(13 + more);
      expect((await failure(server.listWhole(at('nowhere')))).code).toBe((await failure(listed('nowhere'))).code);
    });

    it.each([
      ['few', 1],
      ['many', 30],
    ])('lists one tree of %s files, whatever the root leads to in the next moment', async (_what, files) => {
      for (const tree of ['one', 'two'])
        for (let i = 0; i < 10; i++) {
          await fs.mkdir(at(`trees/${tree}/${i}`), { recursive: true });
          for (let k = 0; k < files; k++) await fs.writeFile(at(`trees/${tree}/${i}/${tree} ${k}`), '');
        }
      await fs.symlink('trees/one', at('main'));
      const switching = new Worker(
        `const fs = require('node:fs');
         for (let i = 0; ; i++) {
           fs.symlinkSync(i % 2 ? 'trees/one' : 'trees/two', process.argv[2] + '.via');
           fs.renameSync(process.argv[2] + '.via', process.argv[2]);
         }`,
        { eval: true, argv: [at('main')] },
      );
      try {
        for (let i = 0; i < 100; i++) {
          const { nodes } = await server.listWhole(at('main'));
          const found = nodes.filter(({ type }) => type === 'file').map(({ path }) => path.split(/[/ ]/)[1]);
          expect([new Set(found).size, found.length]).toEqual([1, 10 * files]);
        }
      } finally {
        await switching.terminate();
      }
    });

    it('gives a file the time that is wished for, and its identity with it', async () => {
      const identity = await server.writeFile(at('new'), Buffer.from('x'), 0o640, { modified: 1.25 });
      expect(await server.nodeAt(at('new'))).toMatchObject({ modified: 1.25, identity, mode: 0o640 });
      await server.writeFile(at('new'), Buffer.from('y'), 0o600, { modified: 1_700_000_000.125 });
      expect(await server.nodeAt(at('new'))).toMatchObject({ modified: 1_700_000_000.125, mode: 0o600 });
    });

    it('gives a file another identity when content, mode or name change, and the same when nothing does', async () => {
      const first = await server.writeFile(at('f'), Buffer.from('1'), 0o644);
      expect(await server.identityOf(at('f'))).toBe(first);
      expect((await listed()).find((node) => node.path === 'f')?.identity).toBe(first);
      const seen = new Set([first]);
      const changes = [
        () => fs.writeFile(at('f'), '2'),
        () => fs.chmod(at('f'), 0o600),
        () => fs.link(at('f'), at('second name')),
        () => server.writeFile(at('f'), Buffer.from('2'), 0o600),
      ];
      for (const change of changes) {
        // Two changes within one tick of the clock may look alike; nobody relies on telling those apart.
        await new Promise((resolve) => setTimeout(resolve, 20));
        await change();
        const now = (await server.identityOf(at('f'))) as string;
        expect(seen.has(now)).toBe(false);
        seen.add(now);
      }
      expect(await server.identityOf(at('nothing'))).toBeUndefined();
    });

    it('knows a file under each of its names, and whether its content was written', async () => {
      await server.writeFile(at('f'), Buffer.from('1'), 0o644);
      const node = async (name: string): Promise<TreeNode> => (await server.nodeAt(at(name))) as TreeNode;
      const first = await node('f');
      await new Promise((resolve) => setTimeout(resolve, 20));
      await fs.link(at('f'), at('second name'));
      await fs.chmod(at('f'), 0o600);
      const second = (await server.listWhole(folder)).nodes.find(({ path }) => path === 'second name') as TreeNode;
      expect([second.file, second.written]).toEqual([first.file, first.written]);
      expect(second.identity).not.toBe(first.identity);
      await fs.writeFile(at('f'), '2');
      expect((await node('second name')).file).toBe(first.file);
      expect((await node('second name')).written).not.toBe(first.written);
      await server.copyFile(at('third'), at('f'));
      expect((await node('third')).file, 'a file of its own').not.toBe(first.file);
      await server.writeFile(at('f'), Buffer.from('2'), 0o600);
      expect((await node('f')).file, 'one that took its place').not.toBe(first.file);
    });

    it('lists a tree in byte order, folders before what is in them, links not followed', async () => {
      await fs.mkdir(at('b/inner'), { recursive: true });
      await fs.writeFile(at('b/inner/x'), '');
      await fs.writeFile(at('B'), 'upper');
      await fs.writeFile(at('a'), '12345');
      await fs.symlink('b', at('link'));
      await fs.symlink('/nowhere at all', at('lost'));
      const nodes = await listed();
      expect(nodes.map((node) => `${node.type} ${node.path}`)).toEqual([
        'file B',
        'file a',
        'folder b',
        'folder b/inner',
        'file b/inner/x',
        'link link',
        'link lost',
      ]);
      expect(nodes.find((node) => node.path === 'a')?.bytes).toBe(5);
      for (const node of [nodes[1], await server.nodeAt(at('a'))])
        expect({ ...node, path: 'moved' }, 'others may be made of them').toMatchObject({ bytes: 5, path: 'moved' });
      expect(nodes.find((node) => node.path === 'lost')?.target).toBe('/nowhere at all');
    });

    it('carries names that are not UTF-8, hold newlines, quotes or emoji', async () => {
      const names = [
        'caf\u00e9',
        'ca\xff\xfe',
        'new\nline',
        `quo'te"`,
        Buffer.from('🧵').toString('latin1'),
        ' ',
        '-rf',
      ];
      for (const name of names) await server.writeFile(at(name), Buffer.from(name, 'latin1'), 0o644);
      const nodes = await listed();
      expect(nodes.map((node) => node.path)).toEqual([...names].sort());
      for (const name of names) expect((await server.readFile(at(name))).toString('latin1')).toBe(name);
      for (const name of names) await server.remove(at(name));
      expect(await listed()).toEqual([]);
    });

    it('names a pipe and a socket as special, so that nobody waits on one', async () => {
      execFileSync('mkfifo', [at('pipe')]);
      expect((await listed()).map((node) => node.type)).toEqual(['special']);
    });

    it('lets a link lead elsewhere in one step, also where there was none', async () => {
      await server.makeFolder(at('one'));
      await server.makeFolder(at('two'));
      await server.replaceLink(at('main'), 'one', at('.via'));
      expect(await server.readLink(at('main'))).toBe('one');
      const reader = (async () => {
        for (let i = 0; i < 400; i++) expect(['one', 'two']).toContain(await server.readLink(at('main')));
      })();
      for (let i = 0; i < 50; i++) await server.replaceLink(at('main'), i % 2 ? 'one' : 'two', at('.via'));
      await reader;
      expect(await server.readLink(at('one'))).toBeUndefined();
      expect(await server.readLink(at('nothing'))).toBeUndefined();
    });

    it('gives the files of a tree second names below another one, and passes over what has gone', async () => {
      const names = ['top', 'deep/a', 'deep/\xff \n', 'deep/er/b', 'deep/link'];
      for (const name of names.slice(0, 4)) {
        await server.makeFolder(at(`from/${name}`.split('/').slice(0, -1).join('/')));
        await server.writeFile(at(`from/${name}`), Buffer.from(name, 'latin1'), 0o640);
      }
      await server.makeLink(at('from/deep/link'), 'a');
      for (const to of ['to/deep/er', 'to/gone']) await server.makeFolder(at(to));
      await server.linkTree(at('to'), at('from'), [...names, 'deep/never', 'gone/never']);
      const inodes = async (path: string) =>
        (await listed(path)).flatMap((node) => (node.type === 'folder' ? [] : [`${node.path} ${node.file}`]));
      expect(await inodes('to')).toEqual(await inodes('from'));
      expect(await inodes('to')).toHaveLength(names.length);
      await expect(server.linkTree(at('to'), at('from'), ['top'])).rejects.toThrow(EngineError);
    });

    it('makes many files like others at once, and says which of them hold some words', async () => {
      const big = Buffer.concat([Buffer.alloc(262_140, 'x'), Buffer.from('a secret word'), Buffer.alloc(300_000, 'y')]);
      const contents = { 'from/a': 'plain', 'from/\xff \n': 'of a secret word', 'from/empty': '', 'from/big': big };
      for (const to of ['from', 'to']) await server.makeFolder(at(to));
      for (const [name, content] of Object.entries(contents))
        await server.writeFile(at(name), Buffer.from(content), 0o600);
      await server.writeFile(at('to/a'), Buffer.from('of before'), 0o600);
      const names = [...Object.keys(contents), 'from/never'];
      const made = await server.copyMany(
        names.map((name) => ({
          from: at(name),
          to: at(name.replace('from', 'to')),
          mode: 0o640,
          modified: 1_700_000_000,
        })),
        ['a secret word', 'pla', 'nothing'],
      );
      expect(made.map((one) => one?.holds)).toEqual([[1], [0], [], [0], undefined]);
      for (const [i, [name, content]] of Object.entries(contents).entries()) {
        const to = at(name.replace('from', 'to'));
        expect((await server.readFile(to)).equals(Buffer.from(content))).toBe(true);
        expect(await server.nodeAt(to)).toMatchObject({
          mode: 0o640,
          modified: 1_700_000_000,
          identity: made[i]?.identity,
        });
      }
      expect((await listed('to')).length).toBe(4);
      expect(await server.copyMany([], [])).toEqual([]);
      const outside = [{ from: '/etc/hostname', to: at('to/stolen'), mode: 0o640 }];
      expect((await failure(server.copyMany(outside, []))).code).toBe('file-refused');
    });

    it('removes what is there, links and not what they lead to, and does not mind what is not', async () => {
      await server.makeFolder(at('keep'));
      await server.writeFile(at('keep/file'), Buffer.from('x'), 0o644);
      await server.makeFolder(at('gone/deep'));
      await server.makeLink(at('gone/link'), '../keep');
      await server.remove(at('gone'));
      await server.remove(at('gone'));
      expect(await server.exists(at('gone'))).toBe(false);
      expect(await server.exists(at('keep/file'))).toBe(true);
      expect(await server.exists(at('keep/file/below a file'))).toBe(false);
    });

    it('names the path that cannot be read, and what is in the way', async () => {
      expect((await failure(server.readFile(at('missing')))).message).toContain(at('missing'));
      await server.makeFolder(at('folder'));
      expect((await failure(server.readFile(at('folder')))).code).toBe('file-refused');
      const error = await failure(server.writeFile(at('missing/below'), Buffer.from(''), 0o644));
      expect(error.message).toContain('missing/below');
    });

    it('names a file that it may not read, and does not take it for gone', async () => {
      await fs.chmod(folder, 0o755);
      await fs.writeFile(at('secret'), 'x');
      await fs.chmod(at('secret'), 0);
      await asNobody(async (nobody) => {
        const error = await failure(nobody.readFile(at('secret')));
        expect(error.code).toBe('file-unreadable');
        expect(error.message).toBe(`${at('secret')} cannot be opened: permission denied.`);
        expect(error.next).toContain('leave the path out');
        const pieces = async (): Promise<void> => {
          for await (const _piece of nobody.readPieces(at('secret'), 10));
        };
        expect((await failure(pieces())).code).toBe('file-unreadable');
      });
    });

    it('runs a program of a site as one is run from a shell, and keeps the end of what it says', async () => {
      await server.makeFolder(at('own'));
      const script = 'yes | head -c 200000 | tail -c 3; echo "$HOME" "$#" "$1"; echo the reason >&2; exit 3';
      const options = { environment: at('own'), folder: at('own'), hidden: [], timeoutSeconds: 30 };
      const ended = await server.run('sh', ['-c', script, 'sh', "it's"], options);
      expect(ended).toEqual({ code: 3, output: `\ny\n${at('own')} 1 it's\n`, errors: 'the reason\n' });
      const late = await server.run('sh', ['-c', 'sleep 60'], { ...options, timeoutSeconds: 1 });
      expect([late.code === 0, late.errors]).toEqual([
        false,
        expect.stringMatching(/ended after 1 s, which is all that it has$/),
      ]);
    });

    it('tells the room that is left', async () => {
      const free = await server.freeBytes(folder);
      expect(free).toBeGreaterThan(0);
      expect(Number.isSafeInteger(free)).toBe(true);
    });
  });
}

const isRoot = process.getuid?.() === 0;
const NOBODY = 65_534;
const BASE = tmpdir();

serverConnectionSuite(
  'the machine itself',
  () => new LocalServer(BASE),
  async (act) => {
    if (isRoot) process.seteuid?.(NOBODY);
    try {
      await act(new LocalServer(BASE));
    } finally {
      if (isRoot) process.seteuid?.(0);
    }
  },
);

describe('reached by SSH', () => {
  let sshd: Sshd;
  const connected = (to: Sshd) => new SshServer({ kind: 'ssh', base: BASE, at: to.place });
  beforeAll(async () => {
    sshd = await startSshd();
  });
  afterAll(() => sshd.stop());
  serverConnectionSuite(
    'a server',
    () => connected(sshd),
    async (act) => {
      const asNobody = `ForceCommand setpriv --reuid=${NOBODY} --regid=${NOBODY} --clear-groups sh -c "$SSH_ORIGINAL_COMMAND"`;
      const other = await startSshd(isRoot ? [asNobody] : []);
      try {
        await act(connected(other));
      } finally {
        await other.stop();
      }
    },
  );
});
