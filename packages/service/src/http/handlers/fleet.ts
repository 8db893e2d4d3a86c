import { hostname } from 'node:os';
import type { BodyOf } from '@tessarion/contract';
import { type Address, type Profile, parseLocation, toBytes } from '@tessarion/core';
import {
  connectServer,
  databaseSystem,
  fingerprintOf,
  newLoginKey,
  publicHalfOf,
  type SshReach,
} from '@tessarion/engine';
import { mustBeOwnDatabases, ownFolder, serverFolder } from '../../fleet/bringing.js';
import { type EnvironmentRecord, toEngine, UNKNOWN_YET } from '../../fleet/environments.js';
import { composeRecord, getProfile } from '../../fleet/profiles.js';
import type { ServerRecord, SshMachine, SshRecord } from '../../fleet/servers.js';
import { holdSite, siteTag, updateSite } from '../../fleet/sites.js';
import { refuseTakenAddresses } from '../../fleet/taken-addresses.js';
import { noSite } from '../../ground/absent.js';
import { publishEvent } from '../../ground/events.js';
import { failureOf, NotConfirmed, ProblemError } from '../../ground/problems.js';
import type { Installation } from '../../transfers/installation.js';
import { adoptionChecks, adoptionMoves } from '../../work/adopting.js';
import { findLeftBehind, removeLeftBehind } from '../../work/left-behind.js';
import { startAdoption, startLeaving } from '../../work/start/sites.js';
import { mustAnswer, tryServer } from '../../work/trying-server.js';
import { readFleet } from '../views/fleet.js';
import { glanceAt } from '../views/glance.js';
import type { Call, Handlers } from './call.js';

/** A server that is not logged in to yet, or is gone, is told as such. */
async function askedOf<T>(ask: () => Promise<T>): Promise<T | null> {
  try {
    return await ask();
  } catch {
    return null;
  }
}

async function toServer(installation: Installation, record: ServerRecord) {
  const { servers } = installation;
  const [freeBytes, openToAll] = await Promise.all([
    askedOf(() => servers.connect(record).freeBytes(toBytes(record.folder))),
    askedOf(() => servers.admin(record).openToAll()),
  ]);
  return {
    name: record.name,
    ssh: await toSsh(installation, record),
    folder: record.folder,
    baseDomain: record.base_domain,
    database: `${record.database.host}:${record.database.port}`,
    reached: openToAll !== null && freeBytes !== null,
    freeBytes,
    openToAll,
    leftBehind: await findLeftBehind(installation, record).then(
      (found) => ({ ...found, notKnown: null }),
      (error: unknown) => ({ databases: [], folders: [], notKnown: failureOf(error).message }),
    ),
  };
}

/** How a server is logged in to, with what is public of its key. */
async function toSsh({ servers }: Installation, record: ServerRecord) {
  if (record.ssh === null) return null;
  const { jump, ...own } = record.ssh;
  const shown = ({ hostKey, ...machine }: SshMachine) => ({
    ...machine,
    hostKey: hostKey === null ? null : fingerprintOf(hostKey),
  });
  const reach = await askedOf(async () => servers.reach(record) as SshReach);
  const key = reach && (await publicHalfOf(reach.at.key, `tessarion-${record.name}`));
  const line = (to: string): string => (key === null ? '' : `restrict,port-forwarding,permitopen="${to}" ${key}`);
  return {
    ...shown(own),
    jump: jump && shown(jump),
    keyLines: {
      server: line(`${record.database.host}:${record.database.port}`),
      jump: jump && line(`${own.host}:${own.port}`),
    },
  };
}

/** As it is on record: nobody has confirmed a host key yet. */
function toRecord(ssh: BodyOf<'serverCreate'>['ssh']): SshRecord | null {
  if (ssh === undefined) return null;
  const { key: _own, jump, ...machine } = ssh;
  return { ...machine, hostKey: null, jump: jump === undefined ? null : { ...jump, hostKey: null } };
}

/** @throws {ProblemError} `invalid` where somebody's own key is none */
async function loginKey(name: string, given: string | undefined): Promise<string> {
  if (given === undefined) return (await newLoginKey(`tessarion-${name}`)).private;
  try {
    await publicHalfOf(given, name);
    return given;
  } catch (error) {
    const { message, next } = failureOf(error);
    throw new ProblemError('invalid', message, next);
  }
}

/** Sees that a server of this machine can be used as it is said. @throws {ProblemError} `invalid` */
async function mustBeUsable(body: BodyOf<'serverCreate'>, folder: string): Promise<void> {
  if (!(await databaseSystem(body.database.system).administration(body.database).mayProvision()))
    throw new ProblemError(
      'invalid',
      `${body.database.user} may not make databases and roles on ${body.database.host}:${body.database.port}.`,
      'Give the login of a superuser, or one with CREATEDB and CREATEROLE.',
    );
  if (!(await connectServer({ kind: 'local', base: toBytes(folder) }).isFolder(toBytes(folder))))
    throw new ProblemError('invalid', `There is no folder ${folder}.`, 'Make it first, or correct its name.');
  await mustAnswer(body.webHost);
}

export const fleetHandlers: Handlers<
  | 'serverList'
  | 'serverCreate'
  | 'serverTry'
  | 'serverClear'
  | 'fleetShow'
  | 'siteList'
  | 'siteShow'
  | 'siteTag'
  | 'siteTry'
  | 'siteAdopt'
  | 'siteLeave'
> = {
  async serverList({ installation }) {
    return Promise.all(
      (await installation.servers.list(installation.records)).map((record) => toServer(installation, record)),
    );
  },
  async serverCreate(call) {
    const { installation, body } = call;
    const { records, servers } = installation;
    if (await records('server').where({ name: body.name }).first('name'))
      throw new ProblemError('taken', `There is a server ${body.name} already.`, 'Choose another name.');
    const { password, ...database } = body.database;
    const plain = serverFolder(body.folder, body.ssh ? undefined : installation.folder.path);
    // One that is logged in to by SSH lets nobody in before the key stands there: it is tried afterwards.
    if (body.ssh === undefined) await mustBeUsable(body, plain);
    const key = body.ssh === undefined ? null : await loginKey(body.name, body.ssh.key);
    await records.transaction(async (trx) => {
      await servers.insert(trx, {
        name: body.name,
        machine: body.ssh?.host ?? hostname(),
        folder: plain,
        base_domain: body.baseDomain,
        web_host: body.webHost,
        database,
        password,
        ssh: toRecord(body.ssh),
        key,
      });
      await call.note(trx, `server ${body.name}`, { folder: body.folder, ssh: body.ssh?.host ?? null });
    });
    return toServer(installation, await servers.get(records, body.name));
  },

  async serverTry(call) {
    const { installation, params, body } = call;
    const { records, servers } = installation;
    const { name } = await servers.get(records, params.name);
    const { steps, hostKey } = await tryServer(installation, name, body.hostKeys ?? [], async (ssh, confirmed) => {
      await records.transaction(async (trx) => {
        await servers.update(trx, name, ssh);
        await call.note(trx, `server ${name}`, { hostKey: confirmed });
      });
    });
    await call.note(records, `server ${name}`, { failed: steps.filter((one) => one.state === 'failed').length });
    return { steps, hostKey, server: await toServer(installation, await servers.get(records, name)) };
  },

  async serverClear(call) {
    const { installation, params, query } = call;
    const record = await installation.servers.get(installation.records, params.name);
    if (query.confirm !== record.name)
      throw new NotConfirmed(
        query.confirm,
        `What is left behind on ${record.name} is removed for good.`,
        `Look at it first: tessarion server list; and confirm with ${record.name}.`,
      );
    const removed = await removeLeftBehind(installation, record);
    await call.note(installation.records, `server ${record.name}`, { ...removed });
    return removed;
  },

  async fleetShow({ installation, query, sight }) {
    return glanceAt(installation, installation.records, sight, query.site);
  },
  async siteList({ installation, query, sight }) {
    const sites = await readFleet(installation, installation.records, sight);
    return sites
      .filter((site) => query.client === undefined || site.client === query.client)
      .filter((site) => query.tag === undefined || site.tags.includes(query.tag))
      .filter(
        (site) =>
          site.environments.some(
            (one) =>
              (query.kind === undefined || one.kind === query.kind) &&
              (query.state === undefined || one.state === query.state),
          ) ||
          (query.kind === undefined && query.state === undefined),
      );
  },
  async siteShow({ installation, params, sight }) {
    const [site] = await readFleet(installation, installation.records, sight, { site: params.site });
    if (!site) throw noSite(params.site);
    return site;
  },
  async siteTag(call) {
    const { installation, params, body, sight } = call;
    const tags = [...new Set(body.tags)].sort();
    await installation.records.transaction(async (trx) => {
      const before = await holdSite(trx, params.site);
      call.mustMatch(siteTag(before));
      await updateSite(trx, params.site, { tags });
      await call.note(trx, params.site, { before: before.tags, after: tags });
      await publishEvent(trx, { type: 'site', site: params.site });
    });
    const [site] = await readFleet(installation, installation.records, sight, { site: params.site });
    return site as NonNullable<typeof site>;
  },
  async siteTry(call) {
    const { installation, body } = call;
    const environment = toEngine(await wantedLive(call), await wantedProfile(call));
    await call.note(installation.records, environment.path, { trial: true, client: body.client });
    const checks = await adoptionChecks(installation, environment, call.body.server);
    const isThere = checks.every((check) => check.name !== 'files' || check.state === 'passed');
    return { checks, moves: isThere ? await adoptionMoves(environment) : [] };
  },
  async siteAdopt(call) {
    const { client, timeZone: time_zone = 'UTC', profile = null } = call.body;
    return startAdoption(call, await wantedLive(call), { client, time_zone, profile });
  },
  siteLeave: (call) => startLeaving(call, call.params.site, call.query.confirm),
};

type Adopting = Pick<Call<unknown, unknown, BodyOf<'siteAdopt'>>, 'installation' | 'body'>;

/** @throws {ProblemError} `not-found` */
async function wantedProfile({ installation: { records }, body }: Adopting): Promise<Profile | undefined> {
  if (body.profile === undefined) return undefined;
  if (!(await records('profile').where({ name: body.profile }).first('name')))
    throw new ProblemError(
      'not-found',
      `There is no profile ${body.profile}.`,
      'Save it first: tessarion profile save FILE',
    );
  return (await composeRecord(records, await getProfile(records, body.profile))).profile;
}

/**
 * The live environment of a site that is to be brought in, as it would be on record.
 *
 * @throws {ProblemError} `taken`, `not-found`, `invalid`
 */
async function wantedLive(adopting: Adopting): Promise<EnvironmentRecord> {
  const { installation, body } = adopting;
  const { records, environments, servers } = installation;
  if (await records('site').where({ name: body.name }).first('name'))
    throw new ProblemError('taken', `There is a site ${body.name} already.`, 'Choose another name.');
  const server = await servers.get(records, body.server);
  await wantedProfile(adopting);
  const addresses = body.addresses.map(
    (address): Address => ({
      name: address.name,
      ...parseLocation(address.url),
      aliases: (address.aliases ?? []).map((alias) => ({ name: alias.name, ...parseLocation(alias.url) })),
    }),
  );
  await refuseTakenAddresses(records, environments, addresses);
  const others = await environments.list(records);
  const folder = ownFolder(body, server, others);
  const reach = servers.reach(server);
  await mustBeOwnDatabases(body, servers.connect(server), others, installation.recordsUrl);
  return {
    ...UNKNOWN_YET,
    path: `${body.name}/live`,
    site: body.name,
    name: 'live',
    kind: 'live',
    server: server.name,
    reach,
    folder,
    addresses,
    roots: (body.roots ?? ['main']).map((name) => ({
      name,
      path: `${folder}/${name}`,
      ...(body.asItLies ? { isPlain: true } : {}),
    })),
    databases: body.databases,
    settings: {},
    gate: null,
    made_from: null,
    made_at: installation.now(),
  };
}
