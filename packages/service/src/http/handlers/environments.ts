import type { Check } from '@tessarion/contract';
import { type Address, formatLocation, nameFault, plainSentence, proposeName, pullLane } from '@tessarion/core';
import { type EnvironmentRecord, refusePreview } from '../../fleet/environments.js';
import { nearestWords } from '../../fleet/known-names.js';
import { copyPlace, newCopy } from '../../fleet/new-copy.js';
import { profileOfSite } from '../../fleet/profiles.js';
import { publishHolders } from '../../front/routes.js';
import { noEnvironment, noSite } from '../../ground/absent.js';
import { publishEvent } from '../../ground/events.js';
import type { OnRecords } from '../../ground/open.js';
import { NotConfirmed, ProblemError } from '../../ground/problems.js';
import { mustNotBeAskedFor } from '../../requests/asked-for.js';
import { visitsOf } from '../../requests/visits.js';
import { getSnapshot } from '../../stored/snapshots.js';
import { type Inputs, inputOf } from '../../transfers/inputs.js';
import type { Installation } from '../../transfers/installation.js';
import { toTransfer } from '../../transfers/transfers.js';
import { environmentThing, siteThing } from '../allow.js';
import { environmentTag, readFleet } from '../views/fleet.js';
import type { Call, Handlers } from './call.js';
import { refuseTakenAddresses } from './fleet.js';

/** An environment as the site room shows it. @throws {ProblemError} `not-found` */
async function shown({ installation, sight }: Pick<Call, 'installation' | 'sight'>, path: string) {
  const [site] = await readFleet(installation, installation.records, sight, {
    site: path.split('/')[0],
    previews: true,
  });
  const found = site?.environments.find((one) => one.path === path);
  if (!found) throw noEnvironment(path);
  return found;
}

async function liveOf(installation: Installation, site: string) {
  const live = (await installation.environments.list(installation.records, site)).find((one) => one.kind === 'live');
  if (!live) throw noSite(site);
  return live;
}

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
  call: Pick<Call, 'installation' | 'mustHold'>,
  source: EnvironmentRecord,
  site: string,
  confirm: string | undefined,
): Promise<void> {
  const { records } = call.installation;
  call.mustHold('copy.manage', await environmentThing(records, source.path));
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

export const environmentHandlers: Handlers<
  | 'environmentShow'
  | 'environmentProposal'
  | 'environmentCreate'
  | 'environmentEdit'
  | 'environmentRename'
  | 'environmentRemove'
  | 'itemHistory'
  | 'environmentLogins'
  | 'environmentEnter'
> = {
  environmentShow: (call) => shown(call, `${call.params.site}/${call.params.environment}`),

  async environmentProposal({ installation, params, query }) {
    const live = await liveOf(installation, params.site);
    const siblings = await installation.environments.list(installation.records, params.site);
    const taken = new Set(siblings.map((one) => one.name));
    const name = query.name ?? proposeName(query.kind, taken);
    const server = await installation.servers.get(installation.records, live.server);
    const checks: Check[] = [];
    const fault = nameFault(name) ?? (taken.has(name) ? `${params.site}/${name} exists already.` : undefined);
    checks.push(
      fault === undefined
        ? { name: 'name', state: 'passed', message: 'The name is free.' }
        : { name: 'name', state: 'failed', message: fault, remedy: `Take ${proposeName(name, taken)}, for example.` },
    );
    const place = copyPlace(
      params.site,
      fault === undefined ? name : proposeName(name, taken),
      live,
      server,
      installation.front,
    );
    return { name, address: formatLocation(place.addresses[0] as Address), server: server.name, checks };
  },

  async environmentCreate(call) {
    const { installation, params, body, person } = call;
    const { records, environments, servers, transfers } = installation;
    const path = `${params.site}/${body.name}`;
    const site = await liveOf(installation, params.site);
    await mustBeFree(records, installation, path);
    const snapshot = body.snapshot === undefined ? undefined : await getSnapshot(records, body.snapshot);
    const source = await environments.get(records, snapshot?.environment ?? body.from ?? site.path);
    if (snapshot && snapshot.site !== params.site)
      throw new ProblemError(
        'lane-closed',
        `Snapshot ${snapshot.id} is of ${snapshot.site}.`,
        `Choose a snapshot of ${params.site}.`,
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
    const own = await profileOfSite(records, params.site);
    if (own?.name !== version.name)
      throw new ProblemError(
        'checks-failed',
        `${params.site} has ${own ? `the profile ${own.name}` : 'no profile'}, and ${source.site} has ${version.name}: what is data of one kind there may be another here.`,
        `Start from an environment of a site with the same profile as ${params.site}.`,
      );
    if (source.site !== params.site) await mustMayLeave(call, source, params.site, body.confirm);
    const { profile } = version;
    const server = await servers.get(records, site.server);
    const { record, warnings } = newCopy(
      {
        site: params.site,
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
    await refuseTakenAddresses(installation, record.addresses);
    const leftOut = {
      tables: body.leaveOut?.tables ?? [],
      areas: body.leaveOut?.areas ?? [],
      paths: body.leaveOut?.paths ?? [],
    };
    refuseUnknownParts(leftOut, profile);
    // What nobody has classified stays unmasked, and what points at live stays pointing: more than making copies.
    if (body.acceptPersonal !== undefined) call.mustHold('live.values', await environmentThing(records, source.path));
    if (body.acceptTraces?.length) call.mustHold('site.manage', await siteThing(records, source.site));
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
      const transfer = await transfers.create(trx, {
        kind: 'clone',
        from: source.path,
        onto: path,
        site: params.site,
        sentence: plainSentence({
          kind: 'clone',
          from: source.path,
          onto: path,
          leftOut: leftOut.tables.length + leftOut.areas.length + leftOut.paths.length,
        }),
        by: person,
        input,
        warnings,
      });
      await call.note(trx, path, { transfer: transfer.id, ...input.origin, leftOut });
      return toTransfer(transfer, await transfers.placeInLine(trx, transfer));
    });
  },

  async environmentEdit(call) {
    const { installation, params, body } = call;
    const { records, environments, now } = installation;
    const path = `${params.site}/${params.environment}`;
    refusePreview(await environments.get(records, path));
    await records.transaction(async (trx) => {
      const record = await environments.hold(trx, path);
      call.mustMatch(environmentTag(record));
      if (body.schedule) {
        const verdict = pullLane(await environments.get(trx, body.schedule.from), record);
        if (!verdict.allowed) throw new ProblemError('lane-closed', verdict.reason, verdict.next);
      }
      const changes = {
        ...(body.description === undefined ? {} : { description: body.description === '' ? null : body.description }),
        ...(body.schedule === undefined
          ? {}
          : {
              schedule: body.schedule && {
                ...body.schedule,
                since: now().toISOString(),
                last: null,
                by: call.person.id,
              },
            }),
      };
      await environments.update(trx, record.path, changes);
      const before = { description: record.description, schedule: record.schedule };
      await call.note(trx, record.path, { before, after: changes });
      await publishEvent(trx, { type: 'site', site: record.site });
    });
    return shown(call, path);
  },

  async environmentRename(call) {
    const { installation, params, body, person } = call;
    const { records, environments, servers, transfers } = installation;
    const record = await environments.get(records, `${params.site}/${params.environment}`);
    refusePreview(record);
    if (record.kind === 'live')
      throw new ProblemError('lane-closed', `${record.path} is live and keeps its name.`, 'Only copies are renamed.');
    const path = `${params.site}/${body.name}`;
    await mustBeFree(records, installation, path);
    if (record.status !== 'ready')
      throw new ProblemError('conflict', `${record.path} is not ready.`, 'Wait until it is.');
    const server = await servers.get(records, record.server);
    const place = copyPlace(params.site, body.name, record, server, installation.front);
    await refuseTakenAddresses(installation, place.addresses);
    const input: Inputs['rename'] = { from: record.path, name: body.name };
    return records.transaction(async (trx) => {
      await holdName(trx, path);
      await mustBeFree(trx, installation, path);
      const transfer = await transfers.create(trx, {
        kind: 'rename',
        from: null,
        onto: record.path,
        site: record.site,
        sentence: plainSentence({ kind: 'rename', from: record.path, to: path }),
        by: person,
        input,
      });
      await call.note(trx, record.path, { transfer: transfer.id, name: body.name });
      return toTransfer(transfer, await transfers.placeInLine(trx, transfer));
    });
  },

  async environmentRemove(call) {
    const { installation, params, query, person } = call;
    const { records, environments, transfers } = installation;
    const record = await environments.get(records, `${params.site}/${params.environment}`);
    if (record.kind === 'live')
      throw new ProblemError(
        'lane-closed',
        `${record.path} is live and is not removed here.`,
        'What visitors use is left where it is; only copies are removed.',
      );
    return records.transaction(async (trx) => {
      await mustNotBeAskedFor(trx, record.path, 'remove');
      if (query.confirm !== record.path)
        throw new NotConfirmed(
          query.confirm,
          `Removing ${record.path} needs its full name.`,
          `Confirm with ${record.path}.`,
        );
      const transfer = await transfers.create(trx, {
        kind: 'remove',
        from: null,
        onto: record.path,
        site: record.site,
        sentence: plainSentence({ kind: 'remove', environment: record.path }),
        by: person,
        input: {},
      });
      await call.note(trx, record.path, { transfer: transfer.id });
      return toTransfer(transfer, await transfers.placeInLine(trx, transfer));
    });
  },

  itemHistory: ({ installation, params, query }) =>
    visitsOf(installation.records, `${params.site}/${params.environment}`, query, query.limit ?? 50),

  async environmentLogins(call) {
    const { installation, params } = call;
    const record = await installation.environments.get(installation.records, `${params.site}/${params.environment}`);
    await call.note(installation.records, record.path, {});
    return { environment: record.path, gate: record.gate };
  },

  async environmentEnter(call) {
    const { installation, params } = call;
    const record = await installation.environments.get(installation.records, `${params.site}/${params.environment}`);
    const url = formatLocation(record.addresses[0] as Address);
    await call.note(installation.records, record.path, {});
    if (!record.gate) return { url };
    // Whoever was let in since is to be known there as well.
    await publishHolders(installation);
    return { url: installation.front.entry(url, record.path, `person ${call.person.id}`, installation.now()) };
  },
};

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
