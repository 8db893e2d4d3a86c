import { execFile } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { promisify } from 'node:util';
import { type ClusterAccess, freePort, PrivateCluster } from '@tessarion/cluster';
import { inject } from 'vitest';

/**
 * Starts a database server of a test's own, which waits for no disk: processes die in tests, machines do not.
 *
 * @param folder where nothing is yet
 */
export async function startCluster(folder: string): Promise<{ cluster: PrivateCluster; access: ClusterAccess }> {
  const cluster = await PrivateCluster.at(folder);
  await fs.mkdir(dirname(cluster.folder), { recursive: true, mode: 0o711 });
  await promisify(execFile)('cp', ['--archive', inject('templateCluster'), cluster.folder]);
  const accessFile = join(cluster.folder, 'access.json');
  const access = JSON.parse(await fs.readFile(accessFile, 'utf8')) as ClusterAccess;
  await fs.writeFile(accessFile, JSON.stringify({ ...access, port: await freePort() }), { mode: 0o600 });
  return { cluster, access: await cluster.start({ fsync: 'off' }) };
}
