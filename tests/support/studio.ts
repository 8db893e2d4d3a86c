import { type ChildProcess, execFile, fork } from 'node:child_process';
import { openSync } from 'node:fs';
import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { Client, ServiceProblem } from '@tessarion/client';
import { freePort, PrivateCluster } from '@tessarion/cluster';
import type { ForecastWishes, Transfer, TransferDetail } from '@tessarion/contract';
import { becomeAdministrator, bringIn, browser, type DemoPlace, type DemoSite, prepareStudio } from '@tessarion/demo';
import { type ServerLogin, WebHost } from '@tessarion/demo-site';
import pg from 'pg';
import { startCluster } from './clusters.js';

const root = fileURLToPath(new URL('../..', import.meta.url));
export const CLI = join(root, 'programs/tessarion.cjs');
export const PROFILES = join(root, 'packages/demo/profiles');
export const PASSWORD = 'a password for tests';

type Started = Awaited<ReturnType<typeof startCluster>>;

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
  readonly variables: Record<string, string>;
  stop(): Promise<void>;
}

/**
 * @param variables for the service and its workers
 * @param recordsBy who makes the database of the records: the service, as at a user's; or the test, which waits for no disk
 */
export async function startStudio(
  serveArgs: readonly string[] = [],
  variables: Readonly<Record<string, string>> = {},
  recordsBy: 'service' | 'test' = 'test',
): Promise<Studio> {
  const data = await fs.mkdtemp(join(tmpdir(), 'tessarion-test-'));
  await fs.chmod(data, 0o711);
  const hosts = join(data, 'hosts');
  await fs.mkdir(hosts);
  const starting = [
    startCluster(join(data, 'site-databases')),
    ...(recordsBy === 'test' ? [startCluster(join(data, 'tessarion/records'), 'records')] : []),
  ];
  const webHost = new WebHost(hosts);
  const webHostPort = await webHost.listen(await freePort());
  const [{ cluster: siteCluster, access: server }] = (await Promise.all(starting)) as [Started];
  const log = openSync(join(data, 'service.log'), 'a');
  const service = fork(CLI, ['serve', '--data', join(data, 'tessarion'), '--port', '0', ...serveArgs], {
    stdio: ['ignore', log, log, 'ipc'],
    env: { ...process.env, ...variables },
  });
  const answers = await new Promise<{ url: string; gatewayPort: number; firstKey: string }>((resolve, reject) => {
    service.once('message', (message) => resolve(message as { url: string; gatewayPort: number; firstKey: string }));
    service.once('exit', async (code) =>
      reject(new Error(`the service ended with ${code}: ${await fs.readFile(join(data, 'service.log'), 'utf8')}`)),
    );
  });
  const { client, token } = await becomeAdministrator(answers.url, answers.firstKey, PASSWORD);
  const place: DemoPlace = { hosts, server, webHostPort, gatewayPort: answers.gatewayPort, url: answers.url };
  await prepareStudio(client, place, PROFILES);
  return {
    data,
    hosts,
    url: answers.url,
    token,
    password: PASSWORD,
    client,
    gatewayPort: answers.gatewayPort,
    place,
    server,
    webHost,
    siteCluster,
    service,
    variables: {
      TESSARION_URL: answers.url,
      TESSARION_TOKEN: token,
      TESSARION_CONFIG: join(data, 'none.yaml'),
      NO_COLOR: '1',
      PATH: process.env.PATH ?? '',
      LANG: 'C.UTF-8',
    },
    async stop() {
      if (service.exitCode === null && service.signalCode === null) {
        await new Promise<void>((resolve) => {
          service.once('exit', () => resolve());
          service.kill('SIGTERM');
        });
      }
      await webHost.close();
      const records = await PrivateCluster.at(join(data, 'tessarion/records'));
      for (const cluster of [siteCluster, records]) {
        await cluster.stop('immediate');
        await fs.rm(cluster.folder, { recursive: true, force: true });
      }
      await fs.rm(data, { recursive: true, force: true });
    },
  };
}

/** A small shop with orders, serialised values and people in it. */
export const SHOP: DemoSite = {
  name: 'threadmill',
  client: 'Threadmill & Daughters',
  format: 'env',
  copies: [],
  content: {
    title: 'Threadmill & Daughters',
    colour: '#7a3b2e',
    pages: [
      {
        slug: 'home',
        title: 'Home',
        body: '<h1>Cloth that lasts</h1><p><a href="BASE/page/dye">dye</a> and <a href="BASE/page/dye?again">again</a></p>',
      },
      { slug: 'dye', title: 'How we dye', body: '<p>Madder, weld and woad.</p>' },
    ],
    products: [
      { slug: 'apron', title: 'Linen apron', description: 'Two pockets.', price: '34.00', stock: 100 },
      { slug: 'throw', title: 'Wool throw', description: 'Long evenings.', price: '89.00', stock: 100 },
      { slug: 'bag', title: 'Market bag', description: 'Twelve kilos.', price: '24.00', stock: 100 },
    ],
    sailings: [{ route: 'Pier – Holm', departs: '09:30', vessel: 'Terna' }],
    customers: [
      {
        name: 'Ingrid Solheim',
        email: 'ingrid.solheim@post.example',
        phone: '+47 22 31 40 15',
        street: '14 Kelpmakers Row',
      },
    ],
  },
};

export const addSite = (studio: Studio, site: DemoSite = SHOP): Promise<void> =>
  bringIn(studio.client, studio.place, site);

/** Between two looks at work that takes a second or so: each look costs the service as much as a step of that work. */
const aWhile = (): Promise<void> => new Promise((resolve) => setTimeout(resolve, 90));

export async function ended(studio: Studio, transfer: Pick<Transfer, 'id'>): Promise<TransferDetail> {
  for (;;) {
    const now = await studio.client.call('transferShow', { params: { id: transfer.id } });
    if (!['waiting', 'running', 'stopping'].includes(now.state)) return now;
    await aWhile();
  }
}

/** Waits until a transfer has ended well. */
export async function done(studio: Studio, transfer: Pick<Transfer, 'id'>): Promise<TransferDetail> {
  const end = await ended(studio, transfer);
  if (end.state !== 'done') throw new Error(`${end.kind} is ${end.state}: ${end.failure?.message}`);
  return end;
}

export const makeCopy = async (
  studio: Studio,
  site: string,
  name: string,
  kind: 'dev' | 'staging' = 'staging',
): Promise<TransferDetail> =>
  done(studio, await studio.client.call('environmentCreate', { params: { site }, body: { name, kind } }));

/** How a forecast is asked for beside its ends. */
export interface ForecastOptions {
  readonly snapshot?: string;
  readonly method?: 'merge' | 'replace';
  readonly wishes?: Partial<ForecastWishes>;
}

export async function forecastOf(studio: Studio, from: string, onto: string, options: ForecastOptions = {}) {
  const { id } = await studio.client.call('forecastCreate', { body: { from, onto, ...options } });
  return computed(studio, id);
}

/** Chooses and settles anew, and waits for what the forecast says then. */
export async function settled(studio: Studio, id: string, wishes: Partial<ForecastWishes>) {
  await studio.client.call('forecastSettle', { params: { id }, body: wishes });
  return computed(studio, id);
}

async function computed(studio: Studio, id: string) {
  for (;;) {
    const forecast = await studio.client.call('forecastShow', { params: { id } });
    if (forecast.state !== 'computing') return forecast;
    await aWhile();
  }
}

export async function pushOnto(
  studio: Studio,
  from: string,
  onto: string,
  options?: ForecastOptions,
): Promise<Transfer> {
  const forecast = await forecastOf(studio, from, onto, options);
  return studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: onto } });
}

/** Brings news down. */
export async function pullInto(
  studio: Studio,
  from: string,
  onto: string,
  options?: ForecastOptions,
): Promise<Transfer> {
  const forecast = await forecastOf(studio, from, onto, options);
  return studio.client.call('pullCreate', { body: { forecast: forecast.id } });
}

export async function undoForecastOf(studio: Studio, id: string, wishes: Partial<ForecastWishes> = {}) {
  const made = await studio.client.call('forecastUndo', { params: { id }, body: wishes });
  return computed(studio, made.id);
}

/** Forecasts and starts the undo of a transfer, as the command line does. */
export async function undo(
  studio: Studio,
  id: string,
  wishes: Partial<ForecastWishes> = {},
  past: { urgent?: string; override?: string } = {},
): Promise<Transfer> {
  const forecast = await undoForecastOf(studio, id, wishes);
  return studio.client.call('transferUndo', {
    params: { id },
    body: { forecast: forecast.id, confirm: forecast.onto, ...past },
  });
}

export type Query = (sql: string, values?: unknown[]) => Promise<Record<string, unknown>[]>;

/** Runs statements on an environment's database as the cluster's superuser. */
export async function onSite<T>(studio: Studio, path: string, work: (query: Query) => Promise<T>): Promise<T> {
  const [site, name] = path.split('/') as [string, string];
  const environment = await studio.client.call('environmentShow', { params: { site, environment: name } });
  const client = new pg.Client({ ...studio.server, database: environment.databases[0] as string });
  await client.connect();
  try {
    return await work(async (sql, values) => (await client.query(sql, values)).rows as Record<string, unknown>[]);
  } finally {
    await client.end();
  }
}

export const folderOf = (studio: Studio, path: string): string => join(studio.hosts, path.replace('/', '--'));

export interface CommandEnd {
  readonly code: number;
  readonly out: string;
  readonly err: string;
}

/** Runs the command-line client as a real process. */
export function tessarion(
  studio: Studio,
  args: readonly string[],
  variables: Record<string, string> = {},
): Promise<CommandEnd> {
  return new Promise((resolve) => {
    const child = execFile(
      process.execPath,
      [CLI, ...args],
      { env: { ...studio.variables, ...variables }, maxBuffer: 1 << 24 },
      (error, out, err) => resolve({ code: error ? Number((error as { code?: number }).code ?? 1) : 0, out, err }),
    );
    child.stdin?.end();
  });
}

/** Names of databases and folders on the server, to see that nothing is left behind. */
export async function leftOvers(studio: Studio): Promise<{ databases: string[]; roles: string[]; folders: string[] }> {
  const client = new pg.Client({ ...studio.server, database: 'postgres' });
  await client.connect();
  const databases = await client.query(
    "SELECT datname FROM pg_database WHERE NOT datistemplate AND datname <> 'postgres' ORDER BY 1",
  );
  const roles = await client.query(
    "SELECT rolname FROM pg_roles WHERE rolname !~ '^pg_' AND rolname <> 'tessarion' ORDER BY 1",
  );
  await client.end();
  return {
    databases: databases.rows.map((row) => row.datname),
    roles: roles.rows.map((row) => row.rolname),
    folders: (await fs.readdir(studio.hosts)).sort(),
  };
}

/** Saves a profile's next version, or its first. */
export async function saveProfile(client: Client, name: string, text: string) {
  const known = (await client.call('profileList')).find((one) => one.name === name);
  return client.call('profileSave', { params: { name }, body: { text }, etag: known?.etag ?? null });
}

/** Process ids of the service's workers. */
export async function workerPids(studio: Studio): Promise<number[]> {
  const found: number[] = [];
  for (const name of await fs.readdir('/proc')) {
    if (!/^\d+$/.test(name)) continue;
    const line = await fs.readFile(`/proc/${name}/cmdline`, 'utf8').catch(() => '');
    if (!line.includes('programs/worker.cjs')) continue;
    const variables = await fs.readFile(`/proc/${name}/environ`, 'utf8').catch(() => '');
    if (variables.includes(`TESSARION_DATA=${studio.data}/`)) found.push(Number(name));
  }
  return found;
}

/** A client of somebody who has signed in with mail and password. */
export async function signIn(studio: Studio, mail: string): Promise<Client> {
  const client = browser(studio.url);
  await client.call('signIn', { body: { mail, password: studio.password } });
  return client;
}

/** A client of a guest who came in by a link. */
export async function comeIn(studio: Studio, url: string, passcode?: string): Promise<Client> {
  const guest = browser(studio.url);
  const key = url.slice(url.indexOf('#') + 1);
  await guest.call('guestEnter', { body: { key, ...(passcode === undefined ? {} : { passcode }) } });
  return guest;
}

/** How a call that may be refused ends: `done`, or the kind of problem. */
export async function refusal(call: Promise<unknown>): Promise<string> {
  try {
    await call;
    return 'done';
  } catch (error) {
    if (error instanceof ServiceProblem) return error.problem.type.replace('tessarion:', '');
    throw error;
  }
}

/** Invites somebody, who comes and signs in. */
export async function newcomer(
  studio: Studio,
  mail: string,
  role: string,
  scope: string,
  name = mail,
): Promise<Client> {
  const { key } = await studio.client.call('personInvite', { body: { name, mail, role, scope } });
  await new Client({ url: studio.url }).call('invitationAccept', { body: { key, password: studio.password } });
  return signIn(studio, mail);
}

/** Runs a statement on the service's own records: for what time would bring, and for what nobody may see there. */
export async function onRecords(studio: Studio, sql: string): Promise<Record<string, unknown>[]> {
  const { host, port, user, password } = await (
    await PrivateCluster.at(join(studio.data, 'tessarion/records'))
  ).start();
  const client = new pg.Client({ host, port, user, password, database: 'postgres' });
  await client.connect();
  try {
    return (await client.query(sql)).rows as Record<string, unknown>[];
  } finally {
    await client.end();
  }
}
