import { toBytes } from '@tessarion/core';
import { type Administration, databaseSystem, type ServerReach } from '@tessarion/engine';
import type { DataFolder } from '../ground/data-folder.js';
import { json, type OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';

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
    readonly system?: string;
    readonly host: string;
    readonly port: number;
    readonly user: string;
  };
  readonly database_password: string;
}

/** How a server is reached. */
export const reachOf = ({ folder }: Pick<ServerRecord, 'folder'>): ServerReach => ({
  kind: 'local',
  base: toBytes(folder),
});

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

  async insert(on: OnRecords, record: Omit<ServerRecord, 'database_password'> & { password: string }): Promise<void> {
    const { password, web_host, database, ...plain } = record;
    await on('server').insert({
      ...plain,
      web_host: json(web_host),
      database: json(database),
      database_password: this.#folder.keys.encrypt(password),
    });
  }

  /** The database server's administration, for making and removing databases. */
  admin({ database: { system, ...login }, database_password }: ServerRecord): Administration {
    return databaseSystem(system).administration({
      ...login,
      password: this.#folder.keys.decrypt(database_password),
    });
  }
}
