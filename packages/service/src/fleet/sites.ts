import { noSite } from '../ground/absent.js';
import { etagOf } from '../ground/entity-tag.js';
import { json, type OnRecords } from '../ground/open.js';
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

/** Puts a site on record. */
export async function insertSite(on: OnRecords, site: Omit<SiteRecord, 'tags'>, at: Date): Promise<void> {
  const { name, client, time_zone, profile, server } = site;
  await on('site').insert({ name, client, time_zone, profile, server, created_at: at });
}

/** Records what an edit changed of a site. */
export async function updateSite(
  on: OnRecords,
  name: string,
  { profile, tags }: Partial<Pick<SiteRecord, 'profile' | 'tags'>>,
): Promise<void> {
  const changes = {
    ...(profile === undefined ? {} : { profile }),
    ...(tags === undefined ? {} : { tags: json(tags) }),
  };
  await on('site').where({ name }).update(changes);
}

/** Takes a site off the records, of which nothing is on record any more. */
export const removeSite = (on: OnRecords, name: string): Promise<number> => on('site').where({ name }).delete();
