import * as fs from 'node:fs/promises';
import type { Ground } from '../ground/ground.js';
import { baselinesOf, libraryOf } from './snapshots.js';

/**
 * Forgets what an environment had in common with others: it is gone, or its content is another one now, and what it
 * lacks of theirs was taken away by nobody.
 *
 * @param but the environment that its content is a copy of
 */
export async function forgetBaselines(
  { records, folder }: Pick<Ground, 'records' | 'folder'>,
  path: string,
  but?: string,
): Promise<void> {
  const library = libraryOf(folder, path.split('/')[0] as string);
  for (const { lower, upper, lower_manifest, upper_manifest, spool } of await baselinesOf(records, path)) {
    if (lower === but || upper === but) continue;
    await records('baseline').where({ lower, upper }).delete();
    for (const id of [lower_manifest, upper_manifest]) if (id !== null) await library.discard(id);
    if (spool) await fs.rm(folder.spool(spool.site, spool.id), { recursive: true, force: true });
  }
}
