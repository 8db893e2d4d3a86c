import { randomBytes } from 'node:crypto';
import { type Address, layoutName, parseLocation } from '@tessarion/core';
import { newPassword } from '@tessarion/engine';
import type { DatabaseRecord, EnvironmentRecord } from '../records/environments.js';
import type { ServerRecord } from '../records/servers.js';

/** Where a copy lies and answers, made from its site's and its own name. */
export function copyPlace(
  site: string,
  name: string,
  source: Pick<EnvironmentRecord, 'addresses' | 'roots'>,
  server: ServerRecord,
  gatewayPort: number,
): Pick<EnvironmentRecord, 'folder' | 'addresses' | 'roots'> {
  const folder = `${server.folder}/${layoutName(site, name)}`;
  const hosts = [...new Set(source.addresses.map((address) => `${address.host}:${address.port ?? ''}`))];
  const addresses = source.addresses.map((address): Address => {
    const number = hosts.indexOf(`${address.host}:${address.port ?? ''}`);
    const host = number === 0 ? layoutName(site, name) : `${layoutName(site, name)}--${address.name}`;
    return {
      name: address.name,
      ...parseLocation(`http://${host}.${server.base_domain}:${gatewayPort}${address.path}`),
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
      host: server.database.host,
      port: server.database.port,
      database: id,
      user: id,
      password: newPassword(),
    };
  });
}

/** The login of a copy's gate. */
export const newGate = (site: string): { user: string; password: string } => ({
  user: site,
  password: randomBytes(9).toString('base64url'),
});
