import { type ChildProcess, fork } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { freePort, PrivateCluster, writeWhole } from '@tessarion/cluster';
import type { FastifyInstance } from 'fastify';
import { runMigrations } from 'graphile-worker';
import { sealFormerItems } from '../forecasts/forecast-items.js';
import { publishRoutes } from '../front/routes.js';
import { GatewayKeeping } from '../gateway/keeping.js';
import { DataFolder } from '../ground/data-folder.js';
import { HeldRecords } from '../ground/held-records.js';
import { migrate } from '../ground/migrations.js';
import { createApp } from '../http/app.js';
import { Sealer } from '../journal/seal-journal.js';
import { Access } from '../people/sign-in.js';
import { libraryOf } from '../stored/snapshots.js';
import type { Installation } from '../transfers/installation.js';
import { openInstallation, toVariables } from './installation.js';

/** How a service is started. */
export interface ServeOptions {
  readonly dataFolder: string;
  readonly host: string;
  /** 0 chooses a free one. */
  readonly port: number;
  /** 0 keeps the one used before, or chooses a free one. */
  readonly gatewayPort: number;
  /** Absent: a private cluster in the data folder. */
  readonly recordsUrl?: string | undefined;
  /** Where people reach the console, such as behind a server that speaks TLS; otherwise host and port. */
  readonly publicUrl?: string | undefined;
  readonly consoleFolder?: string | undefined;
  /** Fronts, such as a server that speaks TLS, that are believed who asks: addresses and networks. */
  readonly trustedFronts: readonly string[];
  /** Requests that one person may make in a minute. */
  readonly mostRequests: number;
  readonly workers: number;
  readonly version: string;
}

/** A running service with its worker and gateway processes. */
export interface RunningService {
  readonly url: string;
  readonly gatewayPort: number;
  /** For making the first administrator; undefined once there is somebody. */
  readonly firstKey: string | undefined;
  readonly installation: Installation;
  readonly app: FastifyInstance;
  /** Processes of the workers, by which tests and operators can find them. */
  workerPids(): number[];
  stop(): Promise<void>;
}

/** Starts everything: records, gateway, service, workers; takes over what an earlier run left running. */
export async function serve(options: ServeOptions): Promise<RunningService> {
  const folder = await DataFolder.open(options.dataFolder);
  const cluster = options.recordsUrl === undefined ? await PrivateCluster.at(folder.cluster) : undefined;
  const access = await cluster?.start();
  const recordsUrl =
    options.recordsUrl ?? `postgresql://${access?.user}:${access?.password}@${access?.host}:${access?.port}/postgres`;
  const ports = await settlePorts(folder, options);
  const consoleUrl = options.publicUrl?.replace(/\/+$/, '') ?? `http://${options.host}:${ports.service}`;
  const settings = { dataFolder: folder.path, recordsUrl, consoleUrl, gatewayPort: ports.gateway };
  const installation = await openInstallation('service', { ...process.env, ...toVariables(settings) });
  if (process.getuid?.() === 0)
    installation.log.warn(
      'This service runs as root: whoever takes it over has the whole machine. Run it as a user of its own (docs/security.md, packaging/tessarion.service).',
    );
  const held = await HeldRecords.take(recordsUrl, cluster, installation.log).catch(async (error: unknown) => {
    await installation.records.destroy();
    throw error;
  });
  await writeWhole(folder.run(PORTS), JSON.stringify(ports));
  await migrate(installation.records);
  await mustBeTheirKey(installation).catch(async (error: unknown) => {
    await installation.records.destroy();
    await held.release();
    await cluster?.stop();
    throw error;
  });
  await noteExchange(installation);
  await once(installation, 'manifests-sealed', async () => {
    for (const site of await fs.readdir(join(folder.path, 'stores'))) await libraryOf(folder, site).sealFormer();
  });
  await once(installation, 'forecasts-sealed', () => sealFormerItems(installation));
  await runMigrations({ connectionString: recordsUrl });
  await publishRoutes(installation, (published) => installation.front.leave(published));
  const firstKey = await new Access(installation.records, installation.folder.keys, installation.now).firstKey();
  const listening = createApp({
    installation,
    consoleFolder: options.consoleFolder,
    version: options.version,
    trustedFronts: options.trustedFronts,
    mostRequests: options.mostRequests,
  }).then(async (app) => {
    await app.listen({ host: options.host, port: ports.service });
    return app;
  });
  const { host, trustedFronts } = options;
  const place = { host, port: ports.gateway, trustedFronts };
  const keeping = new GatewayKeeping(folder, installation.front.control, place, installation.log);
  const [app] = await Promise.all([listening, keeping.start()]);
  // Last: where the service cannot listen, another one may have it, and its workers.
  const workers = new Workers(toVariables(settings), installation);
  await workers.start(options.workers);
  const sealer = new Sealer(installation);
  sealer.start();

  return {
    url: `http://${options.host}:${ports.service}`,
    gatewayPort: ports.gateway,
    firstKey,
    installation,
    app,
    workerPids: () => workers.pids(),
    async stop() {
      // Requests may end; after that nobody who keeps a connection open keeps the service from stopping.
      const force = setTimeout(() => app.server.closeAllConnections(), CLOSE_GRACE_MS);
      await app.close();
      clearTimeout(force);
      await workers.stop();
      await sealer.stop();
      await keeping.stop();
      await installation.records.destroy();
      await held.release();
      await cluster?.stop();
    },
  };
}

/** Records that were written with another master key are of no use: nothing is done to them. */
async function mustBeTheirKey({ records, folder }: Installation): Promise<void> {
  const value = folder.keys.mark;
  await records('installation').insert({ name: 'key-mark', value }).onConflict('name').ignore();
  const known = (await records('installation').where({ name: 'key-mark' }).first('value')) as { value: string };
  if (known.value !== value)
    throw new Error(
      'These records were written with another master key. Put that one back (docs/security.md), or name the records that belong to this one.',
    );
}

/** A master key that was exchanged while nobody served is on record from the next start. */
async function noteExchange({ records, folder, journal }: Installation): Promise<void> {
  const [name, value] = ['master-key', folder.keys.masterMark];
  const known = (await records('installation').where({ name }).first('value')) as { value: string } | undefined;
  if (known?.value === value) return;
  await records.transaction(async (trx) => {
    await trx('installation').insert({ name, value }).onConflict('name').merge();
    if (known)
      await journal.write(trx, {
        actor: 'nobody',
        act: 'masterKeyExchange',
        outcome: 'done',
        thing: '',
        details: {},
        who: undefined,
      });
  });
}

/** Does something once in the life of an installation: what a former version left unsealed is nobody's from then on. */
async function once({ records }: Installation, name: string, act: () => Promise<void>): Promise<void> {
  if (await records('installation').where({ name }).first('name')) return;
  await act();
  await records('installation').insert({ name, value: 'done' }).onConflict('name').ignore();
}

const CLOSE_GRACE_MS = 3000;
const PORTS = 'ports.json';

/** Copies carry the gateway's port in their addresses, so it stays the same from run to run. */
async function settlePorts(folder: DataFolder, options: ServeOptions): Promise<{ service: number; gateway: number }> {
  const file = folder.run(PORTS);
  const text = await fs.readFile(file, 'utf8').catch((error: NodeJS.ErrnoException) => {
    if (error.code === 'ENOENT') return undefined;
    throw error;
  });
  const former = text === undefined ? undefined : readPorts(file, text);
  return {
    service: options.port || former?.service || (await freePort()),
    gateway: options.gatewayPort || former?.gateway || (await freePort()),
  };
}

/** @throws where a file does not say which ports there were */
function readPorts(file: string, text: string): { service: number; gateway: number } {
  try {
    const { service, gateway } = JSON.parse(text);
    if (Number.isInteger(service) && Number.isInteger(gateway)) return { service, gateway };
  } catch {
    // Told below.
  }
  throw new Error(
    `${file} does not say which ports the service and its gateway had. The addresses of copies carry the gateway's: write {"service":PORT,"gateway":PORT} into it, or remove it, and name that with --gateway-port.`,
  );
}

/** How long a worker must have lived so that another one is started at once, and waits for one that did not. */
const LIVED_MS = 5000;
const [FIRST_WAIT_MS, LONGEST_WAIT_MS] = [500, 10_000];

/** The service's own worker processes; one that dies is started again. */
class Workers {
  readonly #children = new Set<ChildProcess>();
  #isStopping = false;

  constructor(
    private readonly variables: Record<string, string>,
    private readonly installation: Installation,
  ) {}

  pids(): number[] {
    return [...this.#children].flatMap((child) => (child.pid === undefined ? [] : [child.pid]));
  }

  async start(count: number): Promise<void> {
    await Promise.all(Array.from({ length: count }, () => this.#startOne()));
  }

  /** @param waits how long until another one is started where this one does not live long */
  #startOne(waits = FIRST_WAIT_MS): Promise<void> {
    return new Promise((resolve) => {
      const began = Date.now();
      const main = fileURLToPath(new URL('./worker-main.js', import.meta.url));
      const child = fork(main, [], {
        env: { ...process.env, ...this.variables },
        stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
      });
      this.#children.add(child);
      child.once('message', () => resolve());
      child.once('exit', (code, signal) => {
        this.#children.delete(child);
        resolve();
        if (this.#isStopping) return;
        this.installation.log.warn({ code, signal }, 'a worker ended; another one is started');
        const next = Date.now() - began > LIVED_MS ? FIRST_WAIT_MS : waits;
        setTimeout(() => {
          if (!this.#isStopping) void this.#startOne(Math.min(2 * next, LONGEST_WAIT_MS));
        }, next);
      });
    });
  }

  async stop(): Promise<void> {
    this.#isStopping = true;
    await Promise.all(
      [...this.#children].map(
        (child) =>
          new Promise<void>((resolve) => {
            child.once('exit', () => resolve());
            child.kill('SIGTERM');
            setTimeout(() => child.kill('SIGKILL'), 15_000).unref();
          }),
      ),
    );
  }
}
