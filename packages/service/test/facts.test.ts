import { createHmac } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type Address, checkProfile, lowerOf, type Profile, parseLocation } from '@tessarion/core';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { copyDatabases, copyPlace } from '../src/fleet/new-copy.js';
import type { ServerRecord } from '../src/fleet/servers.js';
import { resolveSettings, type SettingFacts } from '../src/fleet/settings.js';
import { DataFolder, hashSecret, newId, newSecret } from '../src/ground/data-folder.js';
import { exchangeMasterKey, isMasterKey, Keys } from '../src/ground/keys.js';

const address = (name: string, url: string): Address => ({ name, ...parseLocation(url), aliases: [] });
const server = {
  name: 'harbour',
  folder: '/srv/sites',
  base_domain: 'localhost',
  database: { host: '127.0.0.1', port: 5432 },
} as unknown as ServerRecord;

describe('where a copy lies', () => {
  const source = {
    addresses: [
      address('main', 'https://threadmill.example'),
      address('blog', 'https://threadmill.example/blog'),
      address('shop', 'https://shop.threadmill.example/de'),
    ],
    roots: [{ name: 'main', path: '/srv/sites/threadmill--live/main' }],
  };

  const front = { addressOf: (host: string, path: string) => parseLocation(`http://${host}:7400${path}`) };

  it('is made of its names, keeps paths, and puts what shared a host under one host again', () => {
    const place = copyPlace('threadmill', 'staging', source, server, front);
    expect(place.folder).toBe('/srv/sites/threadmill--staging');
    expect(place.roots).toEqual([{ name: 'main', path: '/srv/sites/threadmill--staging/main' }]);
    expect(place.addresses.map(({ name, host, port, path }) => `${name} ${host}:${port}${path}`)).toEqual([
      'main threadmill--staging.localhost:7400',
      'blog threadmill--staging.localhost:7400/blog',
      'shop threadmill--staging--shop.localhost:7400/de',
    ]);
  });

  it('never meets another copy’s, whatever the names', () => {
    const name = fc.stringMatching(/^[a-z][a-z0-9]{0,6}(-[a-z0-9]{1,4}){0,2}$/);
    fc.assert(
      fc.property(name, name, name, name, (site, one, otherSite, other) => {
        if (site === otherSite && one === other) return;
        const hosts = (s: string, n: string): string[] =>
          copyPlace(s, n, source, server, front).addresses.map((at) => at.host);
        const [a, b] = [hosts(site, one), hosts(otherSite, other)];
        expect(a.filter((host) => b.includes(host))).toEqual([]);
      }),
    );
  });

  it('has databases and logins of its own, with names that every server takes', () => {
    const of = [{ name: 'main', host: 'x', port: 1, database: 'd', user: 'u', password: 'secret' }];
    const [one] = copyDatabases('a-very-long-name-of-a-site-indeed', 'and-a-long-one-of-a-copy', of, server);
    const [other] = copyDatabases('a-very-long-name-of-a-site-indeed', 'and-a-long-one-of-a-copy', of, server);
    expect(one?.database).toMatch(/^[a-z][a-z0-9_]{0,62}$/);
    expect(one?.database).not.toBe(other?.database);
    expect(one?.password).not.toBe(other?.password);
    expect(one?.password.length).toBeGreaterThanOrEqual(24);
    expect(one).toMatchObject({ name: 'main', host: '127.0.0.1', port: 5432 });
  });
});

describe('settings of a copy', () => {
  const setting = (name: string, rest: string): string =>
    `  - { name: ${name}, in: { file: config/site.env, format: env, key: ${name.toUpperCase()} }, ${rest} }\n`;
  const checked = checkProfile(`tessarion: profile/1
name: test
title: Test
areas:
  - { name: code, path: ., class: authored }
databases: { main: { tables: { '*': { class: authored } } } }
settings:
${setting('mode', 'values: { live: live, staging: test, dev: test }')}${setting('url', 'from: { address: main }')}${setting('host', 'from: { address: main, as: host }')}${setting('root', 'from: { root: main }')}${setting('db', 'from: { database: main, part: url }')}${setting('key', 'from: { generate: key }, secret: true')}${setting('licence', 'from: { own: true }, bound-to-address: true')}`);
  const facts: SettingFacts = {
    kind: 'staging',
    addresses: [address('main', 'http://threadmill--staging.localhost:7400')],
    roots: [{ name: 'main', path: '/srv/x/main' }],
    databases: [{ name: 'main', host: 'h', port: 5, database: 'd', user: 'u', password: 'p' }],
  };

  it('come from its kind, its own facts, or are made anew; what belongs to live alone stays empty, with a word', () => {
    if (!checked.ok) throw new Error(JSON.stringify(checked));
    const profile: Profile = checked.profile;
    const { values, warnings } = resolveSettings(profile, facts);
    expect(values).toMatchObject({
      mode: 'test',
      url: 'http://threadmill--staging.localhost:7400',
      host: 'threadmill--staging.localhost',
      root: '/srv/x/main',
      db: 'postgresql://u:p@h:5/d',
      licence: '',
    });
    expect(values.key?.length).toBe(32);
    expect(resolveSettings(profile, facts).values.key).not.toBe(values.key);
    expect(warnings).toEqual([
      expect.stringMatching(/^"licence" is bound to live's address, and empty here: write the copy's own into \S+/),
    ]);
    const own = resolveSettings(profile, facts, { licence: 'given to the copy' });
    expect(own).toMatchObject({ values: { licence: 'given to the copy' }, warnings: [] });
    expect(resolveSettings(profile, { ...facts, kind: 'live' }).values.mode).toBe('live');
  });
});

describe('pairs', () => {
  it('have one lower end, whoever asks', () => {
    const kind = fc.constantFrom('dev', 'staging', 'live');
    const end = fc.record({ path: fc.constantFrom('a/x', 'a/y', 'a/z'), kind }) as fc.Arbitrary<{
      path: string;
      kind: 'dev' | 'staging' | 'live';
    }>;
    fc.assert(
      fc.property(end, end, (a, b) => {
        if (a.path === b.path) return;
        expect(lowerOf(a, b)).toBe(lowerOf(b, a));
        if (a.kind === 'live' && b.kind !== 'live') expect(lowerOf(a, b)).toBe(b.path);
      }),
    );
  });
});

describe('keys and secrets', () => {
  it('are made once, kept from others, and read back what they sealed and nothing else', async () => {
    const folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-keys-'));
    const data = await DataFolder.open(folder);
    expect((await fs.stat(join(folder, 'master.key'))).mode & 0o777).toBe(0o600);
    const again = await DataFolder.open(folder);
    await fc.assert(
      fc.asyncProperty(fc.string({ unit: 'binary' }), async (text) => {
        const sealed = data.keys.encrypt(text);
        expect(again.keys.decrypt(sealed)).toBe(text);
        expect(data.keys.encrypt(text)).not.toBe(sealed);
      }),
    );
    const sealed = Buffer.from(data.keys.encrypt('a secret'), 'base64');
    for (let at = 0; at < sealed.length; at++) {
      const altered = Buffer.from(sealed);
      altered[at] = (altered[at] as number) ^ 1;
      expect(() => data.keys.decrypt(altered.toString('base64'))).toThrow();
    }
    expect(data.keys.derive('store a').equals(data.keys.derive('store b'))).toBe(false);
    await fs.mkdir(join(folder, 'another'));
    const stranger = await Keys.open(join(folder, 'another'), true);
    expect(() => stranger.decrypt(sealed.toString('base64'))).toThrow();
    await fs.rm(folder, { recursive: true });
  });

  describe('of which the master key is exchanged', () => {
    let folder: string;
    const master = (): string => join(folder, 'master.key');
    const sealed = (): string => join(folder, 'inner.key');
    const reads = async (text: string): Promise<boolean> =>
      (await DataFolder.open(folder)).keys.decrypt(text) === 'words';
    beforeEach(async () => {
      folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-keys-'));
    });
    afterEach(() => fs.rm(folder, { recursive: true }));

    it('stay what they are, and the former master key opens nothing any more', async () => {
      const before = await DataFolder.open(folder);
      const [former, text] = [await fs.readFile(master(), 'utf8'), before.keys.encrypt('words')];
      await fs.writeFile(join(folder, 'kept.key'), former);
      expect(await isMasterKey(folder, join(folder, 'kept.key'))).toBe(true);
      expect(await exchangeMasterKey(folder)).toBe(master());
      expect(await fs.readFile(master(), 'utf8')).not.toBe(former);
      expect(await isMasterKey(folder, join(folder, 'kept.key'))).toBe(false);
      expect(await reads(text)).toBe(true);
      expect((await DataFolder.open(folder)).keys.masterMark).not.toBe(before.keys.masterMark);
      await fs.writeFile(master(), former);
      await expect(DataFolder.open(folder)).rejects.toThrow('another master key');
    });

    it('are opened by one of the two wherever it was broken off, and by the new one alone once that has', async () => {
      const before = await DataFolder.open(folder);
      const [former, text] = [await fs.readFile(master(), 'utf8'), before.keys.encrypt('words')];
      const next = join(folder, 'next.key');
      await fs.writeFile(next, 'ab'.repeat(32));
      expect(await exchangeMasterKey(folder, next)).toBe(next);
      expect(await reads(text), 'still the former').toBe(true);
      expect(await isMasterKey(folder, next)).toBe(true);
      await fs.writeFile(master(), 'ab'.repeat(32));
      expect(await reads(text)).toBe(true);
      await fs.writeFile(master(), former);
      await expect(DataFolder.open(folder)).rejects.toThrow('another master key');
    });

    it('are lost to nothing that is no key, gone or cut off', async () => {
      const before = await DataFolder.open(folder);
      const [former, inner] = [await fs.readFile(master(), 'utf8'), await fs.readFile(sealed(), 'utf8')];
      const text = before.keys.encrypt('words');
      for (const [file, content] of [
        [sealed(), inner.slice(0, -10)],
        [sealed(), ''],
        [master(), ''],
        [master(), 'cd'.repeat(32)],
      ] as const) {
        const whole = await fs.readFile(file, 'utf8');
        await fs.writeFile(file, content);
        await expect(DataFolder.open(folder)).rejects.toThrow('master key');
        await expect(exchangeMasterKey(folder)).rejects.toThrow('master key');
        await fs.writeFile(file, whole);
      }
      await fs.rm(master());
      await expect(DataFolder.open(folder), 'no other one is made').rejects.toThrow('is not there');
      await fs.writeFile(master(), former);
      expect(await reads(text)).toBe(true);
    });

    it('are those of a former version, which had a master key alone', async () => {
      const key = 'ef'.repeat(32);
      await fs.writeFile(master(), key);
      await fs.mkdir(join(folder, 'stores'));
      const { keys } = await DataFolder.open(folder);
      const mark = createHmac('sha256', Buffer.from(key, 'hex')).update('the mark of the master key').digest('hex');
      expect(keys.mark).toBe(mark);
      await exchangeMasterKey(folder);
      expect((await DataFolder.open(folder)).keys.mark).toBe(mark);
    });
  });

  it('ids can be said aloud, and do not meet', () => {
    const ids = new Set(Array.from({ length: 20_000 }, () => newId('t')));
    expect(ids.size).toBe(20_000);
    for (const id of ids) expect(id).toMatch(/^t-[0-9a-hjkmnp-tv-z]{10}$/);
    expect(newSecret('tsr')).toMatch(/^tsr_[A-Za-z0-9_-]{32}$/);
    expect(hashSecret('a')).not.toBe(hashSecret('b'));
  });
});
