import { execFile } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import pg from 'pg';
import { vi } from 'vitest';
import { dumpMaria, loadMaria } from './by-maria.js';
import { folderOf, onRecords, type Studio } from './studio.js';
import { during } from './times.js';

const run = promisify(execFile);
const quote = (name: string): string => `"${name.replaceAll('"', '""')}"`;
const literal = (text: string): string => `'${text.replaceAll("'", "''")}'`;

/** A database as it was, under another name, and the login that it belongs to. */
interface KeptDatabase {
  readonly name: string;
  /** Of MariaDB: all of it. */
  readonly dump?: string;
  readonly copy: string;
  readonly user: string;
  /** Statements that make the login again where it is gone. */
  readonly makeUser: string;
}

interface KeptEnvironment {
  readonly path: string;
  readonly databases: readonly KeptDatabase[];
  readonly folder: string;
}

/** Whom everything in kept databases belongs to. */
const KEEPER = 'keeper';

let number = 0;

/**
 * Environments as they were at one moment, which can be put back before each test: databases by template, folders by `cp`, and
 * what the records say of them. It costs a fifth of a reset, and leaves nothing of the test before; what is not put back are
 * requests, forecasts, transfers and the journal.
 */
export class KeptSite {
  private constructor(
    private readonly studio: Studio,
    private readonly environments: readonly KeptEnvironment[],
    private readonly stores: ReadonlyMap<string, string>,
    private readonly records: { readonly rows: string; readonly columns: string },
  ) {}

  static async of(studio: Studio, ...paths: string[]): Promise<KeptSite> {
    const list = paths.map(literal).join(', ');
    const unpacked = `SELECT FROM baseline WHERE (lower IN (${list}) OR upper IN (${list})) AND spool IS NOT NULL`;
    await vi.waitUntil(async () => (await onRecords(studio, unpacked)).length === 0, { timeout: 30_000 });
    const environments: KeptEnvironment[] = [];
    for (const path of paths) {
      const [site, environment] = path.split('/') as [string, string];
      const shown = await studio.client.call('environmentShow', { params: { site, environment } });
      const databases: KeptDatabase[] = [];
      for (const name of shown.databases) databases.push(await keepDatabase(studio, name));
      const folder = join(studio.data, 'kept', `${number++}`);
      await fs.mkdir(join(studio.data, 'kept'), { recursive: true });
      await run('cp', ['--archive', folderOf(studio, path), folder]);
      environments.push({ path, databases, folder });
    }
    // Baselines lie there, and go with what is made anew.
    const stores = new Map<string, string>();
    for (const site of new Set(paths.map((path) => path.split('/')[0] as string))) {
      const store = join(studio.data, 'tessarion/stores', site);
      const folder = join(studio.data, 'kept', `${number++}`);
      await run('cp', ['--archive', store, folder]);
      stores.set(store, folder);
    }
    const [kept] = await onRecords(
      studio,
      `SELECT json_build_object(
        'environment', (SELECT json_agg(e) FROM environment e WHERE path IN (${list})),
        'baseline', (SELECT json_agg(b) FROM baseline b WHERE lower IN (${list}) OR upper IN (${list})))::text AS rows,
        (SELECT string_agg(format('%1$I = excluded.%1$I', attname), ', ') FROM pg_attribute
          WHERE attrelid = 'environment'::regclass AND attnum > 0 AND NOT attisdropped) AS columns`,
    );
    return new KeptSite(studio, environments, stores, kept as { rows: string; columns: string });
  }

  /** Puts everything back as it was. */
  restore(): Promise<void> {
    return during('resetting', async () => {
      const { studio, environments, stores } = this;
      await Promise.all([
        ...environments.flatMap(({ databases }) => databases.map((one) => putBackDatabase(studio, one))),
        ...environments.map(async ({ path, folder }) => {
          await fs.rm(folderOf(studio, path), { recursive: true, force: true });
          await run('cp', ['--archive', folder, folderOf(studio, path)]);
        }),
        ...[...stores].map(([store, folder]) => run('cp', ['--archive', '--no-clobber', `${folder}/.`, store])),
      ]);
      const { rows, columns } = this.records;
      const list = environments.map(({ path }) => literal(path)).join(', ');
      // Epochs only grow: one that was given out once must never count again.
      await onRecords(
        studio,
        `DELETE FROM baseline WHERE lower IN (${list}) OR upper IN (${list});
        INSERT INTO baseline SELECT b.* FROM json_populate_recordset(NULL::baseline, ${literal(rows)}::json -> 'baseline') b;
        CREATE TEMP TABLE former ON COMMIT DROP AS SELECT path, epoch FROM environment;
        CREATE TEMP TABLE kept ON COMMIT DROP AS SELECT e.* FROM json_populate_recordset(NULL::environment, ${literal(rows)}::json -> 'environment') e;
        UPDATE kept SET epoch = greatest(kept.epoch, former.epoch) FROM former WHERE former.path = kept.path;
        INSERT INTO environment SELECT * FROM kept ON CONFLICT (path) DO UPDATE SET ${columns};`,
      );
    });
  }
}

async function keepDatabase(studio: Studio, name: string): Promise<KeptDatabase> {
  if (studio.maria) return { name, copy: '', user: '', makeUser: '', dump: await dumpMaria(studio.maria, name) };
  const copy = `kept_${number++}`;
  return onServer(studio, async (query) => {
    await query(
      `SELECT pg_terminate_backend(pid, 5000) FROM pg_stat_activity WHERE datname = ${literal(name)} AND pid <> pg_backend_pid()`,
    );
    await query(`CREATE DATABASE ${quote(copy)} TEMPLATE ${quote(name)}`);
    const [owner] = await query(
      `SELECT r.rolname, r.rolconnlimit, a.rolpassword FROM pg_database d JOIN pg_roles r ON r.oid = d.datdba JOIN pg_authid a ON a.oid = r.oid WHERE datname = ${literal(name)}`,
    );
    const user = String(owner?.rolname);
    // Its login may be dropped meanwhile, as by a reset.
    await query(`DO $$ BEGIN CREATE ROLE ${KEEPER}; EXCEPTION WHEN duplicate_object THEN END $$`);
    await onServer(studio, (inCopy) => inCopy(`REASSIGN OWNED BY ${quote(user)} TO ${KEEPER}`), copy);
    // That takes the login's databases along, wherever it is said.
    await query(`ALTER DATABASE ${quote(name)} OWNER TO ${quote(user)}`);
    const makeUser = `CREATE ROLE ${quote(user)} LOGIN PASSWORD ${literal(String(owner?.rolpassword))} CONNECTION LIMIT ${owner?.rolconnlimit}`;
    return { name, copy, user, makeUser };
  });
}

const putBackDatabase = (studio: Studio, { name, copy, user, makeUser, dump }: KeptDatabase): Promise<unknown> =>
  studio.maria && dump !== undefined
    ? loadMaria(studio.maria, dump)
    : onServer(studio, async (query) => {
        await query(`DROP DATABASE IF EXISTS ${quote(name)} WITH (FORCE)`);
        if ((await query(`SELECT FROM pg_roles WHERE rolname = ${literal(user)}`)).length === 0) await query(makeUser);
        await query(`CREATE DATABASE ${quote(name)} OWNER ${quote(user)} TEMPLATE ${quote(copy)}`);
        await query(`REVOKE ALL ON DATABASE ${quote(name)} FROM PUBLIC`);
        await onServer(studio, (inside) => inside(`REASSIGN OWNED BY ${KEEPER} TO ${quote(user)}`), name);
      });

async function onServer<T>(
  { server }: Studio,
  work: (query: (sql: string) => Promise<Record<string, unknown>[]>) => Promise<T>,
  database = 'postgres',
): Promise<T> {
  const client = new pg.Client({ ...server, database });
  await client.connect();
  try {
    return await work(async (sql) => (await client.query(sql)).rows);
  } finally {
    await client.end();
  }
}
