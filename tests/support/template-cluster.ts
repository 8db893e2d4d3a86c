import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { PrivateCluster } from '@tessarion/cluster';
import type { TestProject } from 'vitest/node';

declare module 'vitest' {
  export interface ProvidedContext {
    /** Folder of a fresh database server that does not run. */
    readonly templateCluster: string;
  }
}

/** Makes a database server once, of which tests take copies: initialising one takes seconds, and there are many. */
export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  const folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-template-'));
  await fs.chmod(folder, 0o711);
  const cluster = await PrivateCluster.at(join(folder, 'cluster'));
  await cluster.start();
  await cluster.stop();
  project.provide('templateCluster', cluster.folder);
  return async () => {
    for (const one of [cluster.folder, folder]) await fs.rm(one, { recursive: true, force: true });
  };
}
