import { type Address, type EnvironmentKind, type Profile, type RootPath, toBytes } from '@tessarion/core';
import {
  databaseSystem,
  EngineError,
  type Environment,
  folderOf,
  fromServer,
  type ServerConnection,
  type SiteDatabase,
} from '@tessarion/engine';
import { noEnvironment } from '../ground/absent.js';
import { type DataFolder, newSecret } from '../ground/data-folder.js';
import { json, type OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { connectBelow, type Reach, reachBy, type SshRecord } from './servers.js';

/** A database of an environment, and how it is reached. */
export interface DatabaseRecord {
  readonly name: string;
  /** Its kind; PostgreSQL where it does not say. */
  readonly system?: string | undefined;
  readonly host: string;
  readonly port: number;
  readonly database: string;
  readonly user: string;
  readonly password: string;
}

/** The name and password that an environment's gate asks for. */
export interface GateRecord {
  readonly user: string;
  readonly password: string;
}

/** An environment in the records. */
export interface EnvironmentRecord {
  readonly path: string;
  readonly site: string;
  readonly name: string;
  readonly kind: EnvironmentKind;
  /** `making` until it answers; `removing` from the first step of its removal. */
  readonly status: 'making' | 'ready' | 'removing';
  readonly server: string;
  /** How that server is reached; its own record says so. */
  readonly reach: Reach;
  readonly folder: string;
  readonly addresses: readonly Address[];
  readonly roots: readonly RootPath[];
  readonly databases: readonly DatabaseRecord[];
  readonly settings: Readonly<Record<string, string>>;
  readonly gate: GateRecord | null;
  readonly made_from: string | null;
  /** The environment of another site that what it holds came from, however many copies ago. */
  readonly foreign_origin: string | null;
  readonly made_at: Date;
  readonly refreshed_at: Date | null;
  readonly size: { files: number; fileBytes: number; rows: number; databaseBytes: number } | null;
  /** `first`: some of what waits to go up; former versions did not note it. */
  readonly drift: {
    readonly up: number;
    readonly down: number;
    readonly at: string;
    readonly first?: {
      readonly kind: string;
      readonly title: string;
      readonly change: 'new' | 'changed' | 'deleted';
    }[];
  } | null;
  readonly epoch: number;
  /** Set while its folder or a database of it does not answer. */
  readonly unreached: { problem: string; since: string } | null;
  /** When a round last measured and compared it. */
  readonly looked_at: Date | null;
  readonly description: string | null;
  readonly schedule: PullSchedule | null;
  /** The change request that it shows: nobody works in it, and it goes when the request ends. */
  readonly preview: { readonly request: string; readonly revision: number } | null;
  /** Its logins, settings or gate were damaged in the records. */
  readonly isUnreadable?: boolean;
}

const UNREADABLE = 'What the records hold of its logins, settings or gate was damaged.';

/** What is not known yet of an environment that is about to be made or brought in. */
export const UNKNOWN_YET = {
  status: 'making',
  refreshed_at: null,
  size: null,
  drift: null,
  epoch: 0,
  unreached: null,
  looked_at: null,
  description: null,
  schedule: null,
  preview: null,
  foreign_origin: null,
} as const satisfies Partial<EnvironmentRecord>;

/** When news comes into a copy by itself. */
export interface PullSchedule {
  readonly from: string;
  /** `HH:MM` in the site's time zone. */
  readonly at: string;
  /** 1 is Monday; every day when empty. */
  readonly days: readonly number[];
  /** Who set it; unknown of those that were set before that was noted. */
  readonly by?: string;
  /** What was due up to here was done, or came before the schedule. */
  readonly since: string;
  readonly last: ScheduledPull | null;
}

/** What came of the last time that a schedule was due. */
export interface ScheduledPull {
  readonly at: string;
  readonly outcome: 'begun' | 'nothing' | 'stopped';
  readonly text: string;
  readonly forecast: string | null;
  readonly transfer: string | null;
}

type Row = Omit<EnvironmentRecord, 'databases' | 'settings' | 'gate' | 'reach'> & {
  databases: string;
  settings: string;
  gate: string | null;
  ssh: SshRecord | null;
  ssh_key: string | null;
};

/** An environment that is about to be on record. */
export type NewEnvironmentRecord = Omit<EnvironmentRecord, 'reach'>;

/** The environments on record; their logins and settings are encrypted there. */
export class Environments {
  readonly #folder: DataFolder;

  constructor(folder: DataFolder) {
    this.#folder = folder;
  }

  /** One that was damaged stands in nobody else's way: it is shown, its gate stays shut, and nothing is done to it. */
  #read({ ssh, ssh_key, ...row }: Row): EnvironmentRecord {
    const [databases, settings, gate] = [row.databases, row.settings, row.gate].map((sealed) => this.#open(sealed));
    const nobodys: GateRecord = { user: newSecret('gate'), password: newSecret('gate') };
    const key = this.#decrypted(ssh_key);
    const isUnreadable = [databases, settings, gate, key].includes(undefined);
    return {
      ...row,
      reach: reachBy(ssh, key ?? null),
      databases: (databases as readonly DatabaseRecord[] | undefined) ?? [],
      settings: (settings as EnvironmentRecord['settings'] | undefined) ?? {},
      gate: gate === undefined ? nobodys : (gate as GateRecord | null),
      ...(isUnreadable ? { isUnreadable, unreached: { problem: UNREADABLE, since: row.made_at.toISOString() } } : {}),
    };
  }

  /** @returns undefined where it was damaged */
  #open(sealed: string | null): unknown {
    const text = this.#decrypted(sealed);
    try {
      return text == null ? text : JSON.parse(text);
    } catch {
      return undefined;
    }
  }

  #decrypted(sealed: string | null): string | null | undefined {
    if (sealed === null) return null;
    try {
      return this.#folder.keys.decrypt(sealed);
    } catch {
      return undefined;
    }
  }

  async find(on: OnRecords, path: string): Promise<EnvironmentRecord | undefined> {
    const row = await rowsOf(on).where({ path }).first();
    return row ? this.#read(row as Row) : undefined;
  }

  /** @throws {ProblemError} `not-found` */
  async get(on: OnRecords, path: string): Promise<EnvironmentRecord> {
    const found = await this.find(on, path);
    if (!found) throw noEnvironment(path);
    return found;
  }

  /** An environment that nobody else changes until the transaction ends. @throws {ProblemError} `not-found` */
  async hold(trx: OnRecords, path: string): Promise<EnvironmentRecord> {
    await trx('environment').where({ path }).forNoKeyUpdate().first('path');
    return this.get(trx, path);
  }

  async list(on: OnRecords, site?: string): Promise<EnvironmentRecord[]> {
    const query = rowsOf(on).orderBy('path');
    const rows = (await (site === undefined ? query : query.where({ site }))) as Row[];
    return rows.map((row) => this.#read(row));
  }

  async insert(on: OnRecords, record: NewEnvironmentRecord): Promise<void> {
    await on('environment').insert(this.#write(record));
  }

  async update(on: OnRecords, path: string, changes: Partial<EnvironmentRecord>): Promise<void> {
    await on('environment').where({ path }).update(this.#write(changes));
    await noteMeasure(on, path, changes);
  }

  async remove(on: OnRecords, path: string): Promise<void> {
    await on('environment').where({ path }).delete();
  }

  #write(record: Partial<EnvironmentRecord>): Record<string, unknown> {
    const { keys } = this.#folder;
    const {
      isUnreadable: _none,
      reach: _servers,
      databases,
      settings,
      gate,
      addresses,
      roots,
      size,
      drift,
      unreached,
      schedule,
      preview,
      ...plain
    } = record;
    return {
      ...plain,
      ...(databases === undefined ? {} : { databases: keys.encrypt(json(databases)) }),
      ...(settings === undefined ? {} : { settings: keys.encrypt(json(settings)) }),
      ...(gate === undefined ? {} : { gate: gate === null ? null : keys.encrypt(json(gate)) }),
      ...(addresses === undefined ? {} : { addresses: json(addresses) }),
      ...(roots === undefined ? {} : { roots: json(roots) }),
      ...(size === undefined ? {} : { size: size === null ? null : json(size) }),
      ...(unreached === undefined ? {} : { unreached: unreached === null ? null : json(unreached) }),
      ...(schedule === undefined ? {} : { schedule: schedule === null ? null : json(schedule) }),
      ...(preview === undefined ? {} : { preview: preview === null ? null : json(preview) }),
      ...(drift === undefined ? {} : { drift: drift === null ? null : json(drift) }),
    };
  }
}

/** Environments, each with what the record of its server says of how that is reached. */
const rowsOf = (on: OnRecords) =>
  on('environment')
    .join('server', 'server.name', 'environment.server')
    .select('environment.*', 'server.ssh', 'server.ssh_key');

/** Keeps what was measured of an environment today, so that one sees how it went. */
async function noteMeasure(on: OnRecords, path: string, { drift, size }: Partial<EnvironmentRecord>): Promise<void> {
  if (!drift && !size) return;
  await on.raw(
    `INSERT INTO measure (environment, day, up, down, bytes)
     SELECT path, (now() AT TIME ZONE 'UTC')::date, ?::int, ?::int, ?::bigint FROM environment WHERE path = ?
     ON CONFLICT (environment, day) DO UPDATE SET up = coalesce(excluded.up, measure.up),
       down = coalesce(excluded.down, measure.down), bytes = coalesce(excluded.bytes, measure.bytes)`,
    [drift?.up ?? null, drift?.down ?? null, size ? size.fileBytes + size.databaseBytes : null, path],
  );
}

/** Nobody works in a preview. @throws {ProblemError} `lane-closed` */
export function refusePreview({ path, preview }: EnvironmentRecord): void {
  if (preview)
    throw new ProblemError(
      'lane-closed',
      `${path} is the preview of change request ${preview.request}, and is only looked at.`,
      `Make it anew, or remove it: tessarion request preview ${preview.request}`,
    );
}

/** That the record of an environment was damaged. */
export const unreadable = ({ path }: EnvironmentRecord): EngineError =>
  new EngineError(
    'server-unreachable',
    `${path}: ${UNREADABLE}`,
    'Put the records back from a backup; nothing is done to it until then.',
  );

/** A database as the engine takes it. */
export const siteDatabase = (
  { name, system, ...login }: DatabaseRecord,
  server: Pick<ServerConnection, 'carrier'>,
): SiteDatabase => ({
  name,
  login: fromServer(server, login),
  system: databaseSystem(system),
});

/** An environment as the engine takes it. */
export function toEngine(record: EnvironmentRecord, profile: Profile | undefined): Environment {
  if (record.isUnreadable) throw unreadable(record);
  const folder = toBytes(record.folder);
  const server = connectBelow(record.reach, folderOf(folder));
  return {
    path: record.path,
    site: record.site,
    name: record.name,
    kind: record.kind,
    server,
    folder,
    place: {
      addresses: record.addresses,
      roots: record.roots.map((root) => ({ ...root, path: toBytes(root.path) })),
    },
    databases: record.databases.map((database) => siteDatabase(database, server)),
    profile,
    settings: new Map(Object.entries(record.settings)),
  };
}
