import { classify, decide, effectiveText, startProfile, tableLabel, tableRule } from '@tessarion/core';
import { lookAtSite, type TableHistory } from '@tessarion/engine';
import { toEngine } from '../../fleet/environments.js';
import { missingTable, nearestWords } from '../../fleet/known-names.js';
import {
  composeRecord,
  getProfile,
  holdNewest,
  newestProfiles,
  type ProfileRecord,
  profileOfSite,
  profileTag,
  saveProfile,
  sitesOf,
  toProfileVersion,
} from '../../fleet/profiles.js';
import { holdSite, siteTag, updateSite } from '../../fleet/sites.js';
import { siteThing } from '../../fleet/things.js';
import { noProfile } from '../../ground/absent.js';
import { publishEvent } from '../../ground/events.js';
import type { OnRecords } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import type { Sight } from '../../people/sight.js';
import { libraryOf, snapshotsOf } from '../../stored/snapshots.js';
import type { Installation } from '../../transfers/installation.js';
import { readFleet } from '../views/fleet.js';
import type { Call, Handlers } from './call.js';

/** How many snapshots are asked how large a table was. */
const MOST_SNAPSHOTS = 20;

/** A profile without the names of sites that the caller may not read. */
const withinSight = <T extends { readonly sites: string[] }>(profile: T, sight: Sight): T => ({
  ...profile,
  sites: profile.sites.filter((site) => sight.seesSite(site)),
});

/** A profile tells how the sites are made that have it: it is read with one of them, or while none has it. */
const isReadable = (sites: readonly string[], sight: Sight): boolean =>
  sight.isWhole || sites.length === 0 || sites.some((site) => sight.seesSite(site));

/** @throws {ProblemError} `not-found`, also for one that the caller may not read */
async function readProfile(on: OnRecords, sight: Sight, name: string, version?: number): Promise<ProfileRecord> {
  const found = await getProfile(on, name, version);
  if (!isReadable(await sitesOf(on, name), sight)) throw noProfile(name, version);
  return found;
}

export const profileHandlers: Handlers<
  'profileList' | 'profileShow' | 'profileEffective' | 'profileSave' | 'profileStart' | 'profileUse' | 'profileClassify'
> = {
  async profileList({ installation: { records }, sight }) {
    const all = await Promise.all((await newestProfiles(records)).map((row) => toProfileVersion(records, row)));
    return all.filter((one) => isReadable(one.sites, sight)).map((one) => withinSight(one, sight));
  },

  async profileShow({ installation: { records }, params, query, sight }) {
    const row = await readProfile(records, sight, params.name, query.version);
    return { ...withinSight(await toProfileVersion(records, row), sight), text: row.text };
  },

  async profileEffective({ installation: { records }, params, sight }) {
    const { layers, profile, origins } = await composeRecord(records, await readProfile(records, sight, params.name));
    return {
      name: params.name,
      layers: layers.map(({ name, version }) => ({ name, version })),
      text: effectiveText(profile, origins),
      rules: [...origins].map(([path, from]) => ({ path, from: [...new Set(from.map((one) => one.name))] })),
    };
  },

  async profileSave(call) {
    const { installation, params, body, person } = call;
    return installation.records.transaction(async (trx) => {
      const before = await holdNewest(trx, params.name);
      call.mustMatch(before && profileTag(before));
      const wanted = { name: params.name, text: body.text, by: person, now: installation.now() };
      const saved = await toProfileVersion(trx, await saveProfile(trx, wanted));
      await call.note(trx, `profile ${params.name}`, { version: saved.version });
      return saved;
    });
  },

  async profileStart({ installation, params, body }) {
    const { records, environments, folder } = installation;
    const path = `${params.site}/${params.environment}`;
    const record = await environments.get(records, path);
    if (record.status !== 'ready')
      throw new ProblemError('conflict', `${path} is not ready.`, 'Wait until it is, and start again.');
    const library = libraryOf(folder, params.site);
    const history: TableHistory[] = [];
    for (const { id, taken_at } of (await snapshotsOf(records, path, MOST_SNAPSHOTS)).reverse()) {
      const { databases } = await library.load(id);
      const rows = databases.flatMap((database) =>
        database.tables.map((table) => [`${database.name}/${tableLabel(table)}`, table.rows] as const),
      );
      history.push({ at: taken_at.toISOString(), rows: new Map(rows) });
    }
    const facts = await lookAtSite(toEngine(record, undefined), history);
    const name = body.name ?? params.site;
    const { text, findings } = startProfile(name, body.title ?? `What ${params.site} is made of`, facts);
    return { name, text, findings: [...findings] };
  },

  async profileUse(call) {
    const { installation, params, body, sight } = call;
    const { records } = installation;
    const { profile } = await composeRecord(records, await readProfile(records, sight, body.profile));
    await records.transaction(async (trx) => {
      const site = await holdSite(trx, params.site);
      call.mustMatch(siteTag(site));
      await updateSite(trx, params.site, { profile: profile.name });
      await call.note(trx, params.site, { profile: profile.name });
      await publishEvent(trx, { type: 'site', site: params.site });
    });
    return (await readFleet(installation, records, sight, { site: params.site }))[0] as NonNullable<
      Awaited<ReturnType<typeof readFleet>>[number]
    >;
  },

  async profileClassify(call) {
    const { installation, params, body, person, sight } = call;
    await mustBeThere(installation, params.site, body);
    return installation.records.transaction(async (trx) => {
      const own = await profileOfSite(trx, params.site);
      if (!own)
        throw new ProblemError(
          'not-found',
          `${params.site} has no profile.`,
          `Make one: tessarion profile start ${params.site}/live`,
        );
      const database = body.database ?? Object.keys(own.profile.databases ?? {})[0] ?? 'main';
      const before = tableRule(own.profile, database, body.table)?.class ?? 'unclassified';
      const sites = await sitesOf(trx, own.name);
      const version = own.version + 1;
      const isTrial = body.trial === true;
      const done = { profile: own.name, version, database, table: body.table, before, class: body.class };
      await call.note(trx, params.site, { ...done, sites, trial: isTrial });
      const seen = sites.filter((site) => sight.seesSite(site));
      const said = { ...done, sites: seen, reachesOthers: seen.length < sites.length };
      if (isTrial) return { ...said, isSaved: false };
      await mustManageEach(trx, call, own.name, sites);
      // What visitors made, or what belongs to one environment, would travel up from now on.
      const isGrave = body.class === 'authored' && (before === 'collected' || before === 'local');
      if (isGrave && body.confirm !== body.table)
        throw new ProblemError(
          'not-confirmed',
          `${body.table} is ${before}: as authored it would be written onto live, on ${sites.length === 1 ? 'one site' : `${sites.length} sites`} (${sites.join(', ')}).`,
          `Confirm with ${body.table}, if that is meant.`,
        );
      const text = classify(own.text, database, body.table, body.class);
      await saveProfile(trx, { name: own.name, text, by: person, now: installation.now() });
      for (const site of sites) await publishEvent(trx, { type: 'site', site });
      return { ...said, isSaved: true };
    });
  },
};

/** @throws {ProblemError} `invalid` where no environment of the site has the table */
async function mustBeThere(
  { records, environments }: Installation,
  site: string,
  { database, table }: { readonly database?: string | undefined; readonly table: string },
): Promise<void> {
  const profile = (await profileOfSite(records, site))?.profile;
  if (table.includes('*') || !profile) return;
  const name = database ?? Object.keys(profile.databases ?? {})[0] ?? 'main';
  const known = Object.keys(profile.databases?.[name]?.tables ?? {});
  if (known.includes(table)) return;
  const all = await environments.list(records, site);
  const ready = all.filter((one) => one.status === 'ready').map((one) => toEngine(one, profile));
  const tables = await missingTable(ready, name, table);
  if (tables)
    throw new ProblemError('invalid', `No environment of ${site} has a table "${table}".`, nearestWords(table, tables));
}

/** A shared profile is changed for all who have it. @throws {ProblemError} `not-allowed` */
async function mustManageEach(
  trx: OnRecords,
  { actor, sight }: Pick<Call, 'actor' | 'sight'>,
  profile: string,
  sites: readonly string[],
): Promise<void> {
  const others: string[] = [];
  for (const site of sites) if (!decide(actor, 'site.manage', await siteThing(trx, site)).allowed) others.push(site);
  if (others.length === 0) return;
  const named = others.filter((site) => sight.seesSite(site));
  throw new ProblemError(
    'not-allowed',
    `The profile ${profile} is shared with ${named.length > 0 ? named.join(', ') : 'sites'} that you do not manage, and would change for them too.`,
    'Ask somebody who manages all of its sites.',
  );
}
