import * as fs from 'node:fs/promises';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import pg from 'pg';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { type ClusterAccess, ClusterError, freePort, PrivateCluster } from '../src/index.js';

let folder: string;
const started: PrivateCluster[] = [];

beforeEach(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-cluster-'));
  await fs.chmod(folder, 0o711);
});
afterEach(async () => {
  for (const cluster of started.splice(0)) {
    await cluster.stop('immediate');
    await fs.rm(cluster.folder, { recursive: true, force: true });
  }
  await fs.rm(folder, { recursive: true, force: true });
});

async function at(name: string): Promise<PrivateCluster> {
  const cluster = await PrivateCluster.at(join(folder, name));
  started.push(cluster);
  return cluster;
}

async function ask(access: ClusterAccess, sql: string): Promise<unknown> {
  const client = new pg.Client({ ...access, database: 'postgres' });
  await client.connect();
  try {
    return Object.values((await client.query(sql)).rows[0] ?? {})[0];
  } finally {
    await client.end();
  }
}

describe('a private cluster', () => {
  it('starts where nothing is, keeps what is written, and stands in another one’s way nowhere', async () => {
    const [one, two] = [await at('one'), await at('two')];
    const accesses = await Promise.all([one.start(), two.start()]);
    expect(accesses[0].port).not.toBe(accesses[1].port);
    expect(accesses[0].password).not.toBe(accesses[1].password);
    await ask(accesses[0], 'CREATE TABLE kept (n int); INSERT INTO kept VALUES (7)').catch(() => undefined);
    await one.stop();
    expect(await one.isRunning()).toBe(false);
    expect(await two.isRunning()).toBe(true);
    const again = await (await at('one')).start();
    expect(again).toEqual(accesses[0]);
    expect(await ask(again, 'SELECT n FROM kept')).toBe(7);
  });

  it.each([
    ['is damaged', (path: string) => fs.writeFile(path, '{"host":"127.0.0.1","port":1')],
    ['is empty', (path: string) => fs.writeFile(path, '')],
    ['lacks something', (path: string) => fs.writeFile(path, '{"host":"127.0.0.1","port":1,"user":"tessarion"}')],
    ['is gone', (path: string) => fs.rm(path)],
  ])('is never made anew over one whose access %s, nor removed', async (_how, spoil) => {
    const cluster = await at('one');
    const access = await cluster.start();
    const client = new pg.Client({ ...access, database: 'postgres' });
    await client.connect();
    await client.query('CREATE TABLE kept (n int)');
    await client.end();
    await cluster.stop();
    const path = join(cluster.folder, 'access.json');
    const kept = await fs.readFile(path, 'utf8');
    await spoil(path);
    await expect((await at('one')).start()).rejects.toThrow(/Put (it|that) back/);
    await fs.writeFile(path, kept);
    expect(Number(await ask(await (await at('one')).start(), 'SELECT count(*) FROM kept'))).toBe(0);
  });

  it('is made again where making it came to nothing', async () => {
    const cluster = await at('one');
    await fs.mkdir(join(cluster.folder, 'data'), { recursive: true });
    await fs.writeFile(join(cluster.folder, 'data/PG_VERSION'), '15');
    expect(await ask(await cluster.start(), 'SELECT 1')).toBe(1);
  });

  it.runIf(process.getuid?.() === 0)(
    'below a folder that its user may not pass lies elsewhere, and is found again when that moves',
    async () => {
      const home = join(folder, 'private/records');
      await fs.mkdir(join(folder, 'private'), { mode: 0o700 });
      const cluster = await PrivateCluster.at(home);
      started.push(cluster);
      expect(cluster.folder).not.toBe(home);
      const access = await cluster.start();
      await fs.rename(join(folder, 'private'), join(folder, 'moved'));
      const moved = await PrivateCluster.at(join(folder, 'moved/records'));
      expect(moved.folder).toBe(cluster.folder);
      expect(await moved.start()).toEqual(access);
      await moved.stop('immediate');
      await fs.rename(cluster.folder, `${cluster.folder}.away`);
      await expect(PrivateCluster.at(join(folder, 'moved/records'))).rejects.toThrow('no cluster is');
      await fs.rename(`${cluster.folder}.away`, cluster.folder);
    },
  );

  it.runIf(process.getuid?.() === 0)('that its user cannot reach any more is not begun anew elsewhere', async () => {
    await fs.mkdir(join(folder, 'open'), { mode: 0o711 });
    await (await at('open/one')).start();
    await fs.chmod(join(folder, 'open'), 0o700);
    await expect(PrivateCluster.at(join(folder, 'open/one'))).rejects.toThrow('chmod o+x');
    await fs.chmod(join(folder, 'open'), 0o711);
  });

  it('lets nobody in without its password, and only by loopback', async () => {
    const access = await (await at('one')).start();
    await expect(ask({ ...access, password: 'wrong' }, 'SELECT 1')).rejects.toMatchObject({ code: '28P01' });
    expect(await ask(access, 'SHOW listen_addresses')).toBe('127.0.0.1');
    expect(await ask(access, 'SHOW unix_socket_directories')).toBe('');
    expect(await ask(access, 'SHOW password_encryption')).toBe('scram-sha-256');
    const cluster = started[0] as PrivateCluster;
    expect((await fs.stat(join(cluster.folder, 'access.json'))).mode & 0o077).toBe(0);
    expect(await fs.readdir(cluster.folder)).not.toContain('password.new');
  });

  it('takes the settings it is given', async () => {
    const access = await (await at('one')).start({ max_connections: '37' });
    expect(await ask(access, 'SHOW max_connections')).toBe('37');
  });

  it('is found running by a second process, and comes back after it was killed', async () => {
    const access = await (await at('one')).start();
    const before = await ask(access, 'SELECT pg_postmaster_start_time()::text');
    expect(await (await at('one')).start()).toEqual(access);
    expect(await ask(access, 'SELECT pg_postmaster_start_time()::text')).toBe(before);
    const cluster = started[0] as PrivateCluster;
    const pid = Number((await fs.readFile(join(cluster.folder, 'data/postmaster.pid'), 'utf8')).split('\n')[0]);
    process.kill(pid, 'SIGKILL');
    await expect.poll(() => cluster.isRunning()).toBe(false);
    // The killed server's children let go of the port a moment later.
    await expect.poll(() => isFree(access.port), { timeout: 10_000 }).toBe(true);
    expect(await cluster.start()).toEqual(access);
    expect(await ask(access, 'SELECT 1')).toBe(1);
  });

  it('says what is wrong when it cannot start, and where to look', async () => {
    const cluster = await at('one');
    await expect(cluster.start({ shared_buffers: 'lots' })).rejects.toThrow(ClusterError);
    await expect(cluster.start({ shared_buffers: 'lots' })).rejects.toThrow(/server\.log/);
    expect(await cluster.start()).toMatchObject({ host: '127.0.0.1' });
  });

  it('is made below folders that are not there yet, which its server can pass', async () => {
    const cluster = await at('not/there/yet');
    expect(await ask(await cluster.start(), 'SELECT 1')).toBe(1);
  });

  it('can be stopped twice', async () => {
    const cluster = await at('one');
    await cluster.start();
    await cluster.stop();
    await cluster.stop();
  });
});

const isFree = (port: number): Promise<boolean> =>
  new Promise((resolve) => {
    const server = createServer();
    server.once('error', () => resolve(false));
    server.listen(port, '127.0.0.1', () => server.close(() => resolve(true)));
  });

it('a free port is free', async () => {
  const ports = await Promise.all(Array.from({ length: 5 }, freePort));
  for (const port of ports) expect(await isFree(port)).toBe(true);
});
