import type { Snapshot } from '@tessarion/contract';
import type { EnvironmentKind } from '@tessarion/core';
import { SnapshotLibrary } from '@tessarion/engine';
import type { DataFolder } from '../data-folder.js';
import { ProblemError } from '../problems.js';
import { json, type OnRecords } from './open.js';
import { iso } from './transfers.js';

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

/** The snapshots and baselines of a site. */
export const libraryOf = (folder: DataFolder, site: string): SnapshotLibrary =>
  new SnapshotLibrary(folder.store(site), folder.keys.derive(`store ${site}`));

/** @throws {ProblemError} `not-found` */
export async function getSnapshot(on: OnRecords, id: string): Promise<SnapshotRecord> {
  const found = await on<SnapshotRecord>('snapshot').where({ id }).first();
  if (!found)
    throw new ProblemError('not-found', `There is no snapshot ${id}.`, 'List what there is: tessarion snapshot list');
  return found as SnapshotRecord;
}

export async function insertSnapshot(on: OnRecords, record: SnapshotRecord): Promise<void> {
  await on('snapshot').insert({ ...record, damage: json(record.damage) });
}

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

export interface BaselineRecord {
  /** The environment further from live, and the one nearer to it. */
  readonly lower: string;
  readonly upper: string;
  readonly lower_manifest: string;
  readonly upper_manifest: string;
  readonly left_out: { tables: string[]; areas: string[]; paths: string[] };
  readonly created_at: Date;
}

/** Remembers what a pair had in common; there is one baseline a pair. */
export async function saveBaseline(on: OnRecords, record: BaselineRecord): Promise<void> {
  await on('baseline')
    .insert({ ...record, left_out: json(record.left_out) })
    .onConflict(['lower', 'upper'])
    .merge();
}

export async function findBaseline(on: OnRecords, lower: string, upper: string): Promise<BaselineRecord | undefined> {
  return on<BaselineRecord>('baseline').where({ lower, upper }).first() as Promise<BaselineRecord | undefined>;
}
