import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import type { BodyOf } from '@tessarion/contract';
import { install } from '@tessarion/demo';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { done, refusal, SHOP, type Studio, startStudio } from '../support/studio.js';
import { tried } from './tried.js';

let studio: Studio;
let own: BodyOf<'siteAdopt'>;
/** Another client's site, which is here already. */
let other: BodyOf<'siteAdopt'>;

beforeAll(async () => {
  studio = await startStudio();
  own = await install(studio.place, SHOP);
  other = await install(studio.place, { ...SHOP, name: 'saltmarsh', client: 'Saltmarsh Ferries' });
  await done(studio, await studio.client.call('siteAdopt', { body: other }));
}, 120_000);
afterAll(() => studio?.stop());

const attack = (more: Partial<BodyOf<'siteAdopt'>>): Promise<string> => {
  tried('bringing in');
  return refusal(studio.client.call('siteAdopt', { body: { ...own, ...more } }));
};
const withLogin = (more: Partial<BodyOf<'siteAdopt'>['databases'][number]>) => ({
  databases: own.databases.map((one) => ({ ...one, ...more })),
});

describe('a site that is brought in, step by step', { shuffle: false }, () => {
  it.each([
    ['outside its server’s folder', () => '/etc', 'invalid'],
    ['as the server’s folder itself', () => studio.hosts, 'invalid'],
    ['by a way back', () => join(studio.hosts, 'x').concat('/../../tessarion'), 'invalid'],
    ['by a way round', () => `${studio.hosts}/./threadmill--live`, 'invalid'],
    ['by double slashes', () => `${studio.hosts}//threadmill--live`, 'invalid'],
    ['in Tessarion’s own folder', () => join(studio.data, 'tessarion'), 'invalid'],
    ['where another lies', () => other.folder, 'taken'],
    ['within another', () => join(other.folder, 'main'), 'taken'],
  ])('is refused %s', async (_where, folder, end) => {
    expect(await attack({ folder: folder() })).toBe(end);
  });

  it('takes no other site’s database, nor Tessarion’s', async () => {
    const [theirs] = other.databases;
    expect(await attack(withLogin({ ...theirs, name: 'main' }))).toBe('taken');
    expect(await attack(withLogin({ ...theirs, name: 'main', host: 'localhost' }))).toBe('taken');
    const twice = own.databases.flatMap((one) => [one, { ...one, name: 'more' }]);
    expect(await attack({ databases: twice })).toBe('taken');
    const records = JSON.parse(await fs.readFile(join(studio.data, 'tessarion/records/access.json'), 'utf8'));
    const { host, port, user, password } = records;
    expect(await attack(withLogin({ host, port, user, password, database: 'postgres' }))).toBe('taken');
  });

  it('has a login that reaches its own database alone', async () => {
    const { user, password } = studio.server;
    expect(await attack(withLogin({ user, password }))).toBe('invalid');
    const client = new pg.Client({ ...studio.server, database: 'postgres' });
    await client.connect();
    const login = own.databases[0]?.user;
    for (const [give, take] of [
      [`ALTER ROLE ${login} CREATEROLE`, `ALTER ROLE ${login} NOCREATEROLE`],
      [`ALTER ROLE ${login} BYPASSRLS`, `ALTER ROLE ${login} NOBYPASSRLS`],
      [`GRANT pg_execute_server_program TO ${login}`, `REVOKE pg_execute_server_program FROM ${login}`],
      [`GRANT pg_read_server_files TO ${login}`, `REVOKE pg_read_server_files FROM ${login}`],
    ] as const) {
      await client.query(give);
      expect(await attack({}), give).toBe('invalid');
      await client.query(take);
    }
    await client.end();
    expect(await studio.client.call('siteList')).toHaveLength(1);
    await done(studio, await studio.client.call('siteAdopt', { body: own }));
  });
});

describe('a server that is added', () => {
  it.each([
    ['everything', () => '/'],
    ['the folder that holds Tessarion’s own', () => studio.data],
    ['Tessarion’s own folder', () => join(studio.data, 'tessarion')],
    ['a folder in it', () => join(studio.data, 'tessarion/stores')],
    ['a way back', () => `${studio.hosts}/../tessarion`],
  ])('does not have %s for its sites', async (_what, folder) => {
    tried('bringing in');
    const { host, port, user, password } = studio.server;
    const body = {
      name: 'harbour-9',
      folder: folder(),
      baseDomain: 'more.localhost',
      webHost: { host: '127.0.0.1', port: 8080 },
      database: { host, port, user, password },
    };
    expect(await refusal(studio.client.call('serverCreate', { body }))).toBe('invalid');
  });

  it('says which databases every site’s login may open there', async () => {
    tried('bringing in');
    const open = async (): Promise<string[]> => (await studio.client.call('serverList'))[0]?.openToAll ?? [];
    expect(await open()).not.toContain('postgres');
    const client = new pg.Client({ ...studio.server, database: 'postgres' });
    await client.connect();
    await client.query('GRANT CONNECT ON DATABASE postgres TO PUBLIC');
    expect(await open()).toContain('postgres');
    await client.query('REVOKE CONNECT ON DATABASE postgres FROM PUBLIC');
    await client.end();
    expect(await open()).not.toContain('postgres');
  });
});
