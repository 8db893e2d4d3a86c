import * as fs from 'node:fs/promises';
import { createServer, type IncomingMessage, request } from 'node:http';
import { pino } from 'pino';
import { DataFolder } from '../ground/data-folder.js';
import { Gateway } from './gateway.js';

/** `front` takes all connections and serves live environments; `copies` serves the others behind it. */
export type Part = 'front' | 'copies';

/** What a gateway's process is told when it starts. */
export interface Serving {
  readonly part: Part;
  readonly dataFolder: string;
  readonly host: string;
  readonly port: number;
  /** Fronts before this one that are believed who asks. */
  readonly trustedFronts: readonly string[];
}

/** Serves environments, and listens to the service on a socket in its data folder, until it is told to stop. */
export async function serveGateway({ part, dataFolder, host, port, trustedFronts }: Serving): Promise<void> {
  const log = pino({ name: `gateway ${part}` });
  const folder = await DataFolder.open(dataFolder);
  const copies = { control: folder.run('gateway-copies-control.sock'), pages: folder.run('gateway-copies.sock') };
  const gateway = new Gateway({
    routesFile: folder.run('gateway-routes.json'),
    ticketsFile: folder.run(`gateway-${part}-tickets`),
    key: folder.keys.derive('gateway'),
    log,
    now: () => new Date(),
    ...(part === 'front' ? { trustedFronts, copies: copies.pages } : { isBehind: true }),
  });
  await gateway.loadRoutes();

  const stop = async (): Promise<void> => {
    // What is kept is ended by what keeps it.
    if (part === 'front' && !process.connected) await tell(copies.control, '/end');
    gateway.close();
    control.close();
    process.exit(0);
  };
  const act = async (path: string, body: Told): Promise<unknown> => {
    switch (path) {
      case '/hold':
        return gateway.holds.hold(body.environment, body.leaseMs, body.drainMs);
      case '/keep':
        return gateway.holds.keep(body.lease, body.leaseMs);
      case '/release':
        return gateway.holds.release(body.lease);
      case '/reload':
        await Promise.all([gateway.loadRoutes(), part === 'front' && tell(copies.control, '/reload')]);
        return {};
      case '/ping':
        // Whoever keeps it is its parent for as long as they are connected.
        return {
          port,
          pid: process.connected ? process.ppid : process.pid,
          isKept: process.connected,
          fronts: trustedFronts.join(),
        };
      case '/traffic':
        return gateway.takeTraffic();
      case '/end':
        setImmediate(stop);
        return {};
      default:
        throw new Error(`unknown call ${path}`);
    }
  };
  const control = createServer((incoming, answer) => {
    answer.on('error', () => undefined);
    readTold(incoming)
      .then((body) => act(incoming.url ?? '', body))
      .then(
        (result) => answer.writeHead(200, { 'content-type': 'application/json' }).end(JSON.stringify(result)),
        (error: unknown) => answer.writeHead(400).end(String(error)),
      );
  });

  process.on('SIGTERM', stop);
  process.on('SIGINT', stop);
  // One that is left of a gateway whose keeper died.
  if (part === 'copies') await tell(copies.control, '/end');
  if (part === 'copies') await listenAt(gateway.server, copies.pages);
  else
    await new Promise<void>((resolve, reject) =>
      gateway.server.once('error', reject).listen(port, host, resolve),
    ).catch((error: unknown) => {
      log.fatal({ err: error, host, port }, 'gateway cannot serve');
      process.exit(1);
    });
  await listenAt(control, part === 'front' ? folder.run('gateway.sock') : copies.control);
  log.info({ host, port }, 'gateway is serving');
  process.send?.('serving');
}

interface Told {
  readonly environment: string;
  readonly leaseMs: number;
  readonly drainMs: number;
  readonly lease: string;
}

async function readTold(incoming: IncomingMessage): Promise<Told> {
  const chunks: Buffer[] = [];
  for await (const chunk of incoming as AsyncIterable<Buffer>) chunks.push(chunk);
  return JSON.parse(Buffer.concat(chunks).toString() || '{}');
}

async function listenAt(server: Gateway['server'], socket: string): Promise<void> {
  await fs.rm(socket, { force: true });
  await new Promise<void>((resolve, reject) => server.once('error', reject).listen(socket, resolve));
  await fs.chmod(socket, 0o600);
}

/** Tells the other process something; one that is just starting reads everything anew. */
const tell = (socketPath: string, path: string): Promise<void> =>
  new Promise((resolve) => {
    const call = request({ socketPath, path, method: 'POST', timeout: 5000 }, (response) => {
      response.on('close', resolve).resume();
    });
    call.on('timeout', () => call.destroy());
    call.on('error', () => resolve());
    call.end();
  });
