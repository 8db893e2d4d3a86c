import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import type { Route } from '../src/front/front.js';
import { mayHold } from '../src/front/holders.js';
import { type Holder, PASS_SECONDS, Passes, TryLimit } from '../src/front/pass.js';
import { Holds } from '../src/gateway/holds.js';
import { gatePage, markerHtml } from '../src/gateway/marker.js';
import { targetOf } from '../src/gateway/target.js';
import { UsedTickets } from '../src/gateway/used-tickets.js';

const LIVE = 'threadmill/live';
/** Whether a promise has settled, after everything that is ready has had its turn. */
async function isDone(promise: Promise<unknown>): Promise<boolean> {
  let done = false;
  void promise.then(() => {
    done = true;
  });
  await vi.advanceTimersByTimeAsync(0);
  return done;
}

describe('holding visitors', () => {
  beforeEach(() => {
    vi.useFakeTimers();
  });
  afterEach(() => {
    vi.useRealTimers();
  });

  it('stops those who come, waits for those who are in, and lets all through when released', async () => {
    const holds = new Holds();
    await holds.admit(LIVE);
    await holds.admit(LIVE);
    const held = holds.hold(LIVE, 8000, 2000);
    const visitor = holds.admit(LIVE);
    expect(await isDone(held)).toBe(false);
    holds.leave(LIVE);
    expect(await isDone(held)).toBe(false);
    holds.leave(LIVE);
    expect(await isDone(held)).toBe(true);
    expect(await isDone(visitor)).toBe(false);
    await vi.advanceTimersByTimeAsync(300);
    const { lease } = await held;
    expect(holds.release(lease).heldMs).toBeGreaterThanOrEqual(300);
    expect(await isDone(visitor)).toBe(true);
  });

  it('ends by itself when nobody releases it, and a late release does no harm', async () => {
    const holds = new Holds();
    const { lease } = await holds.hold(LIVE, 8000, 2000);
    const visitor = holds.admit(LIVE);
    await vi.advanceTimersByTimeAsync(7999);
    expect(await isDone(visitor)).toBe(false);
    await vi.advanceTimersByTimeAsync(1);
    expect(await isDone(visitor)).toBe(true);
    holds.leave(LIVE);
    const next = await holds.hold(LIVE, 8000, 0);
    const other = holds.admit(LIVE);
    holds.release(lease);
    expect(await isDone(other)).toBe(false);
    holds.release(next.lease);
    expect(await isDone(other)).toBe(true);
  });

  it('lasts for as long as somebody keeps it, and half a minute at most', async () => {
    const holds = new Holds();
    const { lease } = await holds.hold(LIVE, 8000, 0);
    const visitor = holds.admit(LIVE);
    for (let second = 2; second < 30; second += 2) {
      await vi.advanceTimersByTimeAsync(2000);
      expect(holds.keep(lease, 8000)).toEqual({ isHeld: true });
    }
    expect(await isDone(visitor)).toBe(false);
    await vi.advanceTimersByTimeAsync(2000);
    expect(await isDone(visitor)).toBe(true);
    expect(holds.keep(lease, 8000)).toEqual({ isHeld: false });
    expect(holds.release(lease)).toEqual({ heldMs: expect.any(Number), isOver: true });
    expect(holds.release(lease)).toEqual({ heldMs: null, isOver: true });
  });

  it('waits for slow requests only so long', async () => {
    const holds = new Holds();
    await holds.admit(LIVE);
    const held = holds.hold(LIVE, 8000, 2000);
    await vi.advanceTimersByTimeAsync(1999);
    expect(await isDone(held)).toBe(false);
    await vi.advanceTimersByTimeAsync(1);
    expect(await isDone(held)).toBe(true);
  });

  it('goes on without a gap when another hold follows, and leaves other environments alone', async () => {
    const holds = new Holds();
    const first = await holds.hold(LIVE, 8000, 0);
    const visitor = holds.admit(LIVE);
    const second = await holds.hold(LIVE, 8000, 0);
    expect(await isDone(visitor)).toBe(false);
    holds.release(first.lease);
    expect(await isDone(visitor)).toBe(false);
    expect(await isDone(holds.admit('quayside/live'))).toBe(true);
    holds.release(second.lease);
    expect(await isDone(visitor)).toBe(true);
  });
});

describe('passes of a gate', () => {
  const passes = new Passes(Buffer.alloc(32, 1));
  const COPY = 'threadmill/staging';

  it('open the gate that they were made for, in their kind, in their time, with their key', () => {
    const cookie = passes.issue('cookie', COPY, 'person p-1', 1000, 60);
    expect(passes.read('cookie', COPY, cookie, 1000)).toMatchObject({ holder: 'person p-1', stays: PASS_SECONDS });
    expect(passes.read('cookie', COPY, cookie, 60_999)).toBeDefined();
    expect(passes.read('cookie', COPY, cookie, 61_000)).toBeUndefined();
    expect(passes.read('cookie', COPY, cookie, 999), 'from the future').toBeUndefined();
    expect(passes.read('cookie', 'threadmill/other', cookie, 1000)).toBeUndefined();
    expect(passes.read('ticket', COPY, cookie, 1000)).toBeUndefined();
    expect(new Passes(Buffer.alloc(32, 2)).read('cookie', COPY, cookie, 1000)).toBeUndefined();
  });

  it('cannot be altered, guessed, or spelled otherwise', () => {
    const cookie = passes.issue('cookie', COPY, 'guest g-1', 1000, 60);
    fc.assert(
      fc.property(fc.nat(cookie.length - 1), fc.string({ minLength: 0, maxLength: 2 }), (at, letters) => {
        const altered = cookie.slice(0, at) + letters + cookie.slice(at + 1);
        expect(passes.read('cookie', COPY, altered, 1000) !== undefined).toBe(altered === cookie);
      }),
    );
    fc.assert(
      fc.property(fc.string(), (text) => {
        expect(passes.read('cookie', COPY, text, 1000)).toBeUndefined();
      }),
    );
    for (const spelled of [`${cookie}=`, ` ${cookie}`, `0${cookie}`, cookie.replace('61000', '6.1e4'), `${cookie}.x`])
      expect([spelled, passes.read('cookie', COPY, spelled, 1000)]).toEqual([spelled, undefined]);
  });

  it('by a copy’s login end when its password is another one', () => {
    const cookie = passes.issue('cookie', COPY, 'login', 1000, 60, { secret: 'open sesame' });
    expect(passes.read('cookie', COPY, cookie, 1000, 'open sesame')).toBeDefined();
    expect(passes.read('cookie', COPY, cookie, 1000, 'open barley')).toBeUndefined();
    expect(passes.read('cookie', COPY, cookie, 1000)).toBeUndefined();
  });

  it('hold for those who may see the environment, and for who knows its login', () => {
    const holders = { 'person p-1': ['threadmill'], 'person p-2': ['*'], 'guest g-1': [COPY] };
    const may = (holder: Holder, environment: string): boolean => mayHold(holders, holder, environment);
    expect([may('person p-1', COPY), may('person p-1', 'threadmill-2/staging')]).toEqual([true, false]);
    expect([may('person p-2', COPY), may('person p-3', COPY), may('login', COPY)]).toEqual([true, false, true]);
    expect([may('guest g-1', COPY), may('guest g-1', `${COPY}-2`)]).toEqual([true, false]);
  });

  it('a ticket is used once, also after the gateway has died', async () => {
    const folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-tickets-'));
    const path = join(folder, 'tickets');
    const used = new UsedTickets(path, 0);
    expect([used.use('one', 1000, 0), used.use('one', 1000, 1), used.use('two', 2000, 1)]).toEqual([true, false, true]);
    const next = new UsedTickets(path, 500);
    expect([next.use('one', 1000, 500), next.use('two', 2000, 500)]).toEqual([false, false]);
    // What is over cannot be used by its own time, and need not be remembered.
    expect(await fs.readFile(path, 'utf8')).toBe('one 1000\ntwo 2000\n');
    new UsedTickets(path, 1500);
    expect(await fs.readFile(path, 'utf8')).toBe('two 2000\n');
    await fs.rm(folder, { recursive: true });
  });

  it('those who try too often are held off for a while, each for himself', () => {
    const limit = new TryLimit(3, 1000);
    for (let i = 0; i < 3; i++) {
      expect(limit.isExceeded('one', i)).toBe(false);
      limit.fail('one', i);
    }
    expect(limit.isExceeded('one', 10)).toBe(true);
    expect(limit.isExceeded('other', 10)).toBe(false);
    expect(limit.isExceeded('one', 1001)).toBe(false);
  });
});

describe('what a request asks for', () => {
  it.each([
    ['/', 'shop.example', '/'],
    ['/a%20b?x=1&y=//z', 'shop.example:7400', '/a%20b?x=1&y=//z'],
    ['//elsewhere.example/x', 'shop.example', '//elsewhere.example/x'],
    ['http://shop.example/x?y', 'shop.example', '/x?y'],
    ['HTTP://SHOP.example:80', 'shop.example:80', '/'],
    ['https://shop.example?y', 'shop.example', '/?y'],
  ])('%s at %s is %s', (url, host, path) => {
    expect(targetOf(url, host)).toMatchObject({ path, authority: host, host: 'shop.example' });
  });

  it.each([
    ['http://copy.shop.example/', 'shop.example'],
    ['http://shop.example@copy.shop.example/', 'shop.example'],
    ['http://shop.example:80/', 'shop.example'],
    ['http:///x', 'shop.example'],
    ['http://shop.example\\@copy/', 'shop.example'],
    ['ftp://shop.example/', 'shop.example'],
    ['copy.shop.example:443', 'shop.example'],
    ['*', 'shop.example'],
    ['', 'shop.example'],
    ['/a#b', 'shop.example'],
    ['/a b', 'shop.example'],
    ['/', undefined],
    ['/', ''],
    ['/', 'shop.example, copy.shop.example'],
    ['/', 'shop.example/copy'],
    ['/', 'user@shop.example'],
    ['/', 'shop.example:'],
    ['/', 'shop.example:x'],
    ['/', '-'],
  ])('%s at %s is nothing', (url, host) => {
    expect(targetOf(url, host)).toBeUndefined();
  });
});

describe('what the gateway puts into pages', () => {
  const route: Route = {
    host: 'threadmill--staging.localhost',
    environment: 'threadmill/staging',
    kind: 'staging',
    upstream: { host: '127.0.0.1', port: 1 },
    gate: { user: 'u', password: 'p' },
    refreshedAt: '2026-11-20T10:00:00Z',
    console: 'http://127.0.0.1:7300',
  };

  it('says which copy it is and how old, and leads to the console', () => {
    const html = markerHtml(route, new Date('2026-11-23T10:00:00Z'));
    expect(html).toContain('<b>threadmill/staging</b>');
    expect(html).toContain('brought up to date 3 d ago');
    expect(html).toContain('href="http://127.0.0.1:7300/sites/threadmill"');
    expect(markerHtml(route, new Date('2026-11-20T10:20:00Z'))).toContain('within the hour');
    expect(markerHtml({ ...route, refreshedAt: null }, new Date())).not.toContain('brought up');
  });

  it('escapes whatever it is given', () => {
    const hostile = '"><script>alert(1)</script>';
    const page =
      gatePage({ ...route, environment: hostile }, hostile) +
      markerHtml({ ...route, environment: hostile }, new Date());
    expect(page).not.toContain('<script>alert');
    expect(page).not.toContain(hostile);
    expect(page).toContain('&#34;&#62;&#60;script');
    expect(gatePage(route, '')).not.toContain('role="alert"');
    expect(gatePage(route, '')).toContain('noindex');
  });
});
