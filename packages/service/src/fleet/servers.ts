import { type ByteString, toBytes } from '@tessarion/core';
import {
  type Administration,
  connectServer,
  type DatabaseLogin,
  databaseSystem,
  EngineError,
  folderOf,
  fromServer,
  type ServerConnection,
  type ServerReach,
  type SshReach,
} from '@tessarion/engine';
import type { DataFolder } from '../ground/data-folder.js';
import { json, type OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';

/** A machine that is logged in to by SSH. */
export interface SshMachine {
  readonly host: string;
  readonly port: number;
  readonly user: string;
  /** In base64; null until somebody has confirmed it. */
  readonly hostKey: string | null;
}

/** How a server is logged in to; the machine on the way takes the same key. */
export interface SshRecord extends SshMachine {
  readonly jump: SshMachine | null;
}

/** A server in the records: where environments lie, are served from, and have their databases. */
export interface ServerRecord {
  readonly name: string;
  /** Name of the machine that the folder lies on. */
  readonly machine: string;
  readonly folder: string;
  readonly base_domain: string;
  readonly web_host: { readonly host: string; readonly port: number };
  readonly database: {
    /** The kind of its databases; PostgreSQL where it does not say. */
    readonly system?: string | undefined;
    readonly host: string;
    readonly port: number;
    readonly user: string;
  };
  readonly database_password: string;
  /** Null where it is the machine that Tessarion itself runs on. */
  readonly ssh: SshRecord | null;
  /** The login's private key, encrypted. */
  readonly ssh_key: string | null;
}

/** How a server is reached, whichever of its folders is meant. */
export type Reach = Omit<ServerReach, 'base'>;

/** @param key the private one, as it is used */
export function reachBy(ssh: SshRecord | null, key: string | null): Reach {
  if (ssh === null) return { kind: 'local' };
  const { jump, ...own } = ssh;
  const at = { ...own, key: key ?? '', jump: jump === null ? undefined : { ...jump, key: key ?? '' } };
  return { kind: 'ssh', at } satisfies Omit<SshReach, 'base'> as Reach;
}

/** The machine from which hosts of databases are called, with a blank behind it; nothing for this one. */
export function machineOf(reach: Reach): string {
  if (reach.kind !== 'ssh') return '';
  const { host, port } = (reach as SshReach).at;
  return `${host}:${port} `;
}

/** A connection to a server, as far as a folder and what lies below it. */
export const connectBelow = (reach: Reach, base: ByteString): ServerConnection => connectServer({ ...reach, base });

/** The servers of an installation. */
export class Servers {
  readonly #folder: DataFolder;

  constructor(folder: DataFolder) {
    this.#folder = folder;
  }

  async list(on: OnRecords): Promise<ServerRecord[]> {
    return on<ServerRecord>('server').orderBy('name');
  }

  /** @throws {ProblemError} `not-found` */
  async get(on: OnRecords, name: string): Promise<ServerRecord> {
    const found = await on<ServerRecord>('server').where({ name }).first();
    if (!found)
      throw new ProblemError('not-found', `There is no server ${name}.`, 'List what there is: tessarion server list');
    return found as ServerRecord;
  }

  async insert(
    on: OnRecords,
    record: Omit<ServerRecord, 'database_password' | 'ssh_key'> & { password: string; key: string | null },
  ): Promise<void> {
    const { password, key, web_host, database, ssh, ...plain } = record;
    const { keys } = this.#folder;
    await on('server').insert({
      ...plain,
      web_host: json(web_host),
      database: json(database),
      database_password: keys.encrypt(password),
      ssh: ssh === null ? null : json(ssh),
      ssh_key: key === null ? null : keys.encrypt(key),
    });
  }

  /** Notes how a server is logged in to from now on. */
  async update(on: OnRecords, name: string, ssh: SshRecord): Promise<void> {
    await on('server')
      .where({ name })
      .update({ ssh: json(ssh) });
  }

  /** How a server is reached. @throws {EngineError} `server-unreachable` where its key was damaged in the records */
  reach({ name, ssh, ssh_key }: Pick<ServerRecord, 'name' | 'ssh' | 'ssh_key'>): Reach {
    try {
      return reachBy(ssh, ssh_key === null ? null : this.#folder.keys.decrypt(ssh_key));
    } catch (error) {
      throw new EngineError(
        'server-unreachable',
        `The key of ${name} was damaged in the records.`,
        'Put the records back from a backup; nothing is done on it until then.',
        { cause: error },
      );
    }
  }

  /** Whether a database lies on a server's own database server; on another one nobody knows its logins. */
  holds(record: ServerRecord, { host, port, by }: DatabaseLogin): boolean {
    const { database } = record;
    return host === database.host && port === database.port && by?.called === this.connect(record).carrier?.called;
  }

  /** A connection to the folder below which a server's sites lie. */
  connect(record: ServerRecord): ServerConnection {
    return connectBelow(this.reach(record), toBytes(record.folder));
  }

  /** A connection in which that folder itself can be listed: it lies in the one above. */
  connectAbove(record: ServerRecord): ServerConnection {
    return connectBelow(this.reach(record), folderOf(toBytes(record.folder)));
  }

  /** The database server's administration, for making and removing databases. */
  admin(record: ServerRecord): Administration {
    const { system, ...login } = record.database;
    const password = this.#folder.keys.decrypt(record.database_password);
    return databaseSystem(system).administration(fromServer(this.connect(record), { ...login, password }));
  }
}
