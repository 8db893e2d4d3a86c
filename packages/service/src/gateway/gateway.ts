import * as fs from 'node:fs/promises';
import { createServer, type IncomingMessage, request, type Server, type ServerResponse } from 'node:http';
import type { Duplex } from 'node:stream';
import { createBrotliDecompress, createGunzip, createInflate } from 'node:zlib';
import type { Logger } from 'pino';
import { Holds } from './holds.js';
import { gatePage, markerHtml } from './marker.js';
import { PASS_SECONDS, Passes, TryLimit } from './pass.js';
import type { Route } from './routes.js';

const COOKIE = 'tsr_gate';
const MARKED_BYTES = 4 * 1024 * 1024;

export interface GatewayOptions {
  readonly routesFile: string;
  readonly key: Buffer;
  readonly log: Logger;
  readonly now: () => Date;
}

/**
 * The web front for environments, by host name: gate, noindex, marker, hourly traffic and holding. It needs neither
 * the service nor the records while it serves.
 */
export class Gateway {
  readonly holds = new Holds();
  readonly passes: Passes;
  readonly #options: GatewayOptions;
  readonly #tries = new TryLimit(10, 60_000);
  readonly #traffic = new Map<string, Map<string, number>>();
  #routes = new Map<string, Route>();
  readonly server: Server;

  constructor(options: GatewayOptions) {
    this.#options = options;
    this.passes = new Passes(options.key);
    this.server = createServer((incoming, answer) => {
      this.#serve(incoming, answer).catch((error: unknown) => {
        options.log.warn({ err: error }, 'request failed');
        if (!answer.headersSent) answer.writeHead(502, { 'content-type': 'text/plain; charset=utf-8' });
        answer.end('The site’s web server cannot be reached.\n');
      });
    });
    this.server.on('upgrade', (incoming, socket, head) => this.#upgrade(incoming, socket, head));
    this.server.keepAliveTimeout = 65_000;
  }

  async loadRoutes(): Promise<void> {
    try {
      const routes = JSON.parse(await fs.readFile(this.#options.routesFile, 'utf8')) as Route[];
      this.#routes = new Map(routes.map((route) => [route.host, route]));
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'ENOENT') throw error;
    }
  }

  /** Requests by environment and hour (`2026-11-23T14`, UTC) since they were last taken. */
  takeTraffic(): Record<string, Record<string, number>> {
    const taken = Object.fromEntries(
      [...this.#traffic].map(([environment, hours]) => [environment, Object.fromEntries(hours)]),
    );
    this.#traffic.clear();
    return taken;
  }

  #routeOf(incoming: IncomingMessage): Route | undefined {
    return this.#routes.get((incoming.headers.host ?? '').split(':')[0]?.toLowerCase() ?? '');
  }

  async #serve(incoming: IncomingMessage, answer: ServerResponse): Promise<void> {
    const route = this.#routeOf(incoming);
    if (!route) {
      answer
        .writeHead(404, { 'content-type': 'text/plain; charset=utf-8', 'x-robots-tag': 'noindex' })
        .end('No environment answers at this address.\n');
      return;
    }
    const path = new URL(incoming.url ?? '/', 'http://gateway').pathname;
    if (route.gate) {
      if (path === '/robots.txt')
        return void answer
          .writeHead(200, { 'content-type': 'text/plain', 'x-robots-tag': 'noindex' })
          .end('User-agent: *\nDisallow: /\n');
      if (path.startsWith('/.tessarion/')) return this.#gateRequest(route, path, incoming, answer);
      if (!this.#mayPass(route, incoming)) return sendGate(route, answer, 401, '');
    }
    this.#count(route);
    await this.holds.admit(route.environment);
    this.#proxy(route, incoming, answer);
  }

  #mayPass(route: Route, incoming: IncomingMessage): boolean {
    const cookie = cookies(incoming).find(([name]) => name === COOKIE)?.[1];
    return (
      cookie !== undefined && this.passes.isValid('cookie', route.environment, cookie, this.#options.now().getTime())
    );
  }

  async #gateRequest(route: Route, path: string, incoming: IncomingMessage, answer: ServerResponse): Promise<void> {
    const now = this.#options.now().getTime();
    const enter = (to: string, seconds = PASS_SECONDS): void => {
      answer.writeHead(303, {
        location: to,
        'set-cookie': `${COOKIE}=${this.passes.issue('cookie', route.environment, now, seconds)}; Path=/; HttpOnly; SameSite=Lax; Max-Age=${seconds}`,
        'x-robots-tag': 'noindex',
        'cache-control': 'no-store',
      });
      answer.end();
    };
    if (path === '/.tessarion/enter') {
      const query = new URL(incoming.url ?? '/', 'http://gateway').searchParams;
      const to = query.get('to') ?? '/';
      const seconds = this.passes.redeem(route.environment, query.get('ticket') ?? '', now);
      if (seconds !== undefined) return enter(/^\/(?!\/)/.test(to) ? to : '/', seconds);
      return sendGate(
        route,
        answer,
        401,
        'This link has been used already, or is too old. Open the copy from the console again.',
      );
    }
    if (path === '/.tessarion/gate' && incoming.method === 'POST') {
      const who = `${incoming.socket.remoteAddress} ${route.environment}`;
      const form = new URLSearchParams(await readBody(incoming, 4096));
      // Asked and counted without a pause between, so that many at once are no way around it.
      if (this.#tries.isExceeded(who, now)) return sendGate(route, answer, 429, 'Too many tries. Wait a minute.');
      if (form.get('user') === route.gate?.user && form.get('password') === route.gate?.password) return enter('/');
      this.#tries.fail(who, now);
      return sendGate(route, answer, 401, 'Name or password is not right.');
    }
    return sendGate(route, answer, 404, '');
  }

  #proxy(route: Route, incoming: IncomingMessage, answer: ServerResponse): void {
    const { environment } = route;
    let isCounted = true;
    const leave = (): void => {
      if (isCounted) this.holds.leave(environment);
      isCounted = false;
    };
    const headers = forwardedHeaders(incoming);
    const call = request(
      { host: route.upstream.host, port: route.upstream.port, method: incoming.method, path: incoming.url, headers },
      (response) => {
        const given = response.headers;
        const isStream = given['content-type']?.startsWith('text/event-stream') ?? false;
        if (isStream) leave();
        const out = { ...given };
        if (route.gate) out['x-robots-tag'] = 'noindex, nofollow';
        const isMarked =
          route.kind !== 'live' &&
          route.gate !== null &&
          (given['content-type'] ?? '').startsWith('text/html') &&
          incoming.method === 'GET';
        if (isMarked) {
          this.#sendMarked(route, response, answer, out, leave);
          return;
        }
        answer.writeHead(response.statusCode ?? 502, out);
        response.pipe(answer);
        response.on('error', () => answer.destroy());
      },
    );
    answer.on('close', () => {
      leave();
      // A visitor who left needs no answer any more; the site should not go on making one.
      if (!answer.writableFinished) call.destroy();
    });
    call.on('error', (error) => {
      this.#options.log.warn({ environment, err: error }, 'web host not reached');
      if (!answer.headersSent) answer.writeHead(502, { 'content-type': 'text/plain; charset=utf-8' });
      answer.end('The site’s web server cannot be reached.\n');
    });
    incoming.pipe(call);
  }

  /** Puts the marker before `</body>`; pages too large for that pass as they are. */
  #sendMarked(
    route: Route,
    response: IncomingMessage,
    answer: ServerResponse,
    headers: Record<string, string | string[] | undefined>,
    leave: () => void,
  ): void {
    const encoding = response.headers['content-encoding'];
    const decoder =
      encoding === 'gzip'
        ? createGunzip()
        : encoding === 'br'
          ? createBrotliDecompress()
          : encoding === 'deflate'
            ? createInflate()
            : undefined;
    const { 'content-length': _length, 'content-encoding': _encoding, etag: _etag, ...rest } = headers;
    const body = decoder ? response.pipe(decoder) : response;
    const chunks: Buffer[] = [];
    let bytes = 0;
    answer.writeHead(response.statusCode ?? 502, rest);
    body.on('data', (chunk: Buffer) => {
      bytes += chunk.length;
      if (bytes > MARKED_BYTES) {
        for (const one of chunks.splice(0)) answer.write(one);
        answer.write(chunk);
      } else chunks.push(chunk);
    });
    body.on('error', () => answer.destroy());
    body.on('end', () => {
      const page = Buffer.concat(chunks);
      const end = page.lastIndexOf('</body>');
      if (end === -1) answer.end(page);
      else {
        answer.write(page.subarray(0, end));
        answer.write(markerHtml(route, this.#options.now()));
        answer.end(page.subarray(end));
      }
      leave();
    });
  }

  #upgrade(incoming: IncomingMessage, socket: Duplex, head: Buffer): void {
    const route = this.#routeOf(incoming);
    if (!route || (route.gate && !this.#mayPass(route, incoming))) {
      socket.end('HTTP/1.1 401 Unauthorized\r\nConnection: close\r\n\r\n');
      return;
    }
    const call = request({
      host: route.upstream.host,
      port: route.upstream.port,
      path: incoming.url,
      headers: {
        ...forwardedHeaders(incoming),
        connection: 'Upgrade',
        upgrade: incoming.headers.upgrade ?? 'websocket',
      },
    });
    call.on('upgrade', (response, upstream, upstreamHead) => {
      const lines = Object.entries(response.headers).map(([name, value]) => `${name}: ${String(value)}`);
      socket.write(`HTTP/1.1 101 Switching Protocols\r\n${lines.join('\r\n')}\r\n\r\n`);
      upstream.write(head);
      socket.write(upstreamHead);
      socket.pipe(upstream).pipe(socket);
      upstream.on('error', () => socket.destroy());
      socket.on('error', () => upstream.destroy());
    });
    call.on('response', () => socket.end('HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n'));
    call.on('error', () => socket.destroy());
    call.end();
  }

  #count(route: Route): void {
    const hour = this.#options.now().toISOString().slice(0, 13);
    const hours = this.#traffic.get(route.environment) ?? new Map<string, number>();
    hours.set(hour, (hours.get(hour) ?? 0) + 1);
    if (hours.size > 24 * 35) hours.delete(hours.keys().next().value as string);
    this.#traffic.set(route.environment, hours);
  }
}

const cookies = (incoming: IncomingMessage): [string, string][] =>
  (incoming.headers.cookie ?? '')
    .split(/;\s*/)
    .filter((one) => one !== '')
    .map((one) => {
      const equals = one.indexOf('=');
      return [one.slice(0, equals), one.slice(equals + 1)];
    });

/** The request's headers without the gate's own cookie, with where it came from. */
function forwardedHeaders(incoming: IncomingMessage): Record<string, string | string[] | undefined> {
  const kept = cookies(incoming)
    .filter(([name]) => name !== COOKIE)
    .map(([name, value]) => `${name}=${value}`);
  const { cookie: _cookie, 'x-forwarded-for': _for, 'x-forwarded-proto': _proto, ...headers } = incoming.headers;
  return {
    ...headers,
    ...(kept.length > 0 ? { cookie: kept.join('; ') } : {}),
    'x-forwarded-for': incoming.socket.remoteAddress,
    'x-forwarded-proto': 'http',
  };
}

function sendGate(route: Route, answer: ServerResponse, status: number, message: string): void {
  answer.writeHead(status, {
    'content-type': 'text/html; charset=utf-8',
    'x-robots-tag': 'noindex, nofollow',
    'cache-control': 'no-store',
    'content-security-policy': "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'",
  });
  answer.end(gatePage(route, message));
}

async function readBody(incoming: IncomingMessage, limit: number): Promise<string> {
  const chunks: Buffer[] = [];
  let bytes = 0;
  for await (const chunk of incoming as AsyncIterable<Buffer>) {
    bytes += chunk.length;
    if (bytes > limit) throw new Error('The form is too large.');
    chunks.push(chunk);
  }
  return Buffer.concat(chunks).toString();
}
