import { noSite } from '../ground/absent.js';
import { etagOf } from '../ground/entity-tag.js';
import type { OnRecords } from '../ground/open.js';
/** A site in the records. */
export interface SiteRecord {
  readonly name: string;
  readonly client: string;
  readonly time_zone: string;
  readonly profile: string | null;
  readonly server: string;
  readonly tags: readonly string[];
}

/** The entity tag of what an edit can change of a site. */
export const siteTag = ({ profile, tags }: Pick<SiteRecord, 'profile' | 'tags'>): string => etagOf({ profile, tags });

/**
 * A site that nobody else changes until the transaction ends; others may go on to refer to it.
 *
 * @throws {ProblemError} `not-found`
 */
export async function holdSite(trx: OnRecords, name: string): Promise<SiteRecord> {
  const found = await trx<SiteRecord>('site').where({ name }).forNoKeyUpdate().first();
  if (!found) throw noSite(name);
  return found as SiteRecord;
}
