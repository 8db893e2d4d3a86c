import { execFile } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { Client, ServiceProblem } from '@tessarion/client';
import { PrivateCluster } from '@tessarion/cluster';
import type { StreamEvent } from '@tessarion/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { addSite, makeCopy, type Studio, startAsUsers } from './support/studio.js';

let studio: Studio;
beforeAll(async () => {
  studio = await startAsUsers();
  await addSite(studio);
}, 120_000);
afterAll(() => studio?.stop());

const MAIL = 'maren.brask@copperlane.example';
const authorised = (): Record<string, string> => ({ authorization: `Bearer ${studio.token}` });
const api = (path: string, init: RequestInit = {}): Promise<Response> =>
  fetch(`${studio.url}/api/v1${path}`, { ...init, headers: { ...authorised(), ...init.headers } });
const post = (path: string, body: unknown): Promise<Response> =>
  api(path, { method: 'POST', body: JSON.stringify(body), headers: { 'content-type': 'application/json' } });

describe('what is wrong with a request', () => {
  it.each([
    ['a path that nobody serves', () => api('/no/such/thing'), 404],
    ['a method that a path has not', () => api('/sites', { method: 'PATCH' }), 404],
    [
      'a body that is not JSON',
      () => api('/sites', { method: 'POST', body: '{', headers: { 'content-type': 'application/json' } }),
      400,
    ],
    [
      'another content type',
      () => api('/forecasts', { method: 'POST', body: '<a/>', headers: { 'content-type': 'text/xml' } }),
      415,
    ],
    ['a field too few', () => post('/forecasts', { from: 'threadmill/live' }), 400],
    ['a field of another type', () => post('/forecasts', { from: 7, onto: 'threadmill/live' }), 400],
    ['a field too many', () => post('/forecasts', { from: 'a/b', onto: 'c/d', force: true }), 400],
    ['a number that is none', () => api('/transfers?limit=many'), 400],
    ['an environment that is not there', () => api('/environments/threadmill/nowhere'), 404],
    ['a transfer that is not there', () => api('/transfers/t-0000000000'), 404],
    ['a body that is too large', () => post('/forecasts', { from: 'x'.repeat(2_200_000), onto: 'a/b' }), 413],
  ] as const)('%s is a problem with its status, a plain sentence and a next step', async (_name, send, status) => {
    const response = await send();
    expect(response.status).toBe(status);
    expect(response.headers.get('content-type')).toContain('application/problem+json');
    const problem = (await response.json()) as Record<string, unknown>;
    expect(problem.status).toBe(status);
    expect(String(problem.type)).toMatch(/^tessarion:[a-z-]+$/);
    expect(String(problem.detail).length).toBeGreaterThan(5);
    expect(String(problem.next).length).toBeGreaterThan(5);
    expect(JSON.stringify(problem)).not.toMatch(/node_modules|at .*\.js:\d+/);
  });
});

describe('signing in', () => {
  it('gives a cookie that scripts cannot read and other sites do not send, until one signs out', async () => {
    const response = await fetch(`${studio.url}/api/v1/sign-in`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ mail: MAIL, password: studio.password }),
    });
    expect(response.status).toBe(200);
    const cookie = response.headers.get('set-cookie') ?? '';
    expect(cookie).toMatch(/HttpOnly/);
    expect(cookie).toMatch(/SameSite=Strict/);
    const session = { cookie: cookie.split(';')[0] as string };
    const me = (): Promise<Response> => fetch(`${studio.url}/api/v1/me`, { headers: session });
    expect(((await (await me()).json()) as { mail: string }).mail).toBe(MAIL);
    await fetch(`${studio.url}/api/v1/sign-out`, { method: 'POST', headers: session });
    expect((await me()).status).toBe(401);
  });

  it('with a token works until it is ended, shows its value once, and nobody ends another one’s', async () => {
    const made = await studio.client.call('tokenCreate', { body: { name: 'for a script', days: 1 } });
    const script = new Client({ url: studio.url, token: made.value });
    expect((await script.call('me')).mail).toBe(MAIL);
    const listed = await studio.client.call('tokenList');
    expect(JSON.stringify(listed)).not.toContain(made.value);
    expect(listed.find((one) => one.id === made.id)?.lastUsedAt).not.toBeNull();
    await studio.client.call('tokenRemove', { params: { id: made.id } });
    const refused = await script.call('me').catch((error: unknown) => error);
    expect(refused).toBeInstanceOf(ServiceProblem);
    expect((refused as ServiceProblem).problem.status).toBe(401);
  });

  it('the first administrator’s key works once', async () => {
    const again = await fetch(`${studio.url}/api/v1/first-administrator`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({
        key: 'first_guess',
        name: 'X',
        mail: 'x@copperlane.example',
        password: 'long enough 123',
      }),
    });
    expect([403, 404, 409]).toContain(again.status);
  });
});

/** Reads events from the stream until `enough` says so. */
async function events(
  headers: Record<string, string>,
  enough: (seen: { id: number; event: StreamEvent }[]) => boolean,
  meanwhile: () => Promise<unknown> = async () => undefined,
): Promise<{ id: number; event: StreamEvent }[]> {
  const stop = new AbortController();
  const response = await fetch(`${studio.url}/api/v1/events`, {
    headers: { ...authorised(), ...headers },
    signal: stop.signal,
  });
  expect(response.headers.get('content-type')).toBe('text/event-stream');
  const acting = meanwhile();
  const seen: { id: number; event: StreamEvent }[] = [];
  let text = '';
  for await (const chunk of response.body as unknown as AsyncIterable<Uint8Array>) {
    text += Buffer.from(chunk).toString();
    const parts = text.split('\n\n');
    text = parts.pop() as string;
    for (const part of parts) {
      const [id, data] = [/^id: (\d+)/m.exec(part)?.[1], /^data: (.*)$/m.exec(part)?.[1]];
      if (data !== undefined) seen.push({ id: Number(id), event: JSON.parse(data) as StreamEvent });
    }
    if (enough(seen)) break;
  }
  stop.abort();
  await acting;
  return seen;
}
const isEnd = ({ event }: { event: StreamEvent }): boolean =>
  event.type === 'transfer' && ['done', 'failed'].includes(event.state);

describe('the event stream', () => {
  it('tells a transfer from its beginning to its end, and resumes where it broke off', async () => {
    const all = await events(
      {},
      (seen) => seen.some(isEnd),
      () => studio.client.call('snapshotTake', { body: { environment: 'threadmill/live' } }),
    );
    const states = all.flatMap(({ event }) => (event.type === 'transfer' ? [event.state] : []));
    expect(states[0]).toBe('waiting');
    expect(states).toContain('running');
    expect(states.at(-1)).toBe('done');
    expect(all.map((one) => one.id)).toEqual(all.map((one) => one.id).toSorted((a, b) => a - b));

    const broke = all[1] as { id: number };
    const rest = await events({ 'last-event-id': String(broke.id) }, (seen) => seen.some(isEnd));
    expect(rest.map((one) => one.id)).toEqual(all.slice(2).map((one) => one.id));
  });
});

describe('secrets', () => {
  it('stand in plain neither in the records nor in any log', async () => {
    await makeCopy(studio, 'threadmill', 'staging');
    const logins = await studio.client.call('environmentLogins', {
      params: { site: 'threadmill', environment: 'staging' },
    });
    const records = await PrivateCluster.at(join(studio.data, 'tessarion/records'));
    const { host, port, user, password } = await records.start();
    const { stdout } = await promisify(execFile)(
      'pg_dump',
      ['-h', host, '-p', String(port), '-U', user, '-d', 'postgres', '--inserts'],
      { env: { ...process.env, PGPASSWORD: password }, maxBuffer: 1 << 28 },
    );
    const settings = await fs.readFile(join(studio.hosts, 'threadmill--staging/main/config/site.env'), 'utf8');
    const ownPassword = /PASSWORD=["']?([^"'\n]+)/.exec(settings)?.[1] as string;
    const logs = await Promise.all(
      [join(studio.data, 'service.log'), join(studio.data, 'tessarion/run/gateway.log')].map((path) =>
        fs.readFile(path, 'utf8').catch(() => ''),
      ),
    );
    const secrets = [studio.token, studio.password, studio.server.password, ownPassword];
    expect(JSON.stringify(logins).length).toBeGreaterThan(10);
    for (const secret of secrets) {
      expect(secret.length).toBeGreaterThan(7);
      expect(stdout.includes(secret)).toBe(false);
      expect(logs.join('').includes(secret)).toBe(false);
    }
    expect(logs.join('')).toContain('reqId');
    expect((await fs.stat(join(studio.data, 'tessarion/master.key'))).mode & 0o777).toBe(0o600);
  });
});
