import * as fs from 'node:fs/promises';
import { createServer, type IncomingMessage, request, type Server, type ServerResponse } from 'node:http';
import { type AddressInfo, connect } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { brotliCompressSync, deflateSync, gzipSync } from 'node:zlib';
import { pino } from 'pino';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import type { Route } from '../src/front/front.js';
import type { Holders } from '../src/front/holders.js';
import { Gateway } from '../src/gateway/gateway.js';

const LIVE = 'threadmill.example';
const COPY = 'threadmill--staging.example';
const PAGE = '<!doctype html><html><body><h1>Cloth</h1></body></html>';

let folder: string;
let gateway: Gateway;
let port: number;
let upstream: Server;
let upstreamPort: number;
let clock: number;
/** What the site's own web server does with a request. */
let serve: (incoming: IncomingMessage, answer: ServerResponse) => void;

const listen = (server: Server): Promise<number> =>
  new Promise((resolve) => server.listen(0, '127.0.0.1', () => resolve((server.address() as AddressInfo).port)));

const route = (host: string, kind: Route['kind'], gate: Route['gate']): Route => ({
  host,
  environment: `threadmill/${kind}`,
  kind,
  gate,
  upstream: { host: '127.0.0.1', port: upstreamPort },
  refreshedAt: new Date(0).toISOString(),
  console: 'http://console.example',
});

let holders: Holders = {};
const writeRoutes = async (...routes: Route[]): Promise<void> => {
  await fs.writeFile(join(folder, 'routes.json'), JSON.stringify({ routes, holders }));
  await gateway.loadRoutes();
};

beforeAll(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-gateway-'));
  upstream = createServer((incoming, answer) => serve(incoming, answer));
  upstreamPort = await listen(upstream);
});
afterAll(async () => {
  upstream.closeAllConnections();
  upstream.close();
  gateway.close();
  await fs.rm(folder, { recursive: true });
});
beforeEach(async () => {
  gateway?.close();
  holders = { 'person p-1': ['threadmill'] };
  clock = Date.parse('2026-11-23T10:00:00Z');
  gateway = new Gateway({
    routesFile: join(folder, 'routes.json'),
    ticketsFile: join(folder, 'tickets'),
    key: Buffer.alloc(32, 5),
    log: pino({ level: 'silent' }),
    now: () => new Date(clock),
  });
  port = await listen(gateway.server);
  await writeRoutes(route(LIVE, 'live', null), route(COPY, 'staging', { user: 'guest', password: 'open sesame' }));
  serve = (_incoming, answer) => answer.writeHead(200, { 'content-type': 'text/html; charset=utf-8' }).end(PAGE);
});

interface Answer {
  readonly status: number;
  readonly headers: IncomingMessage['headers'];
  readonly body: string;
}

function ask(
  host: string,
  path = '/',
  options: { method?: string; headers?: Record<string, string>; body?: string | Buffer } = {},
): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const call = request(
      { host: '127.0.0.1', port, path, method: options.method ?? 'GET', headers: { host, ...options.headers } },
      (response) => {
        const chunks: Buffer[] = [];
        response.on('data', (chunk: Buffer) => chunks.push(chunk));
        response.on('end', () =>
          resolve({
            status: response.statusCode ?? 0,
            headers: response.headers,
            body: Buffer.concat(chunks).toString(),
          }),
        );
        response.on('error', reject);
      },
    );
    call.on('error', reject);
    call.end(options.body);
  });
}

const FORM = { 'content-type': 'application/x-www-form-urlencoded' };
const logIn = (user: string, password: string): Promise<Answer> =>
  ask(COPY, '/.tessarion/gate', {
    method: 'POST',
    headers: FORM,
    body: new URLSearchParams({ user, password }).toString(),
  });
const cookieOf = (answer: Answer): string => String(answer.headers['set-cookie']).split(';')[0] as string;

describe('the way to an environment', () => {
  it('goes by host name, whatever its case and port', async () => {
    for (const host of [LIVE, LIVE.toUpperCase(), `${LIVE}:7400`]) expect((await ask(host)).body).toBe(PAGE);
    const unknown = await ask('elsewhere.example');
    expect([unknown.status, unknown.headers['x-robots-tag']]).toEqual([404, 'noindex, nofollow']);
  });

  it('carries method, path, query, headers and body as they are, and says where the request came from', async () => {
    let seen: { method?: string; url?: string; headers?: IncomingMessage['headers']; body?: string } = {};
    serve = (incoming, answer) => {
      const chunks: Buffer[] = [];
      incoming.on('data', (chunk: Buffer) => chunks.push(chunk));
      incoming.on('end', () => {
        seen = {
          method: incoming.method ?? '',
          url: incoming.url ?? '',
          headers: incoming.headers,
          body: Buffer.concat(chunks).toString('latin1'),
        };
        answer.writeHead(201, { 'x-own': 'kept', 'set-cookie': ['a=1', 'b=2'] }).end('made');
      });
    };
    const body = Buffer.from(Array.from({ length: 5000 }, (_one, i) => i % 256));
    const answer = await ask(LIVE, '/order%20now?x=1&x=2', {
      method: 'POST',
      headers: { cookie: 'basket=7', 'x-forwarded-for': '6.6.6.6', 'x-custom': 'yes' },
      body,
    });
    expect([answer.status, answer.body, answer.headers['x-own']]).toEqual([201, 'made', 'kept']);
    expect(answer.headers['set-cookie']).toEqual(['a=1', 'b=2']);
    expect(seen).toMatchObject({ method: 'POST', url: '/order%20now?x=1&x=2', body: body.toString('latin1') });
    expect(seen.headers).toMatchObject({ host: LIVE, cookie: 'basket=7', 'x-custom': 'yes' });
    // Nobody can claim to come from somewhere else.
    expect(seen.headers?.['x-forwarded-for']).toMatch(/^(::ffff:)?127\.0\.0\.1$/);
  });

  it('passes pages of live byte for byte, also compressed ones', async () => {
    const packed = gzipSync(PAGE);
    serve = (_incoming, answer) =>
      answer.writeHead(200, { 'content-type': 'text/html', 'content-encoding': 'gzip', etag: '"1"' }).end(packed);
    const answer = await ask(LIVE);
    expect(answer.headers).toMatchObject({ 'content-encoding': 'gzip', etag: '"1"' });
    expect(answer.headers['x-robots-tag']).toBeUndefined();
  });

  it('says so when the web server is away, and goes on when it is back', async () => {
    await writeRoutes({ ...route(LIVE, 'live', null), upstream: { host: '127.0.0.1', port: 1 } });
    expect((await ask(LIVE)).status).toBe(502);
    await writeRoutes(route(LIVE, 'live', null));
    expect((await ask(LIVE)).status).toBe(200);
  });

  it('lets go of the web server when the visitor leaves', async () => {
    const left = new Promise<void>((resolve) => {
      serve = (incoming, answer) => {
        answer.writeHead(200, { 'content-type': 'text/plain' }).write('a first part');
        incoming.on('close', resolve);
      };
    });
    const call = request({ host: '127.0.0.1', port, headers: { host: LIVE } });
    call.on('response', () => call.destroy());
    call.on('error', () => undefined);
    call.end();
    await left;
  });

  it('keeps the routes it has when the file is gone, and does not take half a file', async () => {
    await fs.rm(join(folder, 'routes.json'));
    await gateway.loadRoutes();
    expect((await ask(LIVE)).status).toBe(200);
    await fs.writeFile(join(folder, 'routes.json'), '{"routes": [{"host": "half');
    await expect(gateway.loadRoutes()).rejects.toThrow();
    expect((await ask(LIVE)).status).toBe(200);
  });

  it('carries web sockets both ways', async () => {
    upstream.once('upgrade', (incoming, socket) => {
      socket.write(
        `HTTP/1.1 101 Switching Protocols\r\nUpgrade: echo\r\nConnection: Upgrade\r\nX-Path: ${incoming.url}\r\n\r\n`,
      );
      socket.on('data', (data: Buffer) => socket.write(data.toString().toUpperCase()));
    });
    const socket = connect(port, '127.0.0.1');
    let got = '';
    socket.on('data', (data: Buffer) => {
      got += data.toString();
    });
    const until = async (text: string): Promise<void> => {
      while (!got.includes(text)) await new Promise((resolve) => setTimeout(resolve, 5));
    };
    socket.write(`GET /live-news HTTP/1.1\r\nHost: ${LIVE}\r\nUpgrade: echo\r\nConnection: Upgrade\r\n\r\n`);
    await until('101 Switching Protocols');
    expect(got.toLowerCase()).toContain('x-path: /live-news');
    socket.write('hello there');
    await until('HELLO THERE');
    socket.destroy();
    // A copy's sockets are behind its gate like everything else.
    const closed = connect(port, '127.0.0.1');
    let refused = '';
    closed.on('data', (data: Buffer) => {
      refused += data.toString();
    });
    closed.write(`GET / HTTP/1.1\r\nHost: ${COPY}\r\nUpgrade: echo\r\nConnection: Upgrade\r\n\r\n`);
    await new Promise((resolve) => closed.once('close', resolve));
    expect(refused).toContain('401');
  });
});

describe('what visitors ask for in unusual ways', () => {
  it.each(['h2c', 'TLS/1.0', 'h2c, HTTP/2.0'])('is answered where they offer %s', async (protocol) => {
    const answers: string[] = [];
    for (const host of [LIVE, COPY]) {
      const socket = connect(port, '127.0.0.1');
      let got = '';
      socket.on('data', (data: Buffer) => {
        got += data.toString();
      });
      socket.write(`GET / HTTP/1.1\r\nHost: ${host}\r\nUpgrade: ${protocol}\r\nConnection: Upgrade\r\n\r\n`);
      await new Promise((resolve) => socket.once('close', resolve));
      answers.push(got);
    }
    expect(answers[0]).toMatch(/^HTTP\/1.1 200 .*Connection: close/is);
    expect(answers[0]).toContain((await ask(LIVE)).body);
    expect(answers[1], 'behind its gate as ever').toMatch(/^HTTP\/1.1 401 /);
  });

  it('is handed on with the path that they wrote', async () => {
    for (const path of ['//', '//page//dye', '/./page'])
      expect([path, (await ask(LIVE, path)).status]).toEqual([path, 200]);
  });
});

describe('the gate of a copy', () => {
  it('is shown to strangers on every path, with nothing of the copy in it', async () => {
    for (const path of ['/', '/media/photo.jpg', '/.tessarion/', '/.tessarion/../secret']) {
      const answer = await ask(COPY, path);
      expect([path, [401, 404].includes(answer.status)]).toEqual([path, true]);
      expect(answer.body).not.toContain('Cloth');
      expect(answer.headers['x-robots-tag']).toContain('noindex');
      expect(answer.headers['content-security-policy']).toContain("default-src 'none'");
    }
    const robots = await ask(COPY, '/robots.txt');
    expect([robots.status, robots.body]).toEqual([200, 'User-agent: *\nDisallow: /\n']);
  });

  it('opens with its login and stays open for a day’s work, in this copy only', async () => {
    const entered = await logIn('guest', 'open sesame');
    expect(entered.status).toBe(303);
    expect(String(entered.headers['set-cookie'])).toMatch(/HttpOnly; SameSite=Lax/);
    const cookie = cookieOf(entered);
    expect((await ask(COPY, '/', { headers: { cookie } })).body).toContain('Cloth');
    clock += 11 * 3600_000;
    expect((await ask(COPY, '/', { headers: { cookie } })).status).toBe(200);
    clock += 2 * 3600_000;
    expect((await ask(COPY, '/', { headers: { cookie } })).status).toBe(401);
    await writeRoutes({ ...route(COPY, 'dev', { user: 'guest', password: 'x' }), environment: 'threadmill/other' });
    clock -= 10 * 3600_000;
    expect((await ask(COPY, '/', { headers: { cookie } })).status).toBe(401);
  });

  it('keeps its own cookie from the site, and the site’s from nobody', async () => {
    const cookie = cookieOf(await logIn('guest', 'open sesame'));
    let seen: string | undefined;
    serve = (incoming, answer) => {
      seen = incoming.headers.cookie;
      answer.end();
    };
    await ask(COPY, '/', { headers: { cookie: `session=1; ${cookie}; theme=dark` } });
    expect(seen).toBe('session=1; theme=dark');
  });

  it('holds off those who guess, and lets them try again after a minute', async () => {
    for (let i = 0; i < 10; i++) expect((await logIn('guest', `guess ${i}`)).status).toBe(401);
    expect((await logIn('guest', 'open sesame')).status).toBe(429);
    clock += 61_000;
    expect((await logIn('guest', 'open sesame')).status).toBe(303);
  });

  it('refuses a form that never ends', async () => {
    const answer = await ask(COPY, '/.tessarion/gate', { method: 'POST', headers: FORM, body: 'x'.repeat(100_000) });
    expect(answer.status).not.toBe(303);
    expect((await ask(LIVE)).status).toBe(200);
  });

  it('opens once with a link from the console, and leads nowhere else', async () => {
    const link = (to: string): string => {
      const ticket = gateway.passes.issue('ticket', 'threadmill/staging', 'person p-1', clock, 60);
      return `/.tessarion/enter?ticket=${encodeURIComponent(ticket)}&to=${encodeURIComponent(to)}`;
    };
    const once = link('/page/dye');
    const entered = await ask(COPY, once);
    expect([entered.status, entered.headers.location]).toEqual([303, '/page/dye']);
    expect((await ask(COPY, '/', { headers: { cookie: cookieOf(entered) } })).status).toBe(200);
    expect((await ask(COPY, once)).status).toBe(401);
    for (const to of [
      '//evil.example',
      'https://evil.example',
      '\\\\evil.example',
      '/\\evil.example',
      '/\t/evil.example',
    ])
      expect((await ask(COPY, link(to))).headers.location).toBe('/');
    clock += 61_000;
    expect((await ask(COPY, link('/').replace(/ticket=[^&]+/, 'ticket=forged'))).status).toBe(401);
  });
});

describe('pages of a copy', () => {
  let cookie: string;
  beforeEach(async () => {
    cookie = cookieOf(await logIn('guest', 'open sesame'));
  });
  const page = (): Promise<Answer> => ask(COPY, '/', { headers: { cookie } });

  it.each([
    ['plain', undefined, (text: string) => Buffer.from(text)],
    ['gzip', 'gzip', gzipSync],
    ['brotli', 'br', brotliCompressSync],
    ['deflate', 'deflate', deflateSync],
  ] as const)('carry the marker before their end, and noindex (%s)', async (_name, encoding, pack) => {
    serve = (_incoming, answer) => {
      const body = pack(PAGE);
      answer
        .writeHead(200, {
          'content-type': 'text/html',
          'content-length': body.length,
          etag: '"1"',
          ...(encoding === undefined ? {} : { 'content-encoding': encoding }),
        })
        .end(body);
    };
    const answer = await page();
    expect(answer.body.startsWith('<!doctype html><html><body><h1>Cloth</h1>')).toBe(true);
    expect(answer.body.endsWith('</body></html>')).toBe(true);
    expect(answer.body).toContain('threadmill/staging');
    expect(answer.headers['x-robots-tag']).toBe('noindex, nofollow');
    // What the page was is no longer what it is.
    expect(answer.headers.etag).toBeUndefined();
    expect(answer.headers['content-encoding']).toBeUndefined();
  });

  it('are left alone where they are no pages', async () => {
    for (const type of ['application/json', 'image/svg+xml', 'text/css']) {
      serve = (_incoming, answer) => answer.writeHead(200, { 'content-type': type }).end('{"a": "</body>"}');
      expect((await page()).body).toBe('{"a": "</body>"}');
    }
    serve = (_incoming, answer) => answer.writeHead(200, { 'content-type': 'text/html' }).end('a fragment');
    expect((await page()).body).toBe('a fragment');
  });

  it('carry it however large they are, and pass while they come', async () => {
    const large = Buffer.concat([Buffer.alloc(6_000_000, 'x'), Buffer.from('</body>')]);
    serve = (_incoming, answer) => answer.writeHead(200, { 'content-type': 'text/html' }).end(large);
    const answer = await page();
    expect(answer.body.length).toBeGreaterThan(large.length);
    expect(answer.body.startsWith('xxx')).toBe(true);
    expect(answer.body).toMatch(/x<tsr-marker>.*<\/tsr-marker><\/body>$/s);
  });
});

describe('holding', () => {
  it('keeps new visitors waiting without failing them, after those who are in have ended', async () => {
    let finish: () => void = () => undefined;
    serve = (incoming, answer) => {
      if (incoming.url === '/slow') finish = () => answer.end('slow one');
      else answer.end('quick one');
    };
    const slow = ask(LIVE, '/slow');
    while (gateway.takeTraffic()['threadmill/live'] === undefined)
      await new Promise((resolve) => setTimeout(resolve, 2));
    await new Promise((resolve) => setTimeout(resolve, 20));
    const held = gateway.holds.hold('threadmill/live', 5000, 5000);
    let isHeld = false;
    void held.then(() => {
      isHeld = true;
    });
    let isServed = false;
    const visitor = ask(LIVE, '/next').then((answer) => {
      isServed = true;
      return answer;
    });
    await new Promise((resolve) => setTimeout(resolve, 60));
    expect([isHeld, isServed]).toEqual([false, false]);
    finish();
    expect((await slow).body).toBe('slow one');
    const { lease } = await held;
    await new Promise((resolve) => setTimeout(resolve, 60));
    expect(isServed).toBe(false);
    // Other environments do not wait.
    expect((await ask(COPY)).status).toBe(401);
    gateway.holds.release(lease);
    expect(await visitor).toMatchObject({ status: 200, body: 'quick one' });
  });

  it('does not wait for streams of events, which may never end', async () => {
    serve = (_incoming, answer) => answer.writeHead(200, { 'content-type': 'text/event-stream' }).write('data: 1\n\n');
    const call = request({ host: '127.0.0.1', port, headers: { host: LIVE } });
    const opened = new Promise<IncomingMessage>((resolve) => call.on('response', resolve));
    call.on('error', () => undefined);
    call.end();
    const stream = await opened;
    await new Promise((resolve) => stream.once('data', resolve));
    const { waitedMs, lease } = await gateway.holds.hold('threadmill/live', 5000, 5000);
    expect(waitedMs).toBeLessThan(1000);
    gateway.holds.release(lease);
    call.destroy();
  });

  it('waits for nobody who left while held, or whose request could not be passed on', async () => {
    serve = (_incoming, answer) => answer.end('served');
    const first = await gateway.holds.hold('threadmill/live', 5000, 0);
    const visitors = Array.from({ length: 3 }, () => {
      const call = request({ host: '127.0.0.1', port, headers: { host: LIVE } });
      call.on('error', () => undefined);
      call.end();
      return call;
    });
    await new Promise((resolve) => setTimeout(resolve, 60));
    for (const one of visitors) one.destroy();
    await new Promise((resolve) => setTimeout(resolve, 60));
    gateway.holds.release(first.lease);
    // Nobody answers there.
    upstream.closeAllConnections();
    await writeRoutes({ ...route(LIVE, 'live', null), upstream: { host: '127.0.0.1', port: 1 } });
    expect((await ask(LIVE)).status).toBe(502);
    await new Promise((resolve) => setTimeout(resolve, 60));
    const { waitedMs, lease } = await gateway.holds.hold('threadmill/live', 5000, 5000);
    expect(waitedMs).toBeLessThan(1000);
    gateway.holds.release(lease);
  });

  it('ends by itself, so that visitors are served though nobody releases it', async () => {
    await gateway.holds.hold('threadmill/live', 80, 0);
    expect((await ask(LIVE)).status).toBe(200);
  });
});

describe('traffic', () => {
  it('is counted by environment and hour; strangers at a gate are not visitors', async () => {
    for (let i = 0; i < 3; i++) await ask(LIVE);
    clock += 3600_000;
    await ask(LIVE);
    await ask(COPY);
    expect(gateway.takeTraffic()).toEqual({ 'threadmill/live': { '2026-11-23T10': 3, '2026-11-23T11': 1 } });
  });

  it('is remembered for five weeks and no longer', async () => {
    for (let hour = 0; hour < 24 * 35 + 5; hour++) {
      clock += 3600_000;
      if (hour % 100 === 0 || hour > 24 * 35) await ask(LIVE);
    }
    const hours = Object.keys(gateway.takeTraffic()['threadmill/live'] ?? {});
    expect(hours.length).toBeLessThanOrEqual(24 * 35);
  });
});
