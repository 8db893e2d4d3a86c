import { noSite } from '../../ground/absent.js';
import type { OnRecords } from '../../ground/open.js';
import type { Sight } from '../../people/sight.js';

/**
 * A list of a site that is not there is not empty: the name is wrong.
 *
 * @throws {ProblemError} `not-found`, also for one that the caller may not read
 */
export async function mustKnowSite(on: OnRecords, sight: Sight, site: string | undefined): Promise<void> {
  if (site === undefined) return;
  if (!sight.seesSite(site) || !(await on('site').where({ name: site }).first('name'))) throw noSite(site);
}
