import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { PrivateCluster } from '@tessarion/cluster';
import { runMigrations } from 'graphile-worker';
import type { TestProject } from 'vitest/node';
import { migrate } from '../../packages/service/src/records/migrations.js';
import { openRecords } from '../../packages/service/src/records/open.js';
import { copyCluster } from './copy-cluster.js';

declare module 'vitest' {
  export interface ProvidedContext {
    /** Folders of database servers that do not run. */
    readonly templates: {
      /** Nothing is in it. */
      readonly empty: string;
      /** It holds the records of a service that was never used. */
      readonly records: string;
    };
  }
}

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
  project.provide('templates', { empty: cluster.folder, records: withRecords.folder });
  return async () => {
    for (const one of [cluster.folder, withRecords.folder, folder]) await fs.rm(one, { recursive: true, force: true });
  };
}
