import { execFile } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { Client, ServiceProblem, sendByFetch } from '@tessarion/client';
import type { Forecast, ForecastWishes, Transfer, TransferDetail } from '@tessarion/contract';
import { bringIn, browser, type DemoSite } from '@tessarion/demo';
import pg from 'pg';
import { vi } from 'vitest';
import { borrowSession } from '../../packages/engine/src/postgres/sessions.js';
import { onMariaDatabase } from './by-maria.js';
import { type Image, newPlace, startFromImage } from './images.js';
import { workersOf } from './processes.js';
import { CLI, type Studio, type StudioOptions, startNewStudio } from './start-studio.js';
import { during } from './times.js';

export { CLI, PASSWORD, PROFILES, type Studio } from './start-studio.js';

const isGone = (file: string): Promise<boolean> =>
  fs.stat(file).then(
    () => false,
    () => true,
  );

/** Makes the copy of the shop, and waits until its baseline is packed. */
async function makeStaging(studio: Studio): Promise<void> {
  const { id } = await makeCopy(studio, 'threadmill', 'staging');
  const spool = join(studio.data, 'tessarion/stores/threadmill/spools', id);
  await vi.waitUntil(() => isGone(spool), { interval: 20, timeout: 30_000 });
}

/** Each has an administrator, the demo's profiles and its server. */
const IMAGES = {
  nothing: { name: 'nothing', steps: [] },
  live: { name: 'live', steps: [addSite] },
  staging: { name: 'staging', steps: [addSite, makeStaging] },
} as const satisfies Record<string, Image>;

/**
 * A whole installation of its own, as if it had just been set up.
 *
 * @param holds sites that are in it: none; `threadmill/live`, a small shop; or that and its copy `threadmill/staging`
 */
export const startStudio = (holds: keyof typeof IMAGES = 'nothing', options: StudioOptions = {}): Promise<Studio> =>
  during('starting', () => startFromImage(IMAGES[holds], options));

/** One in which the service makes its records by itself, as at a user's. */
export const startAsUsers = (): Promise<Studio> =>
  during('starting', async () => startNewStudio(await newPlace(), {}, 'service'));

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

export function addSite(studio: Studio, site: DemoSite = SHOP): Promise<void> {
  return during('starting', () => bringIn(studio.client, studio.place, site));
}

/** Between two looks at work that takes some hundred milliseconds. */
const SHORTLY_MS = 20;

/**
 * Waits until a row of the records is in one of some states. It is asked of the records, since each question to the service costs
 * as much as a step of the work that is waited for; what came of it is asked of the service.
 */
async function comesTo(studio: Studio, sql: string, id: string): Promise<void> {
  const { rows } = await studio.records.query<{ is: boolean }>(sql, [id]);
  if (rows[0]?.is === false) {
    await new Promise((resolve) => setTimeout(resolve, SHORTLY_MS));
    return comesTo(studio, sql, id);
  }
}

export const ended = (studio: Studio, { id }: Pick<Transfer, 'id'>): Promise<TransferDetail> =>
  during('waiting', async () => {
    await comesTo(
      studio,
      "SELECT state NOT IN ('waiting', 'running', 'stopping') AS is FROM transfer WHERE id = $1",
      id,
    );
    return studio.client.call('transferShow', { params: { id } });
  });

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

const computed = (studio: Studio, id: string): Promise<Forecast> =>
  during('waiting', async () => {
    await comesTo(studio, "SELECT state <> 'computing' AS is FROM forecast WHERE id = $1", id);
    return studio.client.call('forecastShow', { params: { id } });
  });

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
  if (studio.maria) return onMariaDatabase(studio.maria, environment.databases[0] as string, work);
  const session = await borrowSession(
    { ...studio.server, database: environment.databases[0] as string },
    'read',
    'of a test',
  );
  try {
    await session.query('SET search_path TO DEFAULT');
    return await work(async (sql, values) => (await session.query(sql, values)).rows as Record<string, unknown>[]);
  } finally {
    await session.giveBack();
  }
}

/** For what keeps new sessions out of a database: those that are open would go on. */
export const END_OTHER_SESSIONS =
  'SELECT pg_terminate_backend(pid, 5000) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()';

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
export const workerPids = (studio: Studio): Promise<number[]> => workersOf(studio.data);

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

/** Invites somebody, who comes by the invitation and signs in. */
export async function invited(studio: Studio, mail: string, role: string, scope: string, name = mail): Promise<Client> {
  const { key } = await studio.client.call('personInvite', { body: { name, mail, role, scope } });
  await new Client({ url: studio.url }).call('invitationAccept', { body: { key, password: studio.password } });
  return signIn(studio, mail);
}

/** Somebody as {@link invited} leaves them, without the two passwords that take half a second of work to be hashed. */
export async function newcomer(
  studio: Studio,
  mail: string,
  role: string,
  scope: string,
  name = mail,
): Promise<Client> {
  const { id } = await studio.client.call('personInvite', { body: { name, mail, role, scope } });
  const session = `session_${randomBytes(24).toString('base64url')}`;
  await studio.records.query(
    `WITH used AS (DELETE FROM invitation WHERE person_id = $1),
      come AS (UPDATE person SET state = 'active', password_hash = (SELECT password_hash FROM person WHERE mail = $2) WHERE id = $1)
     INSERT INTO session (id, hash, person_id, created_at, expires_at, address)
     VALUES ($3, $4, $1, now(), now() + interval '1 day', '127.0.0.1')`,
    [
      id,
      'maren.brask@copperlane.example',
      `n-${randomBytes(5).toString('hex')}`,
      createHash('sha256').update(session).digest('hex'),
    ],
  );
  const withSession = { cookie: `tessarion_session=${session}` };
  return new Client({
    url: studio.url,
    send: (url, question) => sendByFetch(url, { ...question, headers: { ...question.headers, ...withSession } }),
  });
}

/** Runs a statement on the service's own records: for what time would bring, and for what nobody may see there. */
export const onRecords = async (studio: Studio, sql: string): Promise<Record<string, unknown>[]> =>
  (await studio.records.query(sql)).rows as Record<string, unknown>[];
