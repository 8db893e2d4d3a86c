import type { ClusterAccess, PrivateCluster } from '@tessarion/cluster';
import { inject } from 'vitest';
import { copyCluster } from './copy-cluster.js';

/**
 * Starts a database server of a test's own, which waits for no disk: processes die in tests, machines do not.
 *
 * @param folder where nothing is yet
 * @param holds nothing, or the records of a service that was never used
 */
export async function startCluster(
  folder: string,
  holds: 'nothing' | 'records' = 'nothing',
  port?: number,
): Promise<{ cluster: PrivateCluster; access: ClusterAccess }> {
  const { empty, records } = inject('templates');
  const cluster = await copyCluster(holds === 'records' ? records : empty, folder, port);
  return { cluster, access: await cluster.start({ fsync: 'off' }) };
}
