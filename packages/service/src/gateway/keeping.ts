import { spawn } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { fileURLToPath } from 'node:url';
import type { Logger } from 'pino';
import type { GatewayControl } from '../front/control.js';
import type { DataFolder } from '../ground/data-folder.js';

/** How often the gateway is looked after. */
const LOOK_MS = 250;
/** For how long it may take to start and to end: ten seconds. */
const [TRY_MS, MOST_TRIES] = [25, 400];

/** Where a gateway listens, and whom it believes. */
export interface GatewayPlace {
  readonly host: string;
  readonly port: number;
  /** Fronts before it that are believed who asks. */
  readonly trustedFronts: readonly string[];
}

/**
 * Starts the gateway's processes and sees that they go on. They outlive the service, and keep themselves going; this
 * is for when what keeps them is gone.
 */
export class GatewayKeeping {
  readonly #folder: DataFolder;
  readonly #gateway: GatewayControl;
  readonly #place: GatewayPlace;
  readonly #log: Logger;
  #timer: NodeJS.Timeout | undefined;
  #looking: Promise<void> = Promise.resolve();

  constructor(folder: DataFolder, gateway: GatewayControl, place: GatewayPlace, log: Logger) {
    this.#folder = folder;
    this.#gateway = gateway;
    this.#place = place;
    this.#log = log;
  }

  /** One that runs already as it is wanted is told to read its routes again. */
  async start(): Promise<void> {
    const running = await this.#gateway.ping().catch(() => undefined);
    const { port, trustedFronts } = this.#place;
    if (running?.isKept && running.port === port && running.fronts === trustedFronts.join())
      await this.#gateway.reload();
    else await this.#startAnew();
    this.#timer = setInterval(() => {
      this.#looking = this.#looking.then(() => this.#look());
    }, LOOK_MS);
    this.#timer.unref();
  }

  async stop(): Promise<void> {
    clearInterval(this.#timer);
    await this.#looking;
    await this.#end();
  }

  /** Ends one that runs, and waits until it is gone. */
  async #end(): Promise<void> {
    for (let tries = 0; tries < MOST_TRIES; tries++) {
      const running = await this.#gateway.ping().catch(() => undefined);
      if (!running) return;
      if (tries === 0) process.kill(running.pid, 'SIGTERM');
      await new Promise((resolve) => setTimeout(resolve, TRY_MS));
    }
  }

  async #look(): Promise<void> {
    try {
      const answer = await this.#gateway.ping().catch(() => undefined);
      if (answer?.isKept) return;
      // What keeps it may just be starting it.
      await new Promise((resolve) => setTimeout(resolve, LOOK_MS));
      if ((await this.#gateway.ping().catch(() => undefined))?.isKept) return;
      this.#log.error('nobody keeps the gateway; it is started anew');
      await this.#startAnew();
    } catch (error) {
      this.#log.error({ err: error }, 'the gateway cannot be started');
    }
  }

  async #startAnew(): Promise<void> {
    await this.#end();
    const path = this.#folder.run('gateway.log');
    const log = await fs.open(path, 'a', 0o600);
    const main = fileURLToPath(new URL('./main.js', import.meta.url));
    const { host, port, trustedFronts } = this.#place;
    const child = spawn(process.execPath, [main, this.#folder.path, host, String(port), trustedFronts.join()], {
      detached: true,
      stdio: ['ignore', log.fd, log.fd],
    });
    child.unref();
    await log.close();
    for (let tries = 0; ; tries++) {
      if ((await this.#gateway.ping().catch(() => undefined))?.isKept) return;
      if (child.exitCode !== null || tries > MOST_TRIES) throw new Error(`The gateway did not start; see ${path}.`);
      await new Promise((resolve) => setTimeout(resolve, TRY_MS));
    }
  }
}
