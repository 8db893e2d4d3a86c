import { ProblemError } from '../problems.js';
import type { OnRecords } from '../records/open.js';

const LOOKED_AT = ['in-review', 'returned', 'approved', 'scheduled', 'delivering', 'blocked'] as const;

/**
 * Sees that nothing which people were asked to look at would be gone with what an environment holds.
 *
 * @param path the environment
 * @param act what is about to be done to it, such as `made anew`
 * @throws {ProblemError} `conflict` with the request that is on its way from there
 */
export async function mustNotBeAskedFor(on: OnRecords, path: string, act: string): Promise<void> {
  const asked = (await on('change_request as r')
    .join('person as p', 'p.id', 'r.author')
    .where({ from_path: path })
    .whereIn('r.state', LOOKED_AT)
    .orderBy('r.created_at')
    .first('r.id', 'r.title', 'p.name as author')) as { id: string; title: string; author: string } | undefined;
  if (asked)
    throw new ProblemError(
      'conflict',
      `"${asked.title}" (${asked.id}) of ${asked.author} is on its way from ${path}, which cannot be ${act} meanwhile.`,
      `Deliver it, or withdraw it: tessarion request withdraw ${asked.id}`,
    );
}
