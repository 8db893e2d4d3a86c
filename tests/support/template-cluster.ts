import * as fs from 'node:fs/promises';
import { createServer, type Server } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { PrivateCluster } from '@tessarion/cluster';
import { runMigrations } from 'graphile-worker';
import type { TestProject } from 'vitest/node';
import { migrate } from '../../packages/service/src/ground/migrations.js';
import { openRecords } from '../../packages/service/src/ground/open.js';
import { copyCluster } from './copy-cluster.js';
import { endProcessesOf } from './processes.js';

declare module 'vitest' {
  export interface ProvidedContext {
    /** Made once a run, for all its workers. */
    readonly templates: {
      readonly folder: string;
      /** The first of some ports that nobody uses, and that no outgoing connection is given. */
      readonly firstPort: number;
      /** Folder of a database server that does not run, and in which nothing is. */
      readonly empty: string;
      /** One that holds the records of a service that was never used. */
      readonly records: string;
    };
  }
}

/** For as many workers as there may be. */
const PORTS = 40;

/** Looks for a row of free ports below those that the system gives to outgoing connections (32768 and more, ip(7)). */
async function freePorts(count: number): Promise<number> {
  for (let tries = 0; tries < 100; tries++) {
    // Above 10080, the last one that no client of HTTP asks anything (Fetch, "bad port").
    const first = 11_000 + Math.floor(Math.random() * 20_000);
    const probes = await Promise.allSettled(Array.from({ length: count }, (_one, i) => listen(first + i)));
    for (const probe of probes) if (probe.status === 'fulfilled') await new Promise((done) => probe.value.close(done));
    if (probes.every((probe) => probe.status === 'fulfilled')) return first;
  }
  throw new Error('There is no row of free ports.');
}

const listen = (port: number): Promise<Server> =>
  new Promise((resolve, reject) => {
    const server = createServer();
    server.once('error', reject).listen(port, '127.0.0.1', () => resolve(server));
  });

/**
 * Makes a database server once, and one with empty records, of which tests take copies: to initialise one and to make
 * every table of the records takes seconds, and there are many.
 */
export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  const folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-template-'));
  await fs.chmod(folder, 0o711);
  const cluster = await PrivateCluster.at(join(folder, 'empty'));
  await cluster.start();
  await cluster.stop();
  const withRecords = await copyCluster(cluster.folder, join(folder, 'records'));
  const { host, port, user, password } = await withRecords.start();
  const url = `postgresql://${user}:${password}@${host}:${port}/postgres`;
  const records = openRecords(url);
  await migrate(records);
  await records.destroy();
  await runMigrations({ connectionString: url });
  await withRecords.stop();
  project.provide('templates', {
    folder,
    firstPort: await freePorts(PORTS),
    empty: cluster.folder,
    records: withRecords.folder,
  });
  return async () => {
    // Whatever a worker that broke off has left running.
    await endProcessesOf(folder);
    for (const one of [cluster.folder, withRecords.folder, folder]) await fs.rm(one, { recursive: true, force: true });
  };
}
