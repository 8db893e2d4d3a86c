import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { DataFolder } from '../src/ground/data-folder.js';
import { ProblemError } from '../src/ground/problems.js';
import { type GuestRecord, isOpenLink } from '../src/guests/guests.js';
import { idInKey, isKeyOf, linkOf, sessionOf } from '../src/guests/keys.js';
import { isSecure } from '../src/http/cookies.js';
import { providerSettings } from '../src/people/provider.js';
import { type Attempt, type Counted, Tries } from '../src/people/tries.js';

describe('failed tries to get in', () => {
  let clock = 0;
  let tries: Tries;
  beforeEach(() => {
    clock = 0;
    tries = new Tries(() => new Date(clock));
  });
  const ANA = { who: 'account ana', free: 5 };
  const BEN = { who: 'account ben', free: 5 };
  const begin = (...counted: Counted[]): Attempt | undefined => {
    try {
      return tries.begin(...counted);
    } catch (error) {
      expect(error).toBeInstanceOf(ProblemError);
      expect((error as ProblemError).kind).toBe('too-many-tries');
      return undefined;
    }
  };
  const isHeldOff = (...counted: Counted[]): boolean => {
    const attempt = begin(...counted);
    attempt?.end();
    return attempt === undefined;
  };
  const fail = (who: Counted, times: number): void => {
    for (let i = 0; i < times; i++) {
      const attempt = tries.begin(who);
      attempt.fail(who);
      attempt.end();
    }
  };

  it('are free before the fifth, which makes one wait, each further one longer, and never for more than a quarter hour', () => {
    fail(ANA, 4);
    expect(isHeldOff(ANA)).toBe(false);
    let longest = 0;
    for (let i = 0; i < 20; i++) {
      fail(ANA, 1);
      expect(isHeldOff(ANA)).toBe(true);
      const from = clock;
      while (isHeldOff(ANA)) clock += 1000;
      const wait = clock - from;
      expect(wait).toBeGreaterThanOrEqual(longest);
      expect(wait).toBeLessThanOrEqual(900_000);
      longest = wait;
    }
    expect(longest).toBe(900_000);
  });

  it('are forgotten by one that succeeds, and held against nobody else', () => {
    fail(ANA, 5);
    expect(isHeldOff(BEN, { who: 'address 1', free: 50 })).toBe(false);
    expect(isHeldOff(BEN, ANA)).toBe(true);
    clock += 2000;
    const attempt = tries.begin(ANA);
    attempt.succeed(ANA);
    attempt.end();
    fail(ANA, 4);
    expect(isHeldOff(ANA), 'and are counted anew').toBe(false);
  });

  it('count while they run: of a thousand at once, no more are let through than may fail', () => {
    const running = Array.from({ length: 1000 }, () => begin(ANA)).filter((one) => one !== undefined);
    expect(running).toHaveLength(5);
    for (const one of running) one.fail(ANA);
    for (const one of running) one.end();
    expect(isHeldOff(ANA)).toBe(true);
    clock += 2000;
    const next = begin(ANA);
    expect([next === undefined, isHeldOff(ANA)], 'afterwards one by one').toEqual([false, true]);
    next?.end();
    next?.end();
    expect(isHeldOff(ANA), 'one that ends without a verdict counts for nothing').toBe(false);
  });
});

const guestOf = (changes: Partial<GuestRecord> = {}): GuestRecord => ({
  id: 'g-0123456789',
  site: 'threadmill',
  name: 'Vera Lund',
  mail: null,
  words: '',
  passcode_hash: null,
  person_id: 'p-0000000000',
  created_at: new Date('2026-11-01T00:00:00Z'),
  expires_at: new Date('2026-12-01T00:00:00Z'),
  ended_at: null,
  last_seen_at: null,
  choice: null,
  chosen_at: null,
  ...changes,
});

describe('the key of a guest', () => {
  let [folder, other]: DataFolder[] = [];
  const places: string[] = [];
  const place = (of: DataFolder | undefined) => ({ folder: of as DataFolder, consoleUrl: 'https://studio.example' });
  const keyIn = (url: string): string => url.slice(url.indexOf('#') + 1);

  beforeAll(async () => {
    for (let i = 0; i < 2; i++) places.push(await fs.mkdtemp(join(tmpdir(), 'tessarion-keys-')));
    [folder, other] = await Promise.all(places.map((one) => DataFolder.open(one)));
  });
  afterAll(() => Promise.all(places.map((one) => fs.rm(one, { recursive: true, force: true }))));

  it('stands behind the #, and fits its own link, here and as long as it holds', () => {
    const url = linkOf(place(folder), guestOf());
    expect(url).toMatch(/^https:\/\/studio\.example\/look#g-0123456789\.[\w-]{43}$/);
    const key = keyIn(url);
    expect(idInKey(key)).toBe('g-0123456789');
    const fits = (guest: GuestRecord, at = folder): boolean => isKeyOf(place(at), 'link', guest, key);
    expect(fits(guestOf())).toBe(true);
    expect(fits(guestOf({ name: 'Per Dahl', last_seen_at: new Date() })), 'whoever it is for').toBe(true);
    expect(fits(guestOf({ id: 'g-9876543210' }))).toBe(false);
    expect(fits(guestOf({ expires_at: new Date('2027-12-01T00:00:00Z') })), 'made to last longer').toBe(false);
    expect(fits(guestOf(), other), 'of another installation').toBe(false);
  });

  it('is no session, and a session ends with another passcode', () => {
    const [key, session] = [keyIn(linkOf(place(folder), guestOf())), sessionOf(place(folder), guestOf())];
    expect(isKeyOf(place(folder), 'session', guestOf(), session)).toBe(true);
    expect(isKeyOf(place(folder), 'session', guestOf(), key)).toBe(false);
    expect(isKeyOf(place(folder), 'link', guestOf(), session)).toBe(false);
    expect(isKeyOf(place(folder), 'session', guestOf({ passcode_hash: 'x' }), session)).toBe(false);
  });

  it('fits nothing when a sign of it is another', () => {
    const key = keyIn(linkOf(place(folder), guestOf()));
    fc.assert(
      fc.property(fc.nat(key.length - 1), fc.constantFrom(...'abcXYZ019-_.'), (at, sign) => {
        const changed = `${key.slice(0, at)}${sign}${key.slice(at + 1)}`;
        expect(isKeyOf(place(folder), 'link', guestOf(), changed)).toBe(changed === key);
      }),
    );
    for (const text of ['', '.', 'g-0123456789', `${key}x`, key.slice(1)])
      expect(isKeyOf(place(folder), 'link', guestOf(), text)).toBe(false);
  });

  it.each([
    ['before its time is over', {}, '2026-11-30T23:59:59Z', true],
    ['when its time is over', {}, '2026-12-01T00:00:00Z', false],
    ['once it was ended', { ended_at: new Date('2026-11-02T00:00:00Z') }, '2026-11-03T00:00:00Z', false],
  ])('lets in %s: %o', (_name, changes, now, is) => {
    expect(isOpenLink(guestOf(changes), new Date(now))).toBe(is);
  });
});

describe('a provider', () => {
  const issuer = 'https://accounts.copperlane.example/realm';
  it('is set up by its address and the name that it knows us by, and called by its host unless it has a name', () => {
    expect(providerSettings({})).toBeUndefined();
    expect(providerSettings({ TESSARION_OIDC_ISSUER: issuer })).toBeUndefined();
    expect(providerSettings({ TESSARION_OIDC_ISSUER: issuer, TESSARION_OIDC_CLIENT_ID: 'tessarion' })).toEqual({
      name: 'accounts.copperlane.example',
      issuer,
      clientId: 'tessarion',
      clientSecret: '',
    });
    const named = {
      TESSARION_OIDC_ISSUER: issuer,
      TESSARION_OIDC_CLIENT_ID: 'tessarion',
      TESSARION_OIDC_CLIENT_SECRET: 's',
      TESSARION_OIDC_NAME: 'Copperlane',
    };
    expect(providerSettings(named)).toMatchObject({ name: 'Copperlane', clientSecret: 's' });
  });
});

it('cookies go by TLS alone where people come by TLS', () => {
  expect(isSecure({ consoleUrl: 'https://studio.example' })).toBe(true);
  expect(isSecure({ consoleUrl: 'http://127.0.0.1:7070' })).toBe(false);
});
