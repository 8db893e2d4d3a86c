import { type ChildProcess, execFile, fork } from 'node:child_process';
import { openSync } from 'node:fs';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { promisify } from 'node:util';
import { Client } from '@tessarion/client';
import { sendByNode } from '@tessarion/client/node';
import { PrivateCluster } from '@tessarion/cluster';
import { becomeAdministrator, type DemoPlace, prepareStudio } from '@tessarion/demo';
import { type ServerLogin, WebHost } from '@tessarion/demo-site';
import pg from 'pg';
import type { MariaServer } from '../../packages/engine/test/support/mariadb.js';
import { startCluster } from './clusters.js';
import { endProcessesOf } from './processes.js';

const root = fileURLToPath(new URL('../..', import.meta.url));
export const CLI = join(root, 'programs/tessarion.cjs');
export const PROFILES = join(root, 'packages/demo/profiles');
export const PASSWORD = 'a password for tests';

/** What the programs are made of. Nobody calls this: `--changed` follows it from tests to what they drive. */
export const madeOf = (): Promise<unknown>[] => [
  import('../../packages/cli/src/run.js'),
  import('../../packages/service/src/main/worker.js'),
  import('../../packages/service/src/gateway/serve-gateway.js'),
  import('../../packages/service/src/journal/verify-thread.js'),
  import('../../packages/engine/src/copy/file-lane-thread.js'),
];

/** A whole installation of its own: site databases, web host, service, worker and gateway as real processes. */
export interface Studio {
  readonly data: string;
  readonly hosts: string;
  readonly url: string;
  readonly token: string;
  readonly password: string;
  readonly client: Client;
  readonly gatewayPort: number;
  readonly place: DemoPlace;
  readonly server: ServerLogin;
  readonly webHost: WebHost;
  readonly siteCluster: PrivateCluster;
  readonly service: ChildProcess;
  /** The service's own records, as their superuser. */
  readonly records: pg.Pool;
  readonly variables: Record<string, string>;
  /** How its MariaDB server's administrator logs in, where its sites' databases are there. */
  readonly maria?: MariaServer['login'];
  /** Ends everything and removes it. */
  stop(): Promise<void>;
}

/** Where a studio lies, and its ports. */
export interface StudioPlace {
  readonly data: string;
  readonly ports: {
    readonly siteDatabases: number;
    readonly records: number;
    readonly webHost: number;
    readonly service: number;
    readonly gateway: number;
  };
}

export interface StudioOptions {
  /** How its server is reached: as another machine by SSH, where that is said, and else straight. */
  readonly reach?: 'ssh';
  /** Where its sites' databases are; in PostgreSQL unless it is said. */
  readonly system?: 'mariadb';
  /** For `serve`. */
  readonly args?: readonly string[];
  /** Environment variables of the service and its workers. */
  readonly variables?: Readonly<Record<string, string>>;
}

/** Starts a studio where nothing is yet, with an administrator, the demo's profiles and its server. */
export async function startNewStudio(
  place: StudioPlace,
  options: StudioOptions,
  recordsBy: 'service' | 'test',
): Promise<Studio> {
  await fs.mkdir(join(place.data, 'hosts'), { recursive: true });
  await fs.chmod(place.data, 0o711);
  await Promise.all([
    startCluster(join(place.data, 'site-databases'), 'nothing', place.ports.siteDatabases),
    recordsBy === 'test' && startCluster(join(place.data, 'tessarion/records'), 'records', place.ports.records),
  ]);
  const studio = await startStudioAgain(place, options, async ({ url, firstKey }) => {
    if (firstKey === undefined) throw new Error('Somebody is here already.');
    return (await becomeAdministrator(url, firstKey, PASSWORD)).token;
  });
  await prepareStudio(studio.client, studio.place, PROFILES);
  return studio;
}

interface Answers {
  readonly url: string;
  readonly gatewayPort: number;
  readonly firstKey?: string;
}

/**
 * Starts a studio from what lies in its folder.
 *
 * @param tokenOf a token of the administrator's
 */
export async function startStudioAgain(
  { data, ports }: StudioPlace,
  { args = [], variables = {} }: StudioOptions,
  tokenOf: (answers: Answers) => Promise<string>,
): Promise<Studio> {
  const hosts = join(data, 'hosts');
  const records = await PrivateCluster.at(join(data, 'tessarion/records'));
  const siteCluster = await PrivateCluster.at(join(data, 'site-databases'));
  const webHost = new WebHost(hosts);
  const isMade = await fs.stat(records.folder).then(
    () => true,
    () => false,
  );
  const [server] = await Promise.all([
    siteCluster.start(WITHOUT_DISK),
    isMade && records.start(WITHOUT_DISK),
    webHost.listen(ports.webHost),
  ]);
  const log = openSync(join(data, 'service.log'), 'a');
  const folder = join(data, 'tessarion');
  const own = ['--data', folder, '--port', String(ports.service), '--gateway-port', String(ports.gateway)];
  // One person does here in a minute what colleagues do in a day.
  const patient = ['--most-requests', '1000000'];
  const service = fork(CLI, ['serve', ...own, ...patient, ...args], {
    stdio: ['ignore', log, log, 'ipc'],
    env: { ...process.env, ...variables },
  });
  const answers = await new Promise<Answers>((resolve, reject) => {
    service.once('message', (message) => resolve(message as Answers));
    service.once('exit', async (code) =>
      reject(new Error(`the service ended with ${code}: ${await fs.readFile(join(data, 'service.log'), 'utf8')}`)),
    );
  });
  const pool = new pg.Pool({ ...(await accessOf(records)), database: 'postgres', max: 3 });
  pool.on('error', () => undefined);
  pool.on('connect', (client) => client.on('error', () => undefined));
  const token = await tokenOf(answers);
  const place: DemoPlace = { hosts, server, webHostPort: ports.webHost, gatewayPort: ports.gateway, url: answers.url };
  return {
    data,
    hosts,
    url: answers.url,
    token,
    password: PASSWORD,
    client: new Client({ url: answers.url, token, send: sendByNode }),
    gatewayPort: ports.gateway,
    place,
    server,
    webHost,
    siteCluster,
    service,
    records: pool,
    variables: {
      TESSARION_URL: answers.url,
      TESSARION_TOKEN: token,
      TESSARION_CONFIG: join(data, 'none.yaml'),
      NO_COLOR: '1',
      PATH: process.env.PATH ?? '',
      LANG: 'C.UTF-8',
    },
    async stop() {
      await pool.end();
      await webHost.close();
      await endProcessesOf(data);
      await removeStudio(data);
    },
  };
}

/** How to reach a database server that runs. */
async function accessOf({ folder }: PrivateCluster): Promise<ServerLogin> {
  const { host, port, user, password } = JSON.parse(await fs.readFile(join(folder, 'access.json'), 'utf8'));
  return { host, port, user, password };
}

/** Processes die in tests, machines do not. */
const WITHOUT_DISK = { fsync: 'off', min_wal_size: '32MB' };

async function removeStudio(data: string): Promise<void> {
  for (const name of ['tessarion/records', 'site-databases'])
    await fs.rm((await PrivateCluster.at(join(data, name))).folder, { recursive: true, force: true });
  await fs.rm(data, { recursive: true, force: true });
}

/** Lets every process of a studio end by itself, so that what lies in its folder is whole. */
async function rest({ service, webHost, siteCluster, records, data }: Studio): Promise<void> {
  await records.end();
  await new Promise<void>((resolve) => {
    service.once('exit', () => resolve());
    service.kill('SIGTERM');
  });
  await webHost.close();
  await siteCluster.stop();
  await endProcessesOf(data);
}

/** Keeps a studio as it is, to be put back where it lies; it is over with that. */
export async function keepStudio(studio: Studio, folder: string): Promise<void> {
  await rest(studio);
  await promisify(execFile)('cp', ['--archive', studio.data, folder]);
  await removeStudio(studio.data);
}

/** Puts a kept studio back where it lay. What runs there is ended. */
export async function putBackStudio(folder: string, data: string): Promise<void> {
  await endProcessesOf(data);
  await removeStudio(data);
  await promisify(execFile)('cp', ['--archive', folder, data]);
}
