import { type ChildProcess, spawn } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { connect } from 'node:net';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { freePort } from '@tessarion/cluster';
import { endProcessesOf } from './processes.js';

const PROGRAM = resolve('programs/gateway.cjs');

export const GATE = { user: 'guest', password: 'open sesame' };

export interface GatewayAlone {
  readonly folder: string;
  readonly port: number;
  readonly keeper: ChildProcess;
  stop(): Promise<void>;
}

/** A gateway without a service, for web servers of a test. */
export async function startGateway(
  routes: readonly { readonly host: string; readonly kind: 'live' | 'staging'; readonly port: number }[],
): Promise<GatewayAlone> {
  const folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-attacked-'));
  await fs.mkdir(join(folder, 'run'), { mode: 0o700 });
  const published = routes.map(({ host, kind, port: to }) => ({
    host,
    environment: `${host.split('.')[0]}/${kind}`,
    kind,
    upstream: { host: '127.0.0.1', port: to },
    gate: kind === 'live' ? null : GATE,
    refreshedAt: null,
    console: 'http://console.example',
  }));
  await fs.writeFile(join(folder, 'run/gateway-routes.json'), JSON.stringify({ holders: {}, routes: published }));
  const port = await freePort();
  const keeper = spawn(process.execPath, [PROGRAM, folder, '127.0.0.1', String(port)], { stdio: 'ignore' });
  return {
    folder,
    port,
    keeper,
    async stop() {
      keeper.kill('SIGKILL');
      await endProcessesOf(folder);
      await fs.rm(folder, { recursive: true });
    },
  };
}

/** Sends bytes, and gives back what comes until the connection ends or falls silent. */
export function sendTo(port: number, bytes: string | Buffer, silenceMs = 250): Promise<string> {
  return new Promise((done) => {
    const socket = connect(port, '127.0.0.1');
    let got = '';
    const end = (): void => {
      socket.destroy();
      done(got);
    };
    socket.setTimeout(silenceMs, end);
    socket.on('data', (data: Buffer) => {
      got += data.toString('latin1');
    });
    socket.on('error', end);
    socket.on('close', end);
    socket.write(typeof bytes === 'string' ? Buffer.from(bytes, 'latin1') : bytes);
  });
}
