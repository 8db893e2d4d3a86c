import { execFile } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { promisify } from 'node:util';
import { type ClusterAccess, freePort, PrivateCluster } from '@tessarion/cluster';

/**
 * Makes a database server as a copy of one that does not run, with a port of its own.
 *
 * @param folder where nothing is yet
 * @param port a free one where none is given
 */
export async function copyCluster(template: string, folder: string, port?: number): Promise<PrivateCluster> {
  const cluster = await PrivateCluster.at(folder);
  await fs.mkdir(dirname(cluster.folder), { recursive: true, mode: 0o711 });
  await promisify(execFile)('cp', ['--archive', template, cluster.folder]);
  const accessFile = join(cluster.folder, 'access.json');
  const access = JSON.parse(await fs.readFile(accessFile, 'utf8')) as ClusterAccess;
  await fs.writeFile(accessFile, JSON.stringify({ ...access, port: port ?? (await freePort()) }), { mode: 0o600 });
  return cluster;
}
