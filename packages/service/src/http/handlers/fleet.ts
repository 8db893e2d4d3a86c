import { hostname } from 'node:os';
import { type Address, formatLocation, parseLocation, plainSentence } from '@tessarion/core';
import { connectTo, LocalServer } from '@tessarion/engine';
import { readFleet } from '../../facts/fleet.js';
import { ProblemError } from '../../problems.js';
import { noSite } from '../../records/absent.js';
import type { ServerRecord } from '../../records/servers.js';
import { toTransfer } from '../../records/transfers.js';
import type { Installation } from '../../work/context.js';
import type { Handlers } from './call.js';

async function toServer(installation: Installation, record: ServerRecord) {
  const freeBytes = await new LocalServer().freeBytes(Buffer.from(record.folder).toString('latin1')).catch(() => null);
  const reached = await installation.servers
    .admin(record)
    .serverVersion()
    .then(
      () => true,
      () => false,
    );
  return {
    name: record.name,
    folder: record.folder,
    baseDomain: record.base_domain,
    database: `${record.database.host}:${record.database.port}`,
    reached: reached && freeBytes !== null,
    freeBytes,
  };
}

export const fleetHandlers: Handlers<'serverList' | 'serverCreate' | 'siteList' | 'siteShow' | 'siteAdopt'> = {
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
    await new LocalServer().makeFolder(Buffer.from(body.folder).toString('latin1'));
    const { password, ...database } = body.database;
    await records.transaction(async (trx) => {
      await servers.insert(trx, {
        name: body.name,
        machine: hostname(),
        folder: body.folder.replace(/\/+$/, ''),
        base_domain: body.baseDomain,
        web_host: body.webHost,
        database,
        password,
      });
      await call.note(trx, `server ${body.name}`, { folder: body.folder });
    });
    return toServer(installation, await servers.get(records, body.name));
  },

  async siteList({ installation, query, sight }) {
    const sites = await readFleet(installation, installation.records, sight);
    return sites
      .filter((site) => query.client === undefined || site.client === query.client)
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
    const [site] = await readFleet(installation, installation.records, sight, params.site);
    if (!site) throw noSite(params.site);
    return site;
  },
  async siteAdopt(call) {
    const { installation, body, person } = call;
    const { records, environments, servers, transfers } = installation;
    if (await records('site').where({ name: body.name }).first('name'))
      throw new ProblemError('taken', `There is a site ${body.name} already.`, 'Choose another name.');
    const server = await servers.get(records, body.server);
    if (body.profile !== undefined && !(await records('profile').where({ name: body.profile }).first('name')))
      throw new ProblemError(
        'not-found',
        `There is no profile ${body.profile}.`,
        'Save it first: tessarion profile save FILE',
      );
    const addresses = body.addresses.map(
      (address): Address => ({
        name: address.name,
        ...parseLocation(address.url),
        aliases: (address.aliases ?? []).map((alias) => ({ name: alias.name, ...parseLocation(alias.url) })),
      }),
    );
    await refuseTakenAddresses(installation, addresses);
    for (const { name: _name, ...login } of body.databases) await (await connectTo(login, 'read', 'adopt')).end();
    const path = `${body.name}/live`;
    const folder = body.folder.replace(/\/+$/, '');
    return records.transaction(async (trx) => {
      await trx('site').insert({
        name: body.name,
        client: body.client,
        time_zone: body.timeZone ?? 'UTC',
        profile: body.profile ?? null,
        server: server.name,
        created_at: installation.now(),
      });
      await environments.insert(trx, {
        path,
        site: body.name,
        name: 'live',
        kind: 'live',
        status: 'making',
        server: server.name,
        folder,
        addresses,
        roots: (body.roots ?? ['main']).map((name) => ({ name, path: `${folder}/${name}` })),
        databases: body.databases,
        settings: {},
        gate: null,
        made_from: null,
        made_at: installation.now(),
        refreshed_at: null,
        size: null,
        drift: null,
        epoch: 0,
        unreached: null,
        looked_at: null,
        description: null,
        schedule: null,
      });
      const transfer = await transfers.create(trx, {
        kind: 'adopt',
        from: null,
        onto: path,
        site: body.name,
        sentence: plainSentence({ kind: 'adopt', environment: path }),
        person: person.name,
        input: {},
      });
      await call.note(trx, path, { transfer: transfer.id, client: body.client, profile: body.profile ?? null });
      return toTransfer(transfer, null);
    });
  },
};

/** @throws {ProblemError} `taken` when another environment answers at one of the addresses */
export async function refuseTakenAddresses(installation: Installation, wanted: readonly Address[]): Promise<void> {
  const hosts = new Map(
    (await installation.environments.list(installation.records)).flatMap((one) =>
      one.addresses.flatMap((address) => [address, ...address.aliases]).map((at) => [at.host, one.path] as const),
    ),
  );
  for (const address of wanted) {
    const owner = hosts.get(address.host);
    if (owner !== undefined)
      throw new ProblemError(
        'taken',
        `${formatLocation(address)} is taken: ${owner} answers there.`,
        'Choose another name or address.',
      );
  }
}
