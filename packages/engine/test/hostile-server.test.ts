import { execFileSync } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { createServer, connect as dial, type Server, type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { utils } from 'ssh2';
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it, vi } from 'vitest';
import { EngineError } from '../src/ports/errors.js';
import { closeLinks, hostKeyOf, newLoginKey, publicHalfOf, type SshPlace, tryLogin } from '../src/ssh/link.js';
import { SshServer } from '../src/ssh/ssh-server.js';
import { type Sshd, startSshd } from './support/sshd.js';

const isRoot = process.getuid?.() === 0;
/** How long a program of this run sleeps, and of no other. */
const ALONE = String(10_000_000 + process.pid);
let base: string;
let sshd: Sshd;
const others: Sshd[] = [];

beforeAll(async () => {
  sshd = await startSshd();
});
afterAll(() => sshd.stop());
beforeEach(async () => {
  base = await fs.mkdtemp(join(tmpdir(), 'tessarion-hostile-'));
});
afterEach(async () => {
  for (const one of others.splice(0)) await one.stop();
  await fs.rm(base, { recursive: true, force: true });
});

const serverAt = (at: SshPlace): SshServer => new SshServer({ kind: 'ssh', base, at });

/** A server whose commands all go through a script, in which `"$SSH_ORIGINAL_COMMAND"` is what was asked for. */
async function through(script: string): Promise<SshServer> {
  await fs.writeFile(join(base, 'gate'), `#!/bin/sh\n${script}\n`, { mode: 0o755 });
  const other = await startSshd([`ForceCommand ${join(base, 'gate')}`]);
  others.push(other);
  return serverAt(other.place);
}

async function failure(act: Promise<unknown>): Promise<EngineError> {
  const error = await act.then(
    () => undefined,
    (thrown: unknown) => thrown,
  );
  if (error instanceof EngineError) return error;
  throw new Error(`no engine error, but ${String(error)}`);
}

describe('a server that is not what it seems', () => {
  it('is refused when it shows another host key, whatever kind it is of', async () => {
    for (const kind of ['ed25519', 'ecdsa'] as const) {
      const other = kind === 'ecdsa' ? utils.generateKeyPairSync(kind, { bits: 256 }) : await newLoginKey('other');
      const hostKey = other.public.split(' ')[1] as string;
      const error = await failure(tryLogin({ ...sshd.place, hostKey }));
      expect(error.code).toBe('server-unreachable');
      expect(error.message).toContain('shows another host key');
      expect(error.next).toContain('Somebody may stand in between');
    }
    expect(await hostKeyOf({ ...sshd.place, hostKey: null })).toBe(sshd.place.hostKey);
    expect((await failure(tryLogin({ ...sshd.place, hostKey: null }))).message).toContain('Nobody has confirmed');
  });

  it('makes folders that nobody else may write in, those above its own too', async () => {
    const own = new SshServer({ kind: 'ssh', base: `${base}/not/there`, at: sshd.place });
    await own.makeFolder(`${base}/not/there/site`);
    for (const folder of ['not', 'not/there', 'not/there/site'])
      expect((await fs.stat(join(base, folder))).mode & 0o777, folder).toBe(0o755);
  });

  it('gets keys that are whole, each of them', async () => {
    for (let n = 0; n < 600; n++) {
      const { public: line, private: key } = await newLoginKey('whole');
      expect(Buffer.from(line.split(' ')[1] as string, 'base64').length).toBe(51);
      expect(await publicHalfOf(key, 'whole')).toBe(line.trim());
    }
  });

  it('is told from one that does not know the key, and from one that is not there', async () => {
    const { private: key } = await newLoginKey('nobody');
    expect((await failure(tryLogin({ ...sshd.place, key }))).message).toContain('does not accept the key');
    expect((await failure(tryLogin({ ...sshd.place, port: 1 }))).message).toContain('cannot be reached');
    const jump = { ...sshd.place, port: 1 };
    expect((await failure(tryLogin({ ...sshd.place, jump }))).message).toContain('127.0.0.1:1 cannot be reached');
  });

  it('may say what it likes before a program begins', async () => {
    const server = await through(
      'echo Welcome to the harbour; echo news >&2; head -c 100000 /dev/zero; eval "$SSH_ORIGINAL_COMMAND"',
    );
    await server.writeFile(`${base}/file`, Buffer.from('all the same'), 0o644);
    expect((await server.readFile(`${base}/file`)).toString()).toBe('all the same');
  });

  it('is refused by name where it says too much, runs something else, or has no Python', async () => {
    const loud = await through('head -c 1000000 /dev/zero; eval "$SSH_ORIGINAL_COMMAND"');
    expect((await failure(loud.exists(base))).message).toContain('say too much');
    const bound = await through('echo This account is for backups.');
    const error = await failure(bound.exists(base));
    expect(error.message).toContain('This account is for backups.');
    expect(error.next).toContain('a key that is bound to one command gives none');
    const bare = await through(
      `PATH=/nowhere; export PATH; eval "exec /bin/sh -c \${SSH_ORIGINAL_COMMAND#exec sh -c }"`,
    );
    expect((await failure(bare.exists(base))).message).toContain('Python 3 is not there');
  });

  it('tells how far its clock is off, and what was written there a moment ago is young all the same', async () => {
    await fs.mkdir(join(base, 'bin'));
    const late = 'import time as t;now=t.time;t.time=lambda:now()-7200;';
    await fs.writeFile(join(base, 'bin/python3'), `#!/bin/sh\nexec /usr/bin/python3 "$1" "${late}$2"\n`, {
      mode: 0o755,
    });
    const server = await through(`PATH=${base}/bin:$PATH; export PATH; eval "$SSH_ORIGINAL_COMMAND"`);
    const { behindMs } = await server.about([]);
    expect(Math.round(behindMs / 60_000)).toBe(120);
    await server.writeFile(`${base}/file`, Buffer.from('x'), 0o644);
    const node = await server.nodeAt(`${base}/file`);
    expect(Number((node?.changedAtNs ?? 0n) / 1_000_000n)).toBeGreaterThan(Date.now() - 2000);
  });

  it.skipIf(!isRoot)('names a disk that is full and one that is read-only, and leaves nothing half there', async () => {
    await fs.mkdir(join(base, 'small'));
    const small = await through(
      `exec unshare --mount sh -c 'mount -t tmpfs -o size=300k none ${base}/small && eval "$SSH_ORIGINAL_COMMAND"'`,
    );
    await small.writeFile(`${base}/small/kept`, Buffer.from('old'), 0o644);
    const big = Buffer.alloc(1_000_000, 1);
    expect((await failure(small.writeFile(`${base}/small/kept`, big, 0o644))).code).toBe('disk-full');
    expect((await failure(small.writeFile(`${base}/small/new`, big, 0o644))).code).toBe('disk-full');
    expect((await small.readFile(`${base}/small/kept`)).toString()).toBe('old');
    expect((await small.listWhole(`${base}/small`)).nodes.map(({ path }) => path)).toEqual(['kept']);

    const still = await through(
      `exec unshare --mount sh -c 'mount -t tmpfs -o ro none ${base}/small && eval "$SSH_ORIGINAL_COMMAND"'`,
    );
    const error = await failure(still.writeFile(`${base}/small/new`, Buffer.from('x'), 0o644));
    expect(error.message).toContain('lies on a file system that is read-only');
  });
});

describe('a connection that breaks', () => {
  let line: Server;
  let sockets: Socket[];
  let isSilent: boolean;
  let at: SshPlace;
  beforeEach(async () => {
    [sockets, isSilent] = [[], false];
    line = createServer((near) => {
      const far = dial(sshd.place.port, '127.0.0.1');
      for (const [from, to] of [
        [near, far],
        [far, near],
      ] as const) {
        from.on('data', (piece) => void (isSilent || to.write(piece)));
        from.on('error', () => undefined);
        from.on('close', () => void (isSilent || to.destroy()));
      }
      sockets.push(near, far);
    }).listen(0, '127.0.0.1');
    await vi.waitUntil(() => line.listening);
    at = { ...sshd.place, port: (line.address() as { port: number }).port };
  });
  afterEach(() => {
    for (const one of sockets) one.destroy();
    line.close();
    closeLinks();
  });

  /** Whether a process of that name runs. */
  const runs = (name: string): boolean => {
    try {
      return execFileSync('pgrep', ['-f', name]).length > 0;
    } catch {
      return false;
    }
  };
  /** A program of a site that has begun. */
  const sleeping = async (server: SshServer): Promise<Promise<unknown>[]> => {
    const own = `${base}/own`;
    await fs.mkdir(own);
    const program = server.run('sleep', [ALONE], { environment: own, folder: own, hidden: [], timeoutSeconds: 600 });
    program.catch(() => undefined);
    await vi.waitUntil(() => runs(`sleep ${ALONE}`), { timeout: 60_000 });
    return [program];
  };
  const cut = (): void => {
    for (const one of sockets.splice(0)) one.destroy();
  };

  it('ends what goes on there with it, says so, and the next one is opened by itself', async () => {
    const server = serverAt(at);
    const [program = Promise.resolve()] = await sleeping(server);
    cut();
    expect(await failure(program)).toMatchObject({
      code: 'server-unreachable',
      message: expect.stringContaining('has broken'),
    });
    await vi.waitUntil(() => !runs(`sleep ${ALONE}`), { timeout: 60_000 });
    expect(await server.isFolder(`${base}/own`)).toBe(true);
  });

  it('is noticed at both ends where it only falls silent', { timeout: 180_000 }, async () => {
    const server = serverAt(at);
    const [program = Promise.resolve()] = await sleeping(server);
    isSilent = true;
    expect((await failure(program)).code).toBe('server-unreachable');
    await vi.waitUntil(() => !runs(`sleep ${ALONE}`), { timeout: 90_000 });
  });

  it('leaves files wholly old or wholly new, whenever it is cut', { timeout: 180_000 }, async () => {
    const server = serverAt(at);
    const [old, fresh] = [Buffer.alloc(3_000_000, 'old '), Buffer.alloc(4_000_000, 'new ')];
    for (let round = 0; round < 12; round++) {
      await server.writeFile(`${base}/page`, old, 0o644);
      const writing = server.writeFile(`${base}/page`, fresh, 0o644).then(
        () => 'done',
        () => 'broken',
      );
      await new Promise((resolve) => setTimeout(resolve, round * 3));
      cut();
      const end = await writing;
      const content = await fs.readFile(join(base, 'page'));
      expect(content.equals(old) || content.equals(fresh), `round ${round}`).toBe(true);
      if (end === 'done') expect(content.equals(fresh)).toBe(true);
    }
  });
});
