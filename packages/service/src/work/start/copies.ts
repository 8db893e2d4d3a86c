import type { BodyOf, Transfer } from '@tessarion/contract';
import { plainSentence, proposeName } from '@tessarion/core';
import { type EnvironmentRecord, refusePreview } from '../../fleet/environments.js';
import { nearestWords } from '../../fleet/known-names.js';
import { liveOf } from '../../fleet/live-of.js';
import { copyPlace, newCopy } from '../../fleet/new-copy.js';
import { profileOfSite } from '../../fleet/profiles.js';
import { refuseTakenAddresses } from '../../fleet/taken-addresses.js';
import { environmentThing, siteThing } from '../../fleet/things.js';
import type { OnRecords } from '../../ground/open.js';
import { NotConfirmed, ProblemError } from '../../ground/problems.js';
import { mustNotBeAskedFor } from '../../requests/asked-for.js';
import { getSnapshot } from '../../stored/snapshots.js';
import { type Inputs, inputOf } from '../../transfers/inputs.js';
import type { Installation } from '../../transfers/installation.js';
import { type Starter, start } from './starter.js';

/** Advisory lock class in the records' database: one name of an environment, by the hash of its path. */
const NAME_LOCK = 0x7455;

/** Keeps a name to a transaction until that ends. */
const holdName = (trx: OnRecords, path: string): Promise<unknown> =>
  trx.raw('SELECT pg_advisory_xact_lock(?, hashtext(?))', [NAME_LOCK, path]);

/** Sees that nothing has a name, nor is to have it. @throws {ProblemError} `taken` */
async function mustBeFree(trx: OnRecords, { environments, transfers }: Installation, path: string): Promise<void> {
  const [site, name] = path.split('/') as [string, string];
  const underWay = (await transfers.list(trx, { site, kind: 'rename', limit: MOST_RENAMES })).filter(
    (one) => one.ended_at === null && inputOf(one, 'rename').name === name,
  );
  if (underWay.length > 0 || (await environments.find(trx, path)))
    throw new ProblemError(
      'taken',
      underWay[0] ? `${underWay[0].onto_path} is being renamed to ${path}.` : `${path} exists already.`,
      `Choose another name, such as ${proposeName(name, new Set([name]))}.`,
    );
}

/**
 * Whether a site's work may become a copy of another site: who makes copies there may, and says so where it is a client's
 * other than that of the site.
 *
 * @throws {ProblemError} `not-allowed`, `not-confirmed`
 */
async function mustMayLeave(
  by: Pick<Starter, 'installation' | 'mustHold'>,
  source: EnvironmentRecord,
  site: string,
  confirm: string | undefined,
): Promise<void> {
  const { records } = by.installation;
  by.mustHold('copy.manage', await environmentThing(records, source.path));
  const [there, here] = await Promise.all([clientOf(records, source.site), clientOf(records, site)]);
  if (there === here || confirm === source.path) return;
  throw new NotConfirmed(
    confirm,
    `${source.path} is of another client, ${there}; ${site} is ${here}’s.`,
    `If ${here} may have a copy of it, confirm it with its path: --confirm ${source.path}`,
  );
}

const clientOf = async (on: OnRecords, site: string): Promise<string> =>
  ((await on('site').where({ name: site }).first('client')) as { client: string }).client;

/** Newest renames of a site that are looked at for one that is under way. */
const MOST_RENAMES = 100;

/**
 * Has a copy made of an environment or a snapshot, under a name of its own.
 *
 * @throws {ProblemError} `not-found`, `taken`, `lane-closed`, `conflict`, `checks-failed`, `not-allowed`, `not-confirmed`, `invalid`
 */
export async function startClone(by: Starter, to: string, body: BodyOf<'environmentCreate'>): Promise<Transfer> {
  const { installation } = by;
  const { records, environments, servers } = installation;
  const path = `${to}/${body.name}`;
  const site = await liveOf(installation, to);
  await mustBeFree(records, installation, path);
  const snapshot = body.snapshot === undefined ? undefined : await getSnapshot(records, body.snapshot);
  const source = await environments.get(records, snapshot?.environment ?? body.from ?? site.path);
  if (snapshot && snapshot.site !== to)
    throw new ProblemError(
      'lane-closed',
      `Snapshot ${snapshot.id} is of ${snapshot.site}.`,
      `Choose a snapshot of ${to}.`,
    );
  refusePreview(source);
  if (source.status !== 'ready')
    throw new ProblemError('conflict', `${source.path} is not ready yet.`, 'Wait until it is.');
  const version = await profileOfSite(records, source.site);
  if (!version)
    throw new ProblemError(
      'checks-failed',
      `${source.site} has no profile, so nobody has said what may be copied.`,
      'A site without a profile can be snapshotted, not copied. Give it one.',
    );
  const own = await profileOfSite(records, to);
  if (own?.name !== version.name)
    throw new ProblemError(
      'checks-failed',
      `${to} has ${own ? `the profile ${own.name}` : 'no profile'}, and ${source.site} has ${version.name}: what is data of one kind there may be another here.`,
      `Start from an environment of a site with the same profile as ${to}.`,
    );
  if (source.site !== to) await mustMayLeave(by, source, to, body.confirm);
  const { profile } = version;
  const server = await servers.get(records, body.server ?? site.server);
  const { record, warnings } = newCopy(
    {
      site: to,
      name: body.name,
      kind: body.kind,
      preview: null,
      madeFrom: snapshot ? `${source.path} (snapshot ${snapshot.id})` : source.path,
      source,
      server,
      profile,
    },
    installation,
  );
  await refuseTakenAddresses(records, environments, record.addresses);
  const leftOut = {
    tables: body.leaveOut?.tables ?? [],
    areas: body.leaveOut?.areas ?? [],
    paths: body.leaveOut?.paths ?? [],
  };
  refuseUnknownParts(leftOut, profile);
  // What nobody has classified stays unmasked, and what points at live stays pointing: more than making copies.
  if (body.acceptPersonal !== undefined) by.mustHold('live.values', await environmentThing(records, source.path));
  if (body.acceptTraces?.length) by.mustHold('site.manage', await siteThing(records, source.site));
  const input: Inputs['clone'] = {
    origin: snapshot ? { snapshot: snapshot.id } : { from: source.path },
    source: source.path,
    leftOut,
    acceptTraces: body.acceptTraces ?? [],
    acceptPersonal: body.acceptPersonal,
  };
  return records.transaction(async (trx) => {
    await holdName(trx, path);
    await mustBeFree(trx, installation, path);
    await environments.insert(trx, record);
    const wanted = {
      kind: 'clone' as const,
      from: source.path,
      onto: path,
      site: to,
      sentence: plainSentence({
        kind: 'clone',
        from: source.path,
        onto: path,
        leftOut: leftOut.tables.length + leftOut.areas.length + leftOut.paths.length,
      }),
      input,
      warnings,
    };
    return start(trx, by, wanted, { ...input.origin, leftOut });
  });
}

/**
 * Has a copy given another name, and the address that goes with it.
 *
 * @throws {ProblemError} `not-found`, `lane-closed`, `taken`, `conflict`
 */
export async function startRename(by: Starter, from: string, name: string): Promise<Transfer> {
  const { installation } = by;
  const { records, environments, servers } = installation;
  const record = await environments.get(records, from);
  refusePreview(record);
  if (record.kind === 'live')
    throw new ProblemError('lane-closed', `${record.path} is live and keeps its name.`, 'Only copies are renamed.');
  const path = `${record.site}/${name}`;
  await mustBeFree(records, installation, path);
  if (record.status !== 'ready')
    throw new ProblemError('conflict', `${record.path} is not ready.`, 'Wait until it is.');
  const server = await servers.get(records, record.server);
  const place = copyPlace(record.site, name, record, server, installation.front);
  await refuseTakenAddresses(records, environments, place.addresses);
  const input: Inputs['rename'] = { from: record.path, name };
  return records.transaction(async (trx) => {
    await holdName(trx, path);
    await mustBeFree(trx, installation, path);
    const sentence = plainSentence({ kind: 'rename', from: record.path, to: path });
    const wanted = { kind: 'rename' as const, from: null, onto: record.path, site: record.site, sentence, input };
    return start(trx, by, wanted, { name });
  });
}

/**
 * Has a copy removed.
 *
 * @param confirm its full name, as the person has written it
 * @throws {ProblemError} `not-found`, `lane-closed`, `conflict`, `not-confirmed`
 */
export async function startRemoval(by: Starter, path: string, confirm: string | undefined): Promise<Transfer> {
  const { records, environments } = by.installation;
  const record = await environments.get(records, path);
  if (record.kind === 'live')
    throw new ProblemError(
      'lane-closed',
      `${record.path} is live and is not removed here.`,
      'What visitors use is left where it is; only copies are removed.',
    );
  return records.transaction(async (trx) => {
    await mustNotBeAskedFor(trx, record.path, 'remove');
    if (confirm !== record.path)
      throw new NotConfirmed(confirm, `Removing ${record.path} needs its full name.`, `Confirm with ${record.path}.`);
    const sentence = plainSentence({ kind: 'remove', environment: record.path });
    return start(trx, by, { kind: 'remove', from: null, onto: record.path, site: record.site, sentence, input: {} });
  });
}

function refuseUnknownParts(
  leftOut: { tables: string[]; areas: string[] },
  profile: { areas: { name: string }[] },
): void {
  const unknown = leftOut.areas.find((name) => !profile.areas.some((area) => area.name === name));
  if (unknown !== undefined)
    throw new ProblemError(
      'invalid',
      `The profile has no area "${unknown}" to leave out.`,
      nearestWords(
        unknown,
        profile.areas.map((area) => area.name),
      ),
    );
}
