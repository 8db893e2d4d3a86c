import { type ChildProcess, execFile, fork } from 'node:child_process';
import { openSync } from 'node:fs';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { promisify } from 'node:util';
import type { Client } from '@tessarion/client';
import { type ClusterAccess, freePort, PrivateCluster } from '@tessarion/cluster';
import { becomeAdministrator, type DemoPlace, ended } from '@tessarion/demo';
import { makeDatabase, type ServerLogin, WebHost } from '@tessarion/demo-site';

/** A service with one worker, and a database server for sites, both started for the benchmark alone. */
export interface Installation {
  readonly data: string;
  readonly hosts: string;
  readonly client: Client;
  readonly gatewayPort: number;
  readonly server: ServerLogin;
  /** The database server of the records. */
  readonly records: ClusterAccess;
  readonly place: DemoPlace;
  /** The service, and the two database servers. */
  readonly roots: readonly number[];
  workerPid(): Promise<number>;
  stop(): Promise<void>;
}

export async function startInstallation(data: string): Promise<Installation> {
  await fs.rm(data, { recursive: true, force: true });
  const hosts = join(data, 'hosts');
  await fs.mkdir(hosts, { recursive: true });
  const cluster = await PrivateCluster.at(join(data, 'site-databases'));
  const server = await cluster.start({ shared_buffers: '512MB', max_wal_size: '8GB' });
  const webHost = new WebHost(hosts);
  const webHostPort = await webHost.listen(await freePort());
  const log = openSync(join(data, 'service.log'), 'a');
  const cli = fileURLToPath(new URL('../../programs/tessarion.cjs', import.meta.url));
  const service: ChildProcess = fork(
    cli,
    ['serve', '--data', join(data, 'tessarion'), '--port', '0', '--most-requests', '1000000'],
    {
      stdio: ['ignore', log, log, 'ipc'],
    },
  );
  const ready = await new Promise<{ url: string; gatewayPort: number; firstKey: string }>((resolve) =>
    service.once('message', (message) => resolve(message as { url: string; gatewayPort: number; firstKey: string })),
  );
  const records = await PrivateCluster.at(join(data, 'tessarion/records'));
  const { client } = await becomeAdministrator(ready.url, ready.firstKey, 'a password for the bench');
  await client.call('serverCreate', {
    body: {
      name: 'bench',
      folder: hosts,
      baseDomain: 'localhost',
      webHost: { host: '127.0.0.1', port: webHostPort },
      database: server,
    },
  });
  return {
    data,
    hosts,
    client,
    gatewayPort: ready.gatewayPort,
    server,
    records: await records.start(),
    place: { hosts, server, webHostPort, gatewayPort: ready.gatewayPort, url: ready.url },
    roots: [service.pid as number, ...(await Promise.all([postmaster(cluster), postmaster(records)]))],
    async workerPid() {
      const found = await promisify(execFile)('pgrep', ['-P', String(service.pid), '-f', 'worker.cjs']);
      return Number(found.stdout.trim().split('\n')[0]);
    },
    async stop() {
      await new Promise<void>((resolve) => {
        service.once('exit', () => resolve());
        service.kill('SIGTERM');
      });
      await webHost.close();
      await cluster.stop('immediate');
      await fs.rm(cluster.folder, { recursive: true, force: true });
      await fs.rm(data, { recursive: true, force: true });
    },
  };
}

/** Brings in a site whose folder and database are there already. */
export async function adopt(on: Installation, site: string, profile: string, address: string): Promise<void> {
  await ended(
    on.client,
    await on.client.call('siteAdopt', {
      body: {
        name: site,
        client: 'Bench',
        profile,
        server: 'bench',
        folder: join(on.hosts, `${site}--live`),
        addresses: [{ name: 'main', url: address }],
        databases: [
          {
            name: 'main',
            host: on.server.host,
            port: on.server.port,
            database: `${site}_live`,
            user: `${site}_live`,
            password: 'bench',
          },
        ],
      },
    }),
  );
}

export const newDatabase = (on: Installation, name: string): Promise<void> => makeDatabase(on.server, name, 'bench');

const postmaster = async ({ folder }: PrivateCluster): Promise<number> =>
  Number.parseInt(await fs.readFile(join(folder, 'data/postmaster.pid'), 'utf8'), 10);

/** Processor time that an installation has taken so far, processes included that have ended. */
export const processorSeconds = ({ roots }: Pick<Installation, 'roots'>): Promise<number> => processorSecondsOf(roots);

/** Processor time that trees of processes have taken so far, by the processes at their roots. */
export async function processorSecondsOf(roots: readonly number[]): Promise<number> {
  const found: { pid: number; parent: number; ticks: number }[] = [];
  for (const name of await fs.readdir('/proc')) {
    if (!/^\d+$/.test(name)) continue;
    const text = await fs.readFile(`/proc/${name}/stat`, 'utf8').catch(() => '');
    const [, parent, , , , , , , , , , user, system, userOfEnded, systemOfEnded] = text
      .slice(text.lastIndexOf(')') + 2)
      .split(' ')
      .map(Number);
    if (parent === undefined) continue;
    const ticks = (user ?? 0) + (system ?? 0) + (userOfEnded ?? 0) + (systemOfEnded ?? 0);
    found.push({ pid: Number(name), parent, ticks });
  }
  const tree = new Set(roots);
  for (let size = 0; size !== tree.size; ) {
    size = tree.size;
    for (const { pid, parent } of found) if (tree.has(parent)) tree.add(pid);
  }
  return found.reduce((sum, { pid, ticks }) => sum + (tree.has(pid) ? ticks : 0), 0) / TICKS;
}

/** `USER_HZ`, which is 100 wherever Linux runs today (proc(5)). */
const TICKS = 100;

/** Highest resident set of a process since its last reset, in MB, from the kernel's own account. */
export async function peakMegabytes(pid: number): Promise<number> {
  const status = await fs.readFile(`/proc/${pid}/status`, 'utf8');
  return Number(/VmHWM:\s+(\d+) kB/.exec(status)?.[1] ?? 0) / 1000;
}

export const resetPeak = (pid: number): Promise<void> => fs.writeFile(`/proc/${pid}/clear_refs`, '5');

/** Runs a shell script as a person would have written it. @returns seconds */
export async function byHand(script: string, variables: Record<string, string>): Promise<number> {
  const start = process.hrtime.bigint();
  await promisify(execFile)('bash', ['-euo', 'pipefail', '-c', script], {
    env: { ...process.env, ...variables },
    maxBuffer: 1 << 26,
  });
  return Number(process.hrtime.bigint() - start) / 1e9;
}

export const seconds = async (work: () => Promise<unknown>): Promise<number> => {
  const start = process.hrtime.bigint();
  await work();
  return Number(process.hrtime.bigint() - start) / 1e9;
};

export const median = (values: readonly number[]): number =>
  [...values].sort((a, b) => a - b)[values.length >> 1] as number;
