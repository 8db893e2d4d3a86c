import { type ChildProcess, fork } from 'node:child_process';
import { openSync } from 'node:fs';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import pg from 'pg';
import { workersOf } from './processes.js';
import { CLI, type Studio } from './studio.js';

/** Deaths at any moment, of any part, and what brings it back: what a machine's own services would do. */
export class Deaths {
  #service: ChildProcess;

  constructor(readonly studio: Studio) {
    this.#service = studio.service;
  }

  static readonly KINDS = [
    'one worker',
    'all workers',
    'service',
    'service in order',
    'gateway',
    'site databases',
    'backends',
    'records',
    'everything',
  ] as const;

  /** @returns what brings everything back that does not come back by itself */
  async of(kind: (typeof Deaths.KINDS)[number]): Promise<() => Promise<void>> {
    const { studio } = this;
    const stays = async (): Promise<void> => undefined;
    const startAgain = (): Promise<void> => this.#serve();
    switch (kind) {
      case 'one worker': {
        const [pid] = await workersOf(studio.data);
        end(pid);
        return stays;
      }
      case 'all workers':
        for (const pid of await workersOf(studio.data)) end(pid);
        return stays;
      case 'service':
        this.#service.kill('SIGKILL');
        return startAgain;
      case 'service in order': {
        const over = new Promise((resolve) => this.#service.once('exit', resolve));
        this.#service.kill('SIGTERM');
        await over;
        return startAgain;
      }
      case 'gateway':
        end(await this.#gateway());
        return stays;
      case 'site databases':
        await studio.siteCluster.stop('immediate');
        return async () => {
          await studio.siteCluster.start();
        };
      case 'backends': {
        const client = new pg.Client({ ...studio.server, database: 'postgres' });
        client.on('error', () => undefined);
        await client.connect();
        await client.query(
          "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE backend_type = 'client backend' AND pid <> pg_backend_pid()",
        );
        await client.end();
        return stays;
      }
      case 'records':
        end(await this.#recordsServer());
        return stays;
      case 'everything': {
        const [gateway, records, workers] = [
          await this.#gateway(),
          await this.#recordsServer(),
          await workersOf(studio.data),
        ];
        this.#service.kill('SIGKILL');
        for (const pid of [gateway, records, ...workers]) end(pid);
        return startAgain;
      }
    }
  }

  async #gateway(): Promise<number | undefined> {
    const { GatewayControl } = await import('../../packages/service/dist/front/control.js');
    const control = new GatewayControl(join(this.studio.data, 'tessarion/run/gateway.sock'));
    return control.ping().then(
      ({ pid }) => pid,
      () => undefined,
    );
  }

  async #recordsServer(): Promise<number | undefined> {
    const file = join(this.studio.data, 'tessarion/records/data/postmaster.pid');
    const [pid] = (await fs.readFile(file, 'utf8').catch(() => '')).split('\n');
    return pid ? Number(pid) : undefined;
  }

  async #serve(): Promise<void> {
    const { data, url, gatewayPort } = this.studio;
    const log = openSync(join(data, 'service.log'), 'a');
    const ports = ['--port', new URL(url).port, '--gateway-port', String(gatewayPort)];
    const service = fork(
      CLI,
      ['serve', '--data', join(data, 'tessarion'), ...ports, '--most-requests', '1000000', '--workers', '2'],
      { stdio: ['ignore', log, log, 'ipc'] },
    );
    this.#service = service;
    await new Promise<void>((resolve, reject) => {
      service.once('message', () => resolve());
      service.once('exit', async (code) =>
        reject(
          new Error(
            `the service ended with ${code}: ${(await fs.readFile(join(data, 'service.log'), 'utf8')).slice(-3000)}`,
          ),
        ),
      );
    });
  }
}

function end(pid: number | undefined): void {
  if (pid === undefined) return;
  try {
    process.kill(pid, 'SIGKILL');
  } catch {
    // It has just ended.
  }
}
