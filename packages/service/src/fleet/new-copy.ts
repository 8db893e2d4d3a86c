import { randomBytes } from 'node:crypto';
import { type Address, type Location, layoutName, type Profile } from '@tessarion/core';
import { newPassword } from '@tessarion/engine';
import { type DatabaseRecord, type EnvironmentRecord, type NewEnvironmentRecord, UNKNOWN_YET } from './environments.js';
import type { ServerRecord } from './servers.js';
import { resolveSettings } from './settings.js';

/** Who says where a host name of a copy answers: what stands before it. */
interface AddressMaker {
  addressOf(host: string, path: string): Location;
}

/** Where a copy lies and answers, made from its site's and its own name. */
export function copyPlace(
  site: string,
  name: string,
  source: Pick<EnvironmentRecord, 'addresses' | 'roots'>,
  server: ServerRecord,
  front: AddressMaker,
): Pick<EnvironmentRecord, 'folder' | 'addresses' | 'roots'> {
  const folder = `${server.folder}/${layoutName(site, name)}`;
  const hosts = [...new Set(source.addresses.map((address) => `${address.host}:${address.port ?? ''}`))];
  const addresses = source.addresses.map((address): Address => {
    const number = hosts.indexOf(`${address.host}:${address.port ?? ''}`);
    const host = number === 0 ? layoutName(site, name) : `${layoutName(site, name)}--${address.name}`;
    return {
      name: address.name,
      ...front.addressOf(`${host}.${server.base_domain}`, address.path),
      aliases: [],
    };
  });
  return {
    folder,
    addresses,
    roots: source.roots.map((root) => ({ name: root.name, path: `${folder}/${root.name}` })),
  };
}

/** Fresh databases for a copy, with logins of their own. */
export function copyDatabases(
  site: string,
  name: string,
  source: readonly DatabaseRecord[],
  server: ServerRecord,
): DatabaseRecord[] {
  return source.map((database) => {
    const id = `${site.slice(0, 20)}_${name.slice(0, 20)}_${randomBytes(3).toString('hex')}`.replaceAll('-', '_');
    return {
      name: database.name,
      ...(server.database.system === undefined ? {} : { system: server.database.system }),
      host: server.database.host,
      port: server.database.port,
      database: id,
      user: id,
      password: newPassword(),
    };
  });
}

/** A copy's record before it is made, with the warnings of its settings. */
export function newCopy(
  wanted: Pick<EnvironmentRecord, 'site' | 'name' | 'kind' | 'preview'> & {
    readonly madeFrom: string;
    readonly source: EnvironmentRecord;
    readonly server: ServerRecord;
    readonly profile: Profile;
  },
  { front, now }: { readonly front: AddressMaker; readonly now: () => Date },
): { readonly record: NewEnvironmentRecord; readonly warnings: readonly string[] } {
  const { site, name, kind, preview, madeFrom, source, server, profile } = wanted;
  const place = copyPlace(site, name, source, server, front);
  const databases = copyDatabases(site, name, source.databases, server);
  const settings = resolveSettings(profile, { kind, addresses: place.addresses, roots: place.roots, databases });
  const record: NewEnvironmentRecord = {
    ...UNKNOWN_YET,
    path: `${site}/${name}`,
    site,
    name,
    kind,
    server: server.name,
    ...place,
    databases,
    settings: settings.values,
    gate: newGate(site),
    made_from: madeFrom,
    foreign_origin: originOf(source, site),
    made_at: now(),
    preview,
  };
  return { record, warnings: settings.warnings };
}

/** Where what a copy for a site gets came from, where that is another site. */
export const originOf = (source: EnvironmentRecord, site: string): string | null =>
  source.site === site ? source.foreign_origin : source.path;

/** The login of a copy's gate. */
const newGate = (site: string): { user: string; password: string } => ({
  user: site,
  password: randomBytes(9).toString('base64url'),
});
