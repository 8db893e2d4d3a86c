import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { newcomer, onRecords, type Studio, startStudio } from './support/studio.js';

const MAIL = 'maren.brask@copperlane.example';

/** How long the fifth failure makes one wait. */
const WAIT_MS = 2000;

let studio: Studio;
beforeAll(async () => {
  studio = await startStudio('live');
}, 120_000);
afterAll(() => studio?.stop());

const post = (path: string, body: unknown, headers: Record<string, string> = {}): Promise<Response> =>
  fetch(`${studio.url}/api/v1${path}`, {
    method: 'POST',
    headers: { 'content-type': 'application/json', ...headers },
    body: JSON.stringify(body),
  });
const asMaren = (): Record<string, string> => ({ authorization: `Bearer ${studio.token}` });
const signIn = (password: string, mail = MAIL, headers = {}): Promise<Response> =>
  post('/sign-in', { mail, password }, headers);
const cookieOf = (response: Response): string => response.headers.get('set-cookie')?.split(';')[0] ?? '';
const me = (cookie: string): Promise<Response> => fetch(`${studio.url}/api/v1/me`, { headers: { cookie } });

describe('a session', () => {
  it('is never one that somebody brought along, and a former one ends with the new', async () => {
    const planted = 'tessarion_session=session_planted';
    const first = cookieOf(await signIn(studio.password, MAIL, { cookie: planted }));
    expect(first).not.toBe(planted);
    expect((await me(planted)).status).toBe(401);
    const second = cookieOf(await signIn(studio.password, MAIL, { cookie: first }));
    expect([(await me(first)).status, (await me(second)).status]).toEqual([401, 200]);
  });

  it('is not used by a page of another origin', async () => {
    const cookie = cookieOf(await signIn(studio.password));
    const body = { name: 'x', mail: 'x@copperlane.example', role: 'administrator', scope: 'everything' };
    const foreign = await post('/people', body, { cookie, origin: 'https://elsewhere.example' });
    expect(foreign.status).toBe(403);
    expect((await post('/people', body, { cookie, origin: 'null' })).status, 'a page without an origin').toBe(403);
    const simple = await fetch(`${studio.url}/api/v1/people`, {
      method: 'POST',
      headers: { cookie, 'content-type': 'text/plain', origin: 'https://elsewhere.example' },
      body: JSON.stringify(body),
    });
    expect(simple.status).toBeGreaterThanOrEqual(400);
    expect((await studio.client.call('personList')).map((one) => one.mail)).not.toContain(body.mail);
  });
});

describe('guessing', () => {
  it('a password is stopped after five tries, for longer each time, also for who knows it', async () => {
    // Where this machine stands still for as long as one has to wait, nothing is shown: once more, with somebody else.
    for (let round = 0, took = WAIT_MS; took >= WAIT_MS; round++) {
      const mail = `odd.rye.${round}@copperlane.example`;
      await newcomer(studio, mail, 'operations', 'everything');
      for (let i = 0; i < 4; i++) expect((await signIn('a wrong password', mail)).status).toBe(401);
      const since = Date.now();
      expect((await signIn('a wrong password', mail)).status).toBe(401);
      const { status } = await signIn(studio.password, mail);
      took = Date.now() - since;
      if (took < WAIT_MS) expect(status).toBe(429);
    }
    expect((await signIn(studio.password)).status, 'others go on').toBe(200);
  });

  it('is stopped with an account that is not there as well, and goes no faster with many at once', async () => {
    const unknown = 'nobody@copperlane.example';
    const answers = await Promise.all(Array.from({ length: 40 }, () => signIn('a wrong password', unknown)));
    const statuses = answers.map((one) => one.status);
    expect(new Set(statuses)).toEqual(new Set([401, 429]));
    const since = statuses.filter((one) => one === 401).length;
    expect(since, 'five, and one for each wait that passed meanwhile').toBeLessThanOrEqual(9);
  });

  it.each([
    ['the key of an invitation', '/invitations', { key: 'invitation_guess', password: 'twelve letters' }],
    ['the key of a mail’s link', '/mail-stops', { person: 'p-0000000000', kind: 'delivered', key: 'x'.repeat(32) }],
    [
      'the first administrator’s key',
      '/first-administrator',
      { key: 'x', name: 'x', mail: MAIL, password: 'twelve letters' },
    ],
  ])('%s leads nowhere', async (_name, path, body) => {
    expect((await post(path, body)).status).toBe(403);
  });

  it('an id of somebody else’s notice or session changes nothing', async () => {
    const { client } = studio;
    const other = await newcomer(studio, 'lise.aune@copperlane.example', 'reviewer', 'threadmill');
    const [session] = await other.call('sessionList');
    await expect(client.call('sessionEnd', { params: { id: session?.id ?? '' } })).rejects.toThrow('no session');
    expect((await other.call('sessionList')).length).toBe(1);
  });
});

describe('fields that nobody asked for', () => {
  it.each([
    ['/people', { name: 'x', mail: 'x@copperlane.example', role: 'observer', scope: 'everything', state: 'active' }],
    ['/tokens', { name: 'x', person_id: 'p-0000000000' }],
    ['/requests', { forecast: 'f-0000000000', title: 'x', state: 'approved' }],
    [
      '/freezes',
      { reason: 'x', scope: 'everything', time: { repeats: 'yearly', from: '01-01', until: '01-02', id: 1 } },
    ],
  ])('are refused by %s', async (path, body) => {
    expect((await post(path, body, asMaren())).status).toBe(400);
  });
});

describe('what is kept', () => {
  it('holds no secret in a log, and no address carries one', async () => {
    const made = await studio.client.call('personInvite', {
      body: { name: 'Bror Ness', mail: 'bror.ness@copperlane.example', role: 'observer', scope: 'threadmill' },
    });
    const token = await studio.client.call('tokenCreate', { body: { name: 'for the log' } });
    await fetch(`${studio.url}/api/v1/me?token=${token.value}`);
    const cookie = cookieOf(await signIn(studio.password));
    await me(cookie);
    const log = await fs.readFile(join(studio.data, 'service.log'), 'utf8');
    for (const secret of [made.key, token.value, studio.token, studio.password, cookie.split('=')[1] ?? '-'])
      expect(log).not.toContain(secret);
  });

  it('is hashed: neither passwords nor tokens stand in the records', async () => {
    const rows = await onRecords(
      studio,
      'SELECT row_to_json(p)::text AS text FROM person p UNION ALL SELECT row_to_json(t)::text FROM token t UNION ALL SELECT row_to_json(s)::text FROM session s UNION ALL SELECT row_to_json(i)::text FROM invitation i',
    );
    const all = rows.map((row) => row.text).join('\n');
    expect(all).not.toContain(studio.token);
    expect(all).not.toContain(studio.password);
    expect(all).toContain('scrypt$');
  });
});

describe('the sign-in', () => {
  it.each(['//elsewhere.example/', '/..//elsewhere.example/', '/\\elsewhere.example', 'https://elsewhere.example/'])(
    'leads to no other site: %s',
    async (to) => {
      const browsing = await Browsing.open(studio);
      try {
        const page = await browsing.stranger();
        await page.goto(`${studio.url}/sign-in?to=${encodeURIComponent(to)}`);
        await page.getByLabel('Mail address').fill(MAIL);
        await page.getByLabel('Password').fill(studio.password);
        await page.getByRole('button', { name: 'Sign in' }).click();
        await page.getByRole('button', { name: /account/ }).waitFor();
        expect(new URL(page.url()).origin).toBe(studio.url);
      } finally {
        await browsing.close();
      }
    },
  );
});
