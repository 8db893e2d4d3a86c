import { noSite } from '../ground/absent.js';
import type { OnRecords } from '../ground/open.js';
import type { EnvironmentRecord, Environments } from './environments.js';
/** The live environment of a site. @throws {ProblemError} `not-found` */
export async function liveOf(
  { environments, records }: { readonly environments: Environments; readonly records: OnRecords },
  site: string,
): Promise<EnvironmentRecord> {
  const live = (await environments.list(records, site)).find((one) => one.kind === 'live');
  if (!live) throw noSite(site);
  return live;
}
