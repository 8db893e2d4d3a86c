import type { Snapshot } from '@tessarion/contract';
import type { EnvironmentKind } from '@tessarion/core';
import { openObjects, SnapshotLibrary } from '@tessarion/engine';
import { noSnapshot } from '../ground/absent.js';
import type { DataFolder } from '../ground/data-folder.js';
import { iso, json, type OnRecords, type Records } from '../ground/open.js';
import { wakeFirst } from '../ground/queue.js';

/** A snapshot in the records; what it holds lies in its site's store. */
export interface SnapshotRecord {
  readonly id: string;
  readonly site: string;
  readonly environment: string;
  readonly kind: EnvironmentKind;
  readonly taken_at: Date;
  readonly reason: string;
  readonly files: number;
  readonly rows: number;
  readonly bytes: number;
  readonly added_bytes: number;
  readonly verified_at: Date | null;
  readonly damage: { hash: string; holds: string; message: string }[];
}

/** Advisory lock class in the records' database: the store of one site, by the hash of its name. */
const STORE_LOCK = 0x7454;

/** Lets no transfer of a site begin until a transaction ends; one that is just beginning is waited for. */
const holdStore = (trx: OnRecords, site: string): Promise<unknown> =>
  trx.raw('SELECT pg_advisory_xact_lock(?, hashtext(?))', [STORE_LOCK, site]);

/**
 * Does something to a site's store while nobody else works with it: as long as it goes on no transfer of the site begins.
 *
 * @returns undefined where somebody does work with it, and nothing was done
 */
export async function whileStoreRests<T>(
  records: Records,
  site: string,
  run: (lock: OnRecords) => Promise<T>,
): Promise<T | undefined> {
  const done = await records.transaction(async (lock) => {
    await holdStore(lock, site);
    const inUse = await lock('transfer').where({ site }).whereIn('state', ['running', 'stopping']).first('id');
    return inUse || (await spoolsToPack(lock, site)).length > 0 ? undefined : { result: await run(lock) };
  });
  // Whoever came meanwhile was sent away.
  await wakeFirst(records, (q) => q.where({ site }));
  return done?.result;
}

/** Whether nobody frees blobs of a site's store; until the transaction ends nobody begins to. */
export async function mayUseStore(trx: OnRecords, site: string): Promise<boolean> {
  const { rows } = await trx.raw<{ rows: { may: boolean }[] }>(
    'SELECT pg_try_advisory_xact_lock_shared(?, hashtext(?)) AS may',
    [STORE_LOCK, site],
  );
  return rows[0]?.may === true;
}

/** The snapshots and baselines of a site. */
export const libraryOf = (folder: DataFolder, site: string): SnapshotLibrary =>
  new SnapshotLibrary(openObjects({ kind: 'folder', at: folder.store(site) }), folder.keys.derive(`store ${site}`));

/** @throws {ProblemError} `not-found` */
export async function getSnapshot(on: OnRecords, id: string): Promise<SnapshotRecord> {
  const found = await on<SnapshotRecord>('snapshot').where({ id }).first();
  if (!found) throw noSnapshot(id);
  return found as SnapshotRecord;
}

/** The snapshots of an environment, newest first. */
export async function snapshotsOf(on: OnRecords, environment: string, limit: number): Promise<SnapshotRecord[]> {
  return (await on<SnapshotRecord>('snapshot')
    .where({ environment })
    .orderBy('taken_at', 'desc')
    .limit(limit)) as SnapshotRecord[];
}

/** Puts a snapshot on record. */
export async function insertSnapshot(on: OnRecords, record: SnapshotRecord): Promise<void> {
  await on('snapshot').insert({ ...record, damage: json(record.damage) });
}

/** Records what reading all of a snapshot again has shown. */
export async function noteVerified(
  on: OnRecords,
  id: string,
  at: Date,
  damage: SnapshotRecord['damage'],
): Promise<void> {
  await on('snapshot')
    .where({ id })
    .update({ verified_at: at, damage: json(damage.slice(0, MOST_DAMAGE)) });
}

/** How much damage of one snapshot is named. */
const MOST_DAMAGE = 100;

/** Takes a snapshot off the records; what it holds is freed by its library. */
export const removeSnapshot = (on: OnRecords, id: string): Promise<number> => on('snapshot').where({ id }).delete();

/** Takes all snapshots of a site off the records. */
export const removeSnapshotsOf = (on: OnRecords, site: string): Promise<number> =>
  on('snapshot').where({ site }).delete();

/** A snapshot as the interface shows it. */
export const toSnapshot = (record: SnapshotRecord): Snapshot => ({
  id: record.id,
  environment: record.environment,
  site: record.site,
  kind: record.kind,
  takenAt: record.taken_at.toISOString(),
  reason: record.reason,
  files: record.files,
  rows: record.rows,
  bytes: record.bytes,
  addedBytes: record.added_bytes,
  verifiedAt: iso(record.verified_at),
  damage: record.damage,
});

/** What was taken down while a copy was made, and waits to be packed. */
export interface SpoolRecord {
  /** The transfer that made the copy; names the spool's folder. */
  readonly id: string;
  readonly site: string;
  readonly source: string;
  readonly sourceKind: EnvironmentKind;
  readonly copy: string;
  readonly copyKind: EnvironmentKind;
  readonly takenAt: string;
  /** The copy holds all that its source had then; absent where it was made of a snapshot. */
  readonly begunAt?: string | undefined;
  readonly profile: { readonly name: string; readonly version: number } | null;
}

/** What two environments of a site had in common when they last met. */
export interface BaselineRecord {
  /** The environment further from live, and the one nearer to it. */
  readonly lower: string;
  readonly upper: string;
  /** Null until the spool is packed. */
  readonly lower_manifest: string | null;
  readonly upper_manifest: string | null;
  readonly spool: SpoolRecord | null;
  readonly left_out: { tables: string[]; areas: string[]; paths: string[] };
  readonly created_at: Date;
  /** Taken over from the environment that one of the two is a copy of; its masked values are not this one's. */
  readonly derived: boolean;
}

/** A baseline that lies in its site's store. */
export type PackedBaseline = BaselineRecord & { readonly lower_manifest: string; readonly upper_manifest: string };
/** A baseline that still lies as a copy took it down. */
export type BaselineToPack = BaselineRecord & { readonly spool: SpoolRecord };

/** Remembers what a pair had in common; there is one baseline a pair. */
export async function saveBaseline(on: OnRecords, record: BaselineRecord): Promise<void> {
  await on('baseline')
    .insert({ ...record, left_out: json(record.left_out), spool: record.spool && json(record.spool) })
    .onConflict(['lower', 'upper'])
    .merge();
}

/** The baseline of two environments, the one further from live first. */
export async function findBaseline(on: OnRecords, lower: string, upper: string): Promise<BaselineRecord | undefined> {
  return on<BaselineRecord>('baseline').where({ lower, upper }).first() as Promise<BaselineRecord | undefined>;
}

/** The baselines of an environment with all others. */
export async function baselinesOf(on: OnRecords, path: string): Promise<BaselineRecord[]> {
  return on<BaselineRecord>('baseline').where({ lower: path }).orWhere({ upper: path }) as Promise<BaselineRecord[]>;
}

const bySpool = (on: OnRecords, id: string) => on('baseline').whereRaw("spool ->> 'id' = ?", [id]);

/** @returns undefined when the spool was packed, or nobody asks for it any more */
export async function baselineToPack(on: OnRecords, id: string): Promise<BaselineToPack | undefined> {
  return bySpool(on, id).first() as Promise<BaselineToPack | undefined>;
}

/** Where baselines that are not packed lie, of one site or of all. */
export async function spoolsToPack(on: OnRecords, site?: string): Promise<SpoolRecord[]> {
  const rows = on('baseline').whereNotNull('spool').select<{ spool: SpoolRecord }[]>('spool');
  if (site !== undefined) rows.whereRaw("spool ->> 'site' = ?", [site]);
  return (await rows).map((row) => row.spool);
}

/** @returns false when another worker was first, or the baseline has been replaced */
export async function setPacked(
  on: OnRecords,
  id: string,
  manifests: Pick<PackedBaseline, 'lower_manifest' | 'upper_manifest'>,
): Promise<boolean> {
  return (await bySpool(on, id).update({ ...manifests, spool: null })) === 1;
}

/** Forgets the baseline whose spool has an id. */
export async function dropBaseline(on: OnRecords, id: string): Promise<void> {
  await bySpool(on, id).delete();
}

/** The baseline of two environments, whichever of them is the further one. */
export const findPair = async (on: OnRecords, a: string, b: string): Promise<BaselineRecord | undefined> =>
  (await findBaseline(on, a, b)) ?? findBaseline(on, b, a);
