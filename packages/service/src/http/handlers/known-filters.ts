import type { Sight } from '../../access/sight.js';
import { noSite } from '../../records/absent.js';
import type { OnRecords } from '../../records/open.js';

/**
 * A list of a site that is not there is not empty: the name is wrong.
 *
 * @throws {ProblemError} `not-found`, also for one that the caller may not read
 */
export async function mustKnowSite(on: OnRecords, sight: Sight, site: string | undefined): Promise<void> {
  if (site === undefined) return;
  if (!sight.seesSite(site) || !(await on('site').where({ name: site }).first('name'))) throw noSite(site);
}
