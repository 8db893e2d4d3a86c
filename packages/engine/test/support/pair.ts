import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { PrivateCluster } from '@tessarion/cluster';
import { checkProfile, type EnvironmentKind, type Profile, parseLocation } from '@tessarion/core';
import pg from 'pg';
import { startCluster } from '../../../../tests/support/clusters.js';
import { LocalServer } from '../../src/local/local-server.js';
import { PostgresAdmin } from '../../src/postgres/administration.js';
import { postgresql } from '../../src/postgres/system.js';
import type { Environment } from '../../src/site/environment.js';

export type Query = (sql: string, values?: unknown[]) => Promise<Record<string, unknown>[]>;

/** A database server and a folder, in which environments are made for a test. */
export class Yard {
  readonly #clients: pg.Client[] = [];
  #number = 0;

  private constructor(
    readonly folder: string,
    readonly cluster: PrivateCluster,
    readonly server: { host: string; port: number; user: string; password: string },
  ) {}

  static async open(): Promise<Yard> {
    const folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-yard-'));
    await fs.chmod(folder, 0o711);
    const { cluster, access } = await startCluster(join(folder, 'cluster'));
    return new Yard(folder, cluster, access);
  }

  async close(): Promise<void> {
    for (const client of this.#clients) await client.end().catch(() => undefined);
    await this.cluster.stop('immediate');
    await fs.rm(this.cluster.folder, { recursive: true, force: true });
    await fs.rm(this.folder, { recursive: true, force: true });
  }

  /** An environment with an empty database, one root and the layout that switches in one step. */
  async environment(
    name: string,
    address: string,
    profile: Profile,
    facts: { kind?: EnvironmentKind; settings?: Record<string, string>; sql?: string } = {},
  ): Promise<{ environment: Environment; query: Query; root: string }> {
    const number = this.#number++;
    const id = `e${number}_${name}`;
    const login = {
      host: this.server.host,
      port: this.server.port,
      database: id,
      user: id,
      password: `secret-word-${number}`,
    };
    await new PostgresAdmin({ ...this.server, database: 'postgres' }).create(login);
    const folder = join(this.folder, `site-${number}`);
    const root = join(folder, 'trees/main-0');
    await fs.mkdir(root, { recursive: true });
    await fs.symlink('trees/main-0', join(folder, 'main'));
    const client = new pg.Client(login);
    client.on('error', () => undefined);
    await client.connect();
    this.#clients.push(client);
    const query: Query = async (sql, values) => {
      const result = await client.query(sql, values);
      return (Array.isArray(result) ? [] : result.rows) as Record<string, unknown>[];
    };
    if (facts.sql !== undefined) await query(facts.sql);
    const location = parseLocation(address);
    if (!location) throw new Error(`${address} is no address`);
    return {
      query,
      root,
      environment: {
        path: `loom/${name}`,
        site: 'loom',
        name,
        kind: facts.kind ?? 'staging',
        server: new LocalServer(this.folder),
        folder,
        place: {
          addresses: [{ name: 'main', aliases: [], ...location }],
          roots: [{ name: 'main', path: join(folder, 'main') }],
        },
        databases: [{ name: 'main', login, system: postgresql }],
        profile,
        settings: new Map(Object.entries(facts.settings ?? {})),
      },
    };
  }
}

/** @throws when the text is no valid profile */
export function profileOf(text: string): Profile {
  const check = checkProfile(`tessarion: profile/1\nname: loom\ntitle: A loom\n${text}`);
  if (!check.ok) throw new Error(JSON.stringify(check.mistakes));
  return check.profile;
}

export const idle = { signal: new AbortController().signal, count: () => undefined };
