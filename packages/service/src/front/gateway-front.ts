import { randomUUID } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { request } from 'node:http';
import { type Location, parseLocation } from '@tessarion/core';
import type { DataFolder } from '../ground/data-folder.js';
import type { GatewayControl } from './control.js';
import type { Front, Published, Visited } from './front.js';
import { leadsHere } from './here.js';
import { type Holder, PASS_SECONDS, Passes, TICKET_SECONDS } from './pass.js';

const PATIENCE_MS = 10_000;

/** The gateway of this installation as the front of its environments. */
export class GatewayFront implements Front {
  readonly can = { hold: true, count: true };
  readonly #routes: string;
  readonly #key: Buffer;

  /** @param port on which it serves; copies carry it in their addresses, so it stays */
  constructor(
    folder: Pick<DataFolder, 'run' | 'keys'>,
    readonly control: GatewayControl,
    private readonly port: number,
  ) {
    this.#routes = folder.run('gateway-routes.json');
    this.#key = folder.keys.derive('gateway');
  }

  /** Leaves what is to be served where the gateway finds it when it starts. */
  async leave(published: Published): Promise<void> {
    const temporary = `${this.#routes}.${randomUUID()}.new`;
    await fs.writeFile(temporary, JSON.stringify(published), { mode: 0o600 });
    await fs.rename(temporary, this.#routes);
  }

  async publish(published: Published): Promise<void> {
    await this.leave(published);
    await this.control.reload();
  }

  isReady(): Promise<boolean> {
    return this.control.ping().then(
      () => true,
      () => false,
    );
  }

  hold(environment: string, leaseMs: number, drainMs: number): Promise<{ lease: string; waitedMs: number }> {
    return this.control.hold(environment, leaseMs, drainMs);
  }

  keep(lease: string, leaseMs: number): Promise<{ isHeld: boolean }> {
    return this.control.keep(lease, leaseMs);
  }

  release(lease: string): Promise<{ heldMs: number | null; isOver: boolean }> {
    return this.control.release(lease);
  }

  takeTraffic(): Promise<Record<string, Record<string, number>>> {
    return this.control.takeTraffic();
  }

  addressOf(host: string, path: string): Location {
    return parseLocation(`http://${host}:${this.port}${path}`);
  }

  visit(url: string): Promise<Visited> {
    const { host, pathname, search } = new URL(url);
    const options = { host: '127.0.0.1', port: this.port, path: `${pathname}${search}`, headers: { host } };
    return new Promise((resolve) => {
      const call = request({ ...options, timeout: PATIENCE_MS }, (response) => {
        const chunks: Buffer[] = [];
        response.on('data', (chunk: Buffer) => chunks.push(chunk));
        response.on('end', () => resolve({ headers: response.headers, body: Buffer.concat(chunks).toString() }));
      });
      call.on('timeout', () => call.destroy(new Error(`no answer within ${PATIENCE_MS / 1000} s`)));
      call.on('error', (error) => resolve({ headers: {}, body: '', error: error.message }));
      call.end();
    });
  }

  standsBefore(url: string): Promise<boolean | undefined> {
    return leadsHere(url, this.#key);
  }

  entry(url: string, environment: string, holder: Holder, now: Date, stays = PASS_SECONDS): string {
    const ticket = new Passes(this.#key).issue('ticket', environment, holder, now.getTime(), TICKET_SECONDS, { stays });
    return `${url}/.tessarion/enter?ticket=${ticket}`;
  }
}
