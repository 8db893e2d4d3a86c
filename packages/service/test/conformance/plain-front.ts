import { randomBytes } from 'node:crypto';
import { createServer, type IncomingMessage, request, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { type Location, parseLocation } from '@tessarion/core';
import { EngineError } from '@tessarion/engine';
import type { Front, Published, Route, Visited } from '../../src/front/front.js';
import { answerHere, leadsHere } from '../../src/front/here.js';
import { mayHold } from '../../src/front/holders.js';
import { type Holder, PASS_SECONDS, Passes, TICKET_SECONDS } from '../../src/front/pass.js';
import type { RunningFront } from './fronts.js';

/** A front as simple as one can be, in this process: it serves and keeps gates, and cannot hold. */
class PlainFront implements Front {
  readonly can = { hold: false, count: false };
  readonly server = createServer((incoming, answer) => this.#serve(incoming, answer));
  readonly #key = randomBytes(32);
  readonly #passes = new Passes(this.#key);
  readonly #used = new Set<string>();
  #published: Published = { routes: [], holders: {} };
  port = 0;

  #mustServe(): void {
    if (!this.server.listening) throw new EngineError('server-unreachable', 'The front is away.', 'Start it.');
  }

  async publish(published: Published): Promise<void> {
    this.#mustServe();
    this.#published = structuredClone(published);
  }

  async isReady(): Promise<boolean> {
    return this.server.listening;
  }

  async hold(): Promise<{ lease: string; waitedMs: number }> {
    this.#mustServe();
    return { lease: '', waitedMs: 0 };
  }

  async keep(): Promise<{ isHeld: boolean }> {
    return { isHeld: false };
  }

  async release(): Promise<{ heldMs: number | null; isOver: boolean }> {
    return { heldMs: null, isOver: true };
  }

  async takeTraffic(): Promise<Record<string, Record<string, number>>> {
    return {};
  }

  addressOf(host: string, path: string): Location {
    return parseLocation(`http://${host}:${this.port}${path}`);
  }

  visit(url: string): Promise<Visited> {
    const { host, pathname } = new URL(url);
    return new Promise((resolve) => {
      request({ host: '127.0.0.1', port: this.port, path: pathname, headers: { host } }, async (response) => {
        let body = '';
        for await (const piece of response) body += String(piece);
        resolve({ headers: response.headers, body });
      })
        .on('error', ({ message }) => resolve({ headers: {}, body: '', error: message }))
        .end();
    });
  }

  standsBefore(url: string): Promise<boolean | undefined> {
    return leadsHere(url, this.#key);
  }

  entry(url: string, environment: string, holder: Holder, now: Date, stays = PASS_SECONDS): string {
    return `${url}/let-me-in?${this.#passes.issue('ticket', environment, holder, +now, TICKET_SECONDS, { stays })}`;
  }

  #serve(incoming: IncomingMessage, answer: ServerResponse): void {
    const path = incoming.url ?? '/';
    const here = answerHere(path, this.#key);
    const [host] = (incoming.headers.host ?? '').split(':');
    const route = this.#published.routes.find((one) => one.host === host);
    if (here !== undefined) answer.end(here);
    else if (!route) answer.writeHead(404).end('Nothing is here.');
    else if (route.gate === null) pass(route, incoming, answer, '');
    else this.#keep(route, incoming, answer);
  }

  #keep(route: Route, incoming: IncomingMessage, answer: ServerResponse): void {
    const [, ticket] = /^\/let-me-in\?(.*)$/.exec(incoming.url ?? '') ?? [];
    const [, cookie] = /pass=(.*)/.exec(incoming.headers.cookie ?? '') ?? [];
    if (ticket !== undefined && this.#opens('ticket', route, ticket) && !this.#used.has(ticket)) {
      this.#used.add(ticket);
      const given = this.#passes.issue('cookie', route.environment, 'person p-1', Date.now(), PASS_SECONDS);
      answer.writeHead(303, { location: '/', 'set-cookie': `pass=${given}; HttpOnly` }).end();
    } else if (cookie !== undefined && this.#opens('cookie', route, cookie)) {
      answer.setHeader('x-robots-tag', 'noindex');
      pass(route, incoming, answer, `<tsr-marker>${route.environment}</tsr-marker>`);
    } else answer.writeHead(401).end('Closed.');
  }

  #opens(kind: 'ticket' | 'cookie', { environment }: Route, text: string): boolean {
    const read = this.#passes.read(kind, environment, text, Date.now());
    return read !== undefined && mayHold(this.#published.holders, read.holder, environment);
  }
}

function pass({ upstream }: Route, { url, headers }: IncomingMessage, answer: ServerResponse, marker: string): void {
  request({ ...upstream, path: url, headers }, async (response) => {
    let body = '';
    for await (const piece of response) body += String(piece);
    answer.end(body + marker);
  }).end();
}

/** Starts one. */
export async function startPlainFront(): Promise<RunningFront> {
  const front = new PlainFront();
  await new Promise<void>((resolve) => front.server.listen(0, '127.0.0.1', resolve));
  front.port = (front.server.address() as AddressInfo).port;
  const halt = async (): Promise<void> => {
    front.server.closeAllConnections();
    front.server.close();
  };
  return {
    front,
    halt,
    stop: halt,
  };
}
