import * as fs from 'node:fs/promises';
import { createServer } from 'node:http';
import { pino } from 'pino';
import { DataFolder } from '../data-folder.js';
import { Gateway } from './gateway.js';

/** Serves environments, and listens to the service on a socket in its data folder, until it is told to stop. */
export async function serveGateway(dataFolder: string, host: string, port: number): Promise<void> {
  const log = pino({ name: 'gateway' });
  const folder = await DataFolder.open(dataFolder);
  const gateway = new Gateway({
    routesFile: folder.run('gateway-routes.json'),
    key: folder.keys.derive('gateway'),
    log,
    now: () => new Date(),
  });
  await gateway.loadRoutes();

  const control = createServer((incoming, answer) => {
    const act = async (): Promise<unknown> => {
      const chunks: Buffer[] = [];
      for await (const chunk of incoming as AsyncIterable<Buffer>) chunks.push(chunk);
      const body = JSON.parse(Buffer.concat(chunks).toString() || '{}');
      switch (incoming.url) {
        case '/hold':
          return gateway.holds.hold(body.environment, body.leaseMs, body.drainMs);
        case '/release':
          return gateway.holds.release(body.lease);
        case '/reload':
          await gateway.loadRoutes();
          return {};
        case '/ping':
          return { port: port, pid: process.pid };
        case '/traffic':
          return gateway.takeTraffic();
        default:
          throw new Error(`unknown call ${incoming.url}`);
      }
    };
    act().then(
      (result) => answer.writeHead(200, { 'content-type': 'application/json' }).end(JSON.stringify(result)),
      (error: unknown) => answer.writeHead(400).end(String(error)),
    );
  });

  const socket = folder.run('gateway.sock');
  await fs.rm(socket, { force: true });
  await new Promise<void>((resolve) => control.listen(socket, resolve));
  await fs.chmod(socket, 0o600);
  await new Promise<void>((resolve, reject) => gateway.server.once('error', reject).listen(port, host, resolve));
  log.info({ host, port }, 'gateway is serving');

  const stop = (): void => {
    gateway.server.close();
    gateway.server.closeAllConnections();
    control.close();
    process.exit(0);
  };
  process.on('SIGTERM', stop);
  process.on('SIGINT', stop);
}
