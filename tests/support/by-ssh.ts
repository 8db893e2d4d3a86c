import { join } from 'node:path';
import { startSshd } from '../../packages/engine/test/support/sshd.js';
import { DataFolder } from '../../packages/service/src/ground/data-folder.js';
import type { Studio } from './start-studio.js';

/** Lets a studio reach its server by SSH from now on, as it would another machine. */
export async function reachedBySsh(studio: Studio): Promise<Studio> {
  const sshd = await startSshd();
  const { key, ...machine } = sshd.place;
  const { keys } = await DataFolder.open(join(studio.data, 'tessarion'));
  const ssh = JSON.stringify({ ...machine, jump: null });
  await studio.records.query('UPDATE server SET ssh = $1, ssh_key = $2', [ssh, keys.encrypt(key)]);
  return {
    ...studio,
    async stop() {
      await studio.stop();
      await sshd.stop();
    },
  };
}
