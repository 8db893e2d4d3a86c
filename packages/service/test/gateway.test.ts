import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { Holds } from '../src/gateway/holds.js';
import { gatePage, markerHtml } from '../src/gateway/marker.js';
import { PASS_SECONDS, Passes, TryLimit } from '../src/gateway/pass.js';
import type { Route } from '../src/gateway/routes.js';

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
    const cookie = passes.issue('cookie', COPY, 1000, 60);
    expect(passes.isValid('cookie', COPY, cookie, 1000)).toBe(true);
    expect(passes.isValid('cookie', COPY, cookie, 60_999)).toBe(true);
    expect(passes.isValid('cookie', COPY, cookie, 61_000)).toBe(false);
    expect(passes.isValid('cookie', 'threadmill/other', cookie, 1000)).toBe(false);
    expect(passes.isValid('ticket', COPY, cookie, 1000)).toBe(false);
    expect(new Passes(Buffer.alloc(32, 2)).isValid('cookie', COPY, cookie, 1000)).toBe(false);
  });

  it('cannot be altered or guessed', () => {
    const cookie = passes.issue('cookie', COPY, 0, 60);
    fc.assert(
      fc.property(fc.nat(cookie.length - 1), fc.string({ minLength: 1, maxLength: 1 }), (at, letter) => {
        const altered = cookie.slice(0, at) + letter + cookie.slice(at + 1);
        expect(passes.isValid('cookie', COPY, altered, 0)).toBe(altered === cookie);
      }),
    );
    fc.assert(
      fc.property(fc.string(), (text) => {
        expect(passes.isValid('cookie', COPY, text, 0)).toBe(false);
      }),
    );
  });

  it('a ticket works once, and says for how long the gate stays open', () => {
    const ticket = passes.issue('ticket', COPY, 0, 60);
    expect(passes.redeem('threadmill/other', ticket, 0)).toBeUndefined();
    expect(passes.redeem(COPY, ticket, 0)).toBe(PASS_SECONDS);
    expect(passes.redeem(COPY, ticket, 1)).toBeUndefined();
    expect(passes.redeem(COPY, passes.issue('ticket', COPY, 0, 60), 60_001)).toBeUndefined();
    const short = passes.issue('ticket', COPY, 0, 60, 3600);
    // Whoever makes it hold for longer has another signature to find.
    expect(passes.redeem(COPY, short.replace(':3600.', ':36000.'), 0)).toBeUndefined();
    expect(passes.redeem(COPY, short, 0)).toBe(3600);
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
