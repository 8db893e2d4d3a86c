import { counted } from '@tessarion/core';
import type { OnRecords } from './open.js';

/** What can be given for one environment, by its name. */
const GIVEN = { role_grant: 'role', token: 'token', webhook: 'webhook' } as const;

/**
 * Ends what was given for an environment that is gone: nobody comes by it into another one that gets its name later.
 *
 * @returns what has ended, such as `2 roles, 1 token`; empty where nothing was given
 */
export async function endScope(on: OnRecords, path: string): Promise<string> {
  const ended: string[] = [];
  for (const [table, word] of Object.entries(GIVEN)) {
    const count = await on(table).where({ scope: path }).delete();
    if (count > 0) ended.push(counted(count, word));
  }
  return ended.join(', ');
}
