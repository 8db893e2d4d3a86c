import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { LocalServer } from '../src/local/local-server.js';

/** A user who owns the site, and one who owns another; neither needs a name. */
const [SITE, OTHER] = [12_001, 12_002];
const isRoot = process.getuid?.() === 0;

let folder: string;
let base: string;
let own: string;
let data: string;
let server: LocalServer;

beforeAll(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-apart-'));
  await fs.chmod(folder, 0o755);
  [base, data] = [join(folder, 'hosts'), join(folder, 'data')];
  own = join(base, 'shop--live');
  for (const [path, owner] of [
    [own, SITE],
    [join(base, 'ferry--live'), OTHER],
  ] as const) {
    await fs.mkdir(join(path, 'main'), { recursive: true });
    await fs.writeFile(join(path, 'main/settings'), 'a password');
    if (isRoot)
      for (const one of [path, join(path, 'main'), join(path, 'main/settings')]) await fs.chown(one, owner, owner);
  }
  await fs.mkdir(data);
  await fs.writeFile(join(data, 'master.key'), 'the key');
  process.env.TESSARION_SECRET = 'not for sites';
  server = new LocalServer(base);
}, 20_000);
afterAll(async () => {
  delete process.env.TESSARION_SECRET;
  await fs.rm(folder, { recursive: true });
});

/** What a program of the site says. */
const run = (script: string, environment = own, timeoutSeconds = 20) =>
  server.run('sh', ['-c', script], { environment, folder: join(environment, 'main'), hidden: [data], timeoutSeconds });
const say = async (script: string): Promise<string> => {
  const { code, output, errors } = await run(script);
  return code === 0 ? output.trim() : `${code}: ${errors.trim()}`;
};

const BOTH = [
  ['as whom Tessarion runs', () => undefined],
  ['as somebody who is not root', () => vi.spyOn(process, 'getuid').mockReturnValue(SITE)],
] as const;

describe.each(BOTH)('a program of a site, %s', (_who, mock) => {
  beforeAll(() => void mock());
  afterAll(() => vi.restoreAllMocks());

  it('works in its own folder, and sees no other site, nor what is Tessarion’s', async () => {
    expect(await say('pwd')).toBe(join(own, 'main'));
    expect(await say(`ls ${base}`)).toBe('shop--live');
    expect(await say(`ls -a ${data} | wc -l`)).toBe('2');
    expect(await say(`cat ${data}/master.key`)).toMatch(/^1: .*No such file/);
    expect(await say('cat settings')).toBe('a password');
    expect(await say('env')).not.toContain('not for sites');
    expect(await say('cat /proc/[0-9]*/environ | tr "\\0" "\\n"')).not.toContain('not for sites');
    expect(await say('ls -d /proc/[0-9]* | wc -l')).toMatch(/^[1-4]$/);
  });

  it('has no privileges, and cannot take the cover away', async () => {
    expect(await say('grep -E "^Cap(Eff|Prm|Bnd|Amb)" /proc/self/status | cut -f2 | sort -u')).toBe('0'.repeat(16));
    expect(await say('grep NoNewPrivs /proc/self/status | cut -f2')).toBe('1');
    expect(await say(`umount ${data} && cat ${data}/master.key`)).not.toContain('the key');
    expect(await say('mount -t tmpfs none /mnt')).toMatch(/^\d+: /);
  });

  it('ends in time with all that it started, and no more is kept of what it says than the end', async () => {
    const mark = `${4000 + Math.floor(Math.random() * 900)}`;
    const late = await run(`sleep ${mark} & sleep ${mark}`, own, 1);
    expect(late.code).not.toBe(0);
    expect(late.errors).toContain('after 1 s');
    await run(`sleep ${mark} & true`);
    const left = async (): Promise<string[]> => {
      const found: string[] = [];
      for (const pid of await fs.readdir('/proc')) {
        const words = await fs.readFile(`/proc/${pid}/cmdline`, 'utf8').catch(() => '');
        if (words === `sleep\0${mark}\0`) found.push(pid);
      }
      return found;
    };
    await expect.poll(left).toEqual([]);
    const { output } = await run('yes | head -c 3000000; echo the end');
    expect(output.length).toBeLessThanOrEqual(65_536);
    expect(output.endsWith('the end\n')).toBe(true);
  });

  it('is given its words as they are', async () => {
    const words = '$(touch pwned); `id` "\'';
    const given = await server.run('printf', ['%s', words], {
      environment: own,
      folder: join(own, 'main'),
      hidden: [],
      timeoutSeconds: 5,
    });
    expect([given.code, given.output]).toEqual([0, words]);
    expect((await run('exit 7')).code).toBe(7);
  });

  it('may take so many processes, files and so much memory, and leaves no picture of itself', async () => {
    expect(await say('ulimit -n; ulimit -u 2>/dev/null || ulimit -p; ulimit -d; ulimit -c')).toBe(
      '1024\n512\n4194304\n0',
    );
  });
});

it('says so where there is no such program', async () => {
  const { code, errors } = await server.run('no-such-program', [], {
    environment: own,
    folder: join(own, 'main'),
    hidden: [],
    timeoutSeconds: 5,
  });
  expect([code, errors]).toEqual([127, expect.stringContaining('no-such-program')]);
});

describe.runIf(isRoot)('where Tessarion is root', () => {
  it('runs a site’s program as whom the site belongs to, and root’s as nobody', async () => {
    expect(await say('id -u; id -g; id -G')).toBe(`${SITE}\n${SITE}\n${SITE}`);
    expect(await say('echo x > made && stat -c %u made')).toBe(`${SITE}`);
    const roots = join(base, 'roots--live');
    await fs.mkdir(join(roots, 'main'), { recursive: true });
    expect((await run('id -u; touch made', roots)).output).toBe('65534\n');
    expect(await fs.readdir(join(roots, 'main'))).toEqual([]);
    await fs.rm(roots, { recursive: true });
  });

  it('gives what it makes to whom the folder belongs to, and makes no program that runs as somebody else', async () => {
    await server.makeFolder(join(own, 'trees/1'), 0o2755);
    await server.writeFile(join(own, 'trees/1/tool'), Buffer.from('#!/bin/sh'), 0o6755);
    await server.writeFile(join(own, 'trees/1/tool'), Buffer.from('#!/bin/sh -e'), 0o4711);
    const [tree, tool] = [await fs.stat(join(own, 'trees/1')), await fs.stat(join(own, 'trees/1/tool'))];
    expect([tree.uid, tree.gid, tool.uid, tool.gid]).toEqual([SITE, SITE, SITE, SITE]);
    expect([tree.mode & 0o7777, tool.mode & 0o7777]).toEqual([0o2755, 0o711]);
    await fs.chmod(join(own, 'trees/1/tool'), 0o4755);
    expect((await server.nodeAt(join(own, 'trees/1/tool')))?.mode).toBe(0o755);
    expect((await server.listWhole(own)).nodes.find((node) => node.path === 'trees/1/tool')?.mode).toBe(0o755);
    await fs.rm(join(own, 'trees'), { recursive: true });
  });
});
