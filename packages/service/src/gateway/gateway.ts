import { timingSafeEqual } from 'node:crypto';
import * as fs from 'node:fs/promises';
import {
  Agent,
  createServer,
  type IncomingMessage,
  type OutgoingHttpHeaders,
  type RequestOptions,
  request,
  type Server,
  ServerResponse,
} from 'node:http';
import type { Socket } from 'node:net';
import { type Duplex, pipeline, type Readable, type Transform } from 'node:stream';
import { createBrotliDecompress, createGunzip, createInflate } from 'node:zlib';
import proxyAddress from '@fastify/proxy-addr';
import type { Logger } from 'pino';
import type { Published, Route } from '../front/front.js';
import { answerHere } from '../front/here.js';
import { type Holders, mayHold } from '../front/holders.js';
import { PASS_SECONDS, type Pass, Passes, TryLimit } from '../front/pass.js';
import { COOKIES, cookiesOf, forOneBrowser, ofMessage, toSite, type Visitor } from './headers.js';
import { Holds } from './holds.js';
import { Bounded, MarkedPage } from './mark-page.js';
import { gatePage, markerHtml, markerStyleHash } from './marker.js';
import { allowStyle } from './marker-policy.js';
import { type Target, targetOf } from './target.js';
import { UsedTickets } from './used-tickets.js';

/** What a packed page may grow to; larger ones are no pages to be looked at. */
const UNPACKED_BYTES = 64 * 1024 * 1024;
/** For how long a site may be silent before its visitor is told. */
const POLICY = 'content-security-policy';
const SILENCE_MS = 10 * 60_000;
/** Tells the front that somebody came past the gate. */
const PASSED = 'x-tessarion-passed';

/** What a gateway works with. */
export interface GatewayOptions {
  readonly routesFile: string;
  readonly ticketsFile: string;
  readonly key: Buffer;
  readonly log: Logger;
  readonly now: () => Date;
  /** Fronts before this one that are believed who asks, as addresses and networks. */
  readonly trustedFronts?: readonly string[];
  /** Socket of the process that serves copies. */
  readonly copies?: string;
  /** Whether this is that process: what the front before it says of visitors holds. */
  readonly isBehind?: boolean;
}

/**
 * The web front for environments, by host name: gate, noindex, marker, hourly traffic and holding. It needs neither
 * the service nor the records while it serves, and believes neither its visitors nor the sites behind it.
 */
export class Gateway {
  readonly holds = new Holds();
  readonly passes: Passes;
  readonly server: Server;
  readonly #options: GatewayOptions;
  readonly #isTrusted: (address: string, hop: number) => boolean;
  readonly #tickets: UsedTickets;
  readonly #tries = new TryLimit(10, 60_000);
  readonly #agent = new Agent({ keepAlive: true, maxSockets: Number.POSITIVE_INFINITY, timeout: SILENCE_MS });
  readonly #traffic = new Map<string, Map<string, number>>();
  #routes = new Map<string, Route>();
  #holders: Holders = {};

  constructor(options: GatewayOptions) {
    this.#options = options;
    this.passes = new Passes(options.key);
    this.#tickets = new UsedTickets(options.ticketsFile, options.now().getTime());
    this.#isTrusted = proxyAddress.compile([...(options.trustedFronts ?? [])]);
    this.server = createServer((incoming, answer) => {
      // Whoever is gone while they are written to hears nothing.
      answer.on('error', () => undefined);
      incoming.on('error', () => undefined);
      this.#serve(incoming, answer).catch((error: unknown) => this.#fail(answer, error));
    });
    this.server.on('upgrade', (incoming, socket, head) => {
      socket.on('error', () => socket.destroy());
      try {
        if (isUpgradeOfConnection(incoming) && head.length === 0) this.#serveAsItIs(incoming, socket);
        else this.#upgrade(incoming, socket, head);
      } catch (error) {
        options.log.warn({ err: error }, 'upgrade failed');
        socket.destroy();
      }
    });
    this.server.on('clientError', (_error, socket) => {
      if (socket.writable) socket.end('HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n');
      else socket.destroy();
    });
    this.server.keepAliveTimeout = 65_000;
  }

  async loadRoutes(): Promise<void> {
    try {
      const { routes, holders } = JSON.parse(await fs.readFile(this.#options.routesFile, 'utf8')) as Published;
      this.#routes = new Map(routes.map((route) => [route.host, route]));
      this.#holders = holders;
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

  close(): void {
    this.server.close();
    this.server.closeAllConnections();
    this.#agent.destroy();
  }

  #visitorOf(incoming: IncomingMessage): Visitor {
    const said = incoming.headers['x-forwarded-proto'];
    if (this.#options.isBehind)
      return { address: String(incoming.headers['x-forwarded-for']), isSecure: said === 'https' };
    const peer = incoming.socket.remoteAddress ?? '';
    const isFronted = peer !== '' && this.#isTrusted(peer, 0);
    const address = isFronted ? proxyAddress(incoming, this.#isTrusted) : peer;
    return { address, isSecure: isFronted && said === 'https' };
  }

  async #serve(incoming: IncomingMessage, answer: ServerResponse): Promise<void> {
    const target = targetOf(incoming.url ?? '', incoming.headers.host);
    if (!target) return say(answer, 400, 'This request names no path at the address that it was sent to.');
    const here = answerHere(target.path, this.#options.key);
    if (here !== undefined) return say(answer, 200, here, { 'cache-control': 'no-store' });
    const route = this.#routes.get(target.host);
    if (!route) return say(answer, 404, 'No environment answers at this address.');
    const visitor = this.#visitorOf(incoming);
    const isElsewhere = this.#isElsewhere(route);
    if (!isElsewhere && route.gate) {
      const path = target.path.split('?')[0] as string;
      if (path === '/robots.txt') return say(answer, 200, 'User-agent: *\nDisallow: /');
      if (path.startsWith('/.tessarion/')) return this.#gateRequest(route, path, target, visitor, incoming, answer);
      if (!this.#mayPass(route, incoming)) return sendGate(route, visitor, answer, 401, '');
    }
    if (!this.#options.isBehind) {
      if (!isElsewhere) this.#count(route);
      await this.holds.admit(route.environment);
      if (answer.destroyed) return this.holds.leave(route.environment);
    }
    this.#proxy(route, target, visitor, incoming, answer);
  }

  /** Copies are served by a process of their own: whatever they do to it, live goes on. */
  #isElsewhere(route: Route): boolean {
    return this.#options.copies !== undefined && route.kind !== 'live';
  }

  #upstreamOf(route: Route): Pick<RequestOptions, 'host' | 'port' | 'socketPath'> {
    return this.#isElsewhere(route) ? { socketPath: this.#options.copies as string } : route.upstream;
  }

  #mayPass(route: Route, incoming: IncomingMessage): boolean {
    const now = this.#options.now().getTime();
    return cookiesOf(incoming).some(
      ([name, pass]) =>
        COOKIES.includes(name as (typeof COOKIES)[number]) && this.#pass('cookie', route, pass, now) !== undefined,
    );
  }

  /** A pass that holds: its holder may still see the environment. */
  #pass(kind: 'cookie' | 'ticket', { environment, gate }: Route, text: string, now: number): Pass | undefined {
    const pass = this.passes.read(kind, environment, text, now, gate?.password);
    return pass && mayHold(this.#holders, pass.holder, environment) ? pass : undefined;
  }

  async #gateRequest(
    route: Route,
    path: string,
    target: Target,
    visitor: Visitor,
    incoming: IncomingMessage,
    answer: ServerResponse,
  ): Promise<void> {
    const now = this.#options.now().getTime();
    const { environment, gate } = route;
    const enter = (to: string, pass: string, seconds: number): void => {
      const [name, flag] = visitor.isSecure ? [COOKIES[0], '; Secure'] : [COOKIES[1], ''];
      answer.writeHead(303, {
        ...PRIVATE,
        location: to,
        'set-cookie': `${name}=${pass}; Path=/; HttpOnly; SameSite=Lax; Max-Age=${seconds}${flag}`,
      });
      answer.end();
    };
    if (path === '/.tessarion/enter') {
      const query = new URLSearchParams(target.path.slice(path.length));
      const to = query.get('to') ?? '/';
      const ticket = this.#pass('ticket', route, query.get('ticket') ?? '', now);
      if (ticket && this.#tickets.use(ticket.nonce, ticket.expires, now)) {
        const pass = this.passes.issue('cookie', environment, ticket.holder, now, ticket.stays);
        return enter(OWN_PATH.test(to) ? to : '/', pass, ticket.stays);
      }
      const words = 'This link has been used already, or is too old. Open the copy from the console again.';
      return sendGate(route, visitor, answer, 401, words);
    }
    if (path === '/.tessarion/gate' && incoming.method === 'POST') {
      const who = `${visitor.address} ${environment}`;
      const form = new URLSearchParams(await readBody(incoming, 4096));
      // Asked and counted without a pause between, so that many at once are no way around it.
      if (this.#tries.isExceeded(who, now))
        return sendGate(route, visitor, answer, 429, 'Too many tries. Wait a minute.');
      if (gate && isSame(form.get('user'), gate.user) && isSame(form.get('password'), gate.password)) {
        const { password: secret } = gate;
        return enter(
          '/',
          this.passes.issue('cookie', environment, 'login', now, PASS_SECONDS, { secret }),
          PASS_SECONDS,
        );
      }
      this.#tries.fail(who, now);
      return sendGate(route, visitor, answer, 401, 'Name or password is not right.');
    }
    return sendGate(route, visitor, answer, 404, '');
  }

  #proxy(route: Route, target: Target, visitor: Visitor, incoming: IncomingMessage, answer: ServerResponse): void {
    const { environment } = route;
    let isCounted = !this.#options.isBehind;
    const leave = (): void => {
      if (isCounted) this.holds.leave(environment);
      isCounted = false;
    };
    answer.on('close', leave);
    const headers = toSite(incoming, target, visitor, this.#isElsewhere(route));
    const wantsPage = incoming.method === 'GET' && route.gate !== null && !this.#isElsewhere(route);
    // What a page is marked in need not be unpacked first.
    if (wantsPage && String(headers.accept).includes('text/html')) headers['accept-encoding'] = 'identity';
    const send = (isAgain: boolean): void => {
      const call = request({
        ...this.#upstreamOf(route),
        agent: this.#agent,
        method: incoming.method ?? 'GET',
        path: target.path,
        headers,
        timeout: SILENCE_MS,
      });
      const fail = (error: Error): void => {
        call.destroy();
        this.#fail(answer, error, environment);
      };
      call.on('response', (response) => {
        response.on('error', fail);
        try {
          if (response.headers['content-type']?.startsWith('text/event-stream')) leave();
          this.#answer(route, wantsPage, response, answer);
        } catch (error) {
          fail(error as Error);
        }
      });
      // Nobody asked to change the protocol.
      call.on('upgrade', (_response, socket) => {
        socket.on('error', () => undefined).destroy();
        fail(new Error('an upgrade that nobody asked for'));
      });
      call.on('timeout', () => fail(new Error(`no word for ${SILENCE_MS / 60_000} minutes`)));
      call.on('error', (error) => {
        // A kept connection that the site closed just then; nothing has been asked yet that would count twice.
        const hasBody = 'content-length' in headers || 'transfer-encoding' in headers;
        const mayRepeat = call.reusedSocket && !isAgain && !hasBody && ['GET', 'HEAD'].includes(incoming.method ?? '');
        if (mayRepeat && !answer.headersSent && !answer.destroyed) send(true);
        else fail(error);
      });
      // A visitor who left needs no answer any more; the site should not go on making one.
      answer.on('close', () => {
        if (!answer.writableFinished) call.destroy();
      });
      if (isAgain) call.end();
      else incoming.pipe(call);
    };
    send(false);
  }

  #answer(route: Route, wantsPage: boolean, response: IncomingMessage, answer: ServerResponse): void {
    const status = response.statusCode ?? 0;
    if (status < 200 || status > 999) throw new Error(`the status ${status}`);
    const { [PASSED]: passed, ...given } = ofMessage(response.headers);
    if (this.#isElsewhere(route) && passed !== undefined) this.#count(route);
    let headers: OutgoingHttpHeaders = given;
    if (route.gate && !this.#isElsewhere(route)) headers = forOneBrowser(headers);
    if (this.#options.isBehind) headers[PASSED] = '1';
    const steps: Transform[] = [];
    const isPage = String(given['content-type'] ?? '').startsWith('text/html') && status !== 206 && status !== 304;
    if (wantsPage && isPage && route.kind !== 'live') {
      const encoding = String(given['content-encoding'] ?? 'identity');
      const unpack = UNPACK[encoding];
      if (unpack) steps.push(unpack(), new Bounded(UNPACKED_BYTES));
      if (unpack || encoding === 'identity') {
        steps.push(new MarkedPage(markerHtml(route, this.#options.now())));
        for (const name of ['content-length', 'content-encoding', 'etag', 'accept-ranges']) delete headers[name];
        const policies = headers[POLICY];
        if (policies !== undefined)
          headers[POLICY] = allowStyle([policies].flat().join(', '), markerStyleHash(route.kind));
      }
    }
    answer.writeHead(status, headers);
    const done = (error: Error | null | undefined): void => {
      if (error) answer.destroy();
    };
    pipeline([response, ...steps, answer] as unknown as [Readable, ServerResponse], done);
  }

  #fail(answer: ServerResponse, error: unknown, environment?: string): void {
    if (answer.destroyed || answer.writableEnded) return;
    this.#options.log.warn({ environment, err: error }, 'not answered');
    if (answer.headersSent) answer.destroy();
    else say(answer, 502, 'The site’s web server cannot be reached.', { 'cache-control': 'no-store' });
  }

  /** Answers what came with an offer of another protocol as though it had not been made (RFC 9110, 7.8). */
  #serveAsItIs(incoming: IncomingMessage, socket: Duplex): void {
    const answer = new ServerResponse(incoming);
    answer.shouldKeepAlive = false;
    answer.assignSocket(socket as Socket);
    answer.on('error', () => undefined);
    answer.on('finish', () => socket.end());
    this.#serve(incoming, answer).catch((error: unknown) => this.#fail(answer, error));
  }

  #upgrade(incoming: IncomingMessage, socket: Duplex, head: Buffer): void {
    const refuse = (status: string): void => {
      socket.end(`HTTP/1.1 ${status}\r\nConnection: close\r\n\r\n`);
    };
    const target = targetOf(incoming.url ?? '', incoming.headers.host);
    if (!target) {
      refuse('400 Bad Request');
      return;
    }
    const route = this.#routes.get(target.host);
    const isElsewhere = route !== undefined && this.#isElsewhere(route);
    if (!route || (route.gate && !isElsewhere && !this.#mayPass(route, incoming))) {
      refuse('401 Unauthorized');
      return;
    }
    const call = request({
      ...this.#upstreamOf(route),
      agent: false,
      method: incoming.method ?? 'GET',
      path: target.path,
      headers: {
        ...toSite(incoming, target, this.#visitorOf(incoming), isElsewhere),
        connection: 'Upgrade',
        upgrade: incoming.headers.upgrade ?? 'websocket',
      },
    });
    socket.on('close', () => call.destroy());
    call.on('upgrade', (response, upstream, upstreamHead) => {
      upstream.on('error', () => upstream.destroy());
      const lines = Object.entries({
        ...ofMessage(response.headers),
        connection: 'Upgrade',
        upgrade: response.headers.upgrade,
      });
      const text = lines.flatMap(([name, value]) => [value ?? []].flat().map((one) => `${name}: ${one}\r\n`)).join('');
      socket.write(Buffer.from(`HTTP/1.1 101 Switching Protocols\r\n${text}\r\n`, 'latin1'));
      if (head.length > 0) upstream.write(head);
      if (upstreamHead.length > 0) socket.write(upstreamHead);
      const end = (): void => {
        upstream.destroy();
        socket.destroy();
      };
      upstream.on('close', end);
      socket.on('close', end);
      pipeline(socket, upstream, end);
      pipeline(upstream, socket, end);
    });
    call.on('response', (response) => {
      response.on('error', () => undefined).resume();
      refuse(response.statusCode === 401 ? '401 Unauthorized' : '400 Bad Request');
    });
    call.on('error', () => {
      if (socket.writable) refuse('502 Bad Gateway');
      else socket.destroy();
    });
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

/**
 * Whether a request without a body offers nothing but another protocol for the connection to whoever answers it, which does
 * not concern a site behind it.
 */
const isUpgradeOfConnection = ({ headers }: IncomingMessage): boolean =>
  (headers.upgrade ?? '').split(',').every((one) => /^\s*(?:h2c?|tls\/[\d.]+|http\/[\d.]+)\s*$/i.test(one)) &&
  headers['content-length'] === undefined &&
  headers['transfer-encoding'] === undefined;

/** A path at the copy itself, to go on to; browsers take a backslash for a slash. */
const OWN_PATH = /^\/(?![/\\])[!-~]*$/;

const UNPACK: Readonly<Record<string, () => Transform>> = {
  gzip: createGunzip,
  br: createBrotliDecompress,
  deflate: createInflate,
};

const PRIVATE = {
  'x-robots-tag': 'noindex, nofollow',
  'cache-control': 'no-store',
  'referrer-policy': 'no-referrer',
  'x-content-type-options': 'nosniff',
} as const;

function isSame(given: string | null, wanted: string): boolean {
  const [one, other] = [Buffer.from(given ?? ''), Buffer.from(wanted)];
  return one.length === other.length && timingSafeEqual(one, other);
}

function say(answer: ServerResponse, status: number, words: string, headers: OutgoingHttpHeaders = PRIVATE): void {
  answer.writeHead(status, { ...headers, 'content-type': 'text/plain; charset=utf-8' }).end(`${words}\n`);
}

function sendGate(route: Route, visitor: Visitor, answer: ServerResponse, status: number, message: string): void {
  answer.writeHead(status, {
    ...PRIVATE,
    'content-type': 'text/html; charset=utf-8',
    'x-frame-options': 'DENY',
    'content-security-policy':
      "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'",
    ...(visitor.isSecure ? { 'strict-transport-security': 'max-age=31536000' } : {}),
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
