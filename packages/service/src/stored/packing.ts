import { existsSync } from 'node:fs';
import * as fs from 'node:fs/promises';
import type { SnapshotManifest } from '@tessarion/core';
import { EngineError, HashMemory, PackedHashes, packSpools, spoolPaths, syncSpool } from '@tessarion/engine';
import { type EnvironmentRecord, type Environments, toEngine } from '../fleet/environments.js';
import { profileOfSite } from '../fleet/profiles.js';
import { newId } from '../ground/data-folder.js';
import type { Ground } from '../ground/ground.js';
import { deriveSiblings } from './sibling-baselines.js';
import {
  type BaselineToPack,
  baselinesOf,
  baselineToPack,
  dropBaseline,
  findBaseline,
  libraryOf,
  type PackedBaseline,
  type SpoolRecord,
  setPacked,
} from './snapshots.js';

const packing = new Map<string, Promise<string | undefined>>();

/**
 * Packs the baseline that was taken down while a copy was made: hashes, compresses and stores it, after the copy
 * answers. May be run again at any moment, and by several workers at once; the first one to end counts.
 *
 * @returns the copy's path where it was packed; undefined where others did, or nothing is left to pack
 */
export function packBaseline(
  installation: Ground & { readonly environments: Environments },
  id: string,
): Promise<string | undefined> {
  const running = packing.get(id) ?? pack(installation, id).finally(() => packing.delete(id));
  packing.set(id, running);
  return running;
}

/**
 * The baseline of a pair, packed first where that is still to be done; what two copies have in common is known once that
 * of each is.
 */
export async function packedBaseline(
  installation: Ground & { readonly environments: Environments },
  lower: string,
  upper: string,
): Promise<PackedBaseline | undefined> {
  const { records } = installation;
  const found = await findBaseline(records, lower, upper);
  if (found && !found.spool) return found as PackedBaseline;
  const ends = found ? [found] : [...(await baselinesOf(records, lower)), ...(await baselinesOf(records, upper))];
  for (const { spool } of ends)
    if (spool && [lower, upper].includes(spool.copy)) await packBaseline(installation, spool.id);
  const packed = await findBaseline(records, lower, upper);
  return packed?.spool === null ? (packed as PackedBaseline) : undefined;
}

async function pack(
  installation: Ground & { readonly environments: Environments },
  id: string,
): Promise<string | undefined> {
  const { records, folder, environments, log } = installation;
  const baseline = await baselineToPack(records, id);
  const copy = baseline && (await environments.find(records, baseline.spool.copy));
  if (!copy) return undefined;
  const { spool } = baseline;
  const library = libraryOf(folder, spool.site);
  const spoolFolder = folder.spool(spool.site, id);
  const paths = Object.values(spoolPaths(spoolFolder));
  try {
    for (const path of paths) syncSpool(path);
    const { signal } = new AbortController();
    const work = { signal, count: () => undefined };
    const hashes = await packedHashes(installation, spool, copy);
    const { server } = hashes.copy;
    const { lost, ...images } = await library.store.write((writer) =>
      packSpools(paths, library.key, server, writer, work, (file) => hashes.note(file)),
    );
    hashes.save();
    if (lost.length > 0) log.warn({ baseline: id, files: lost.length }, 'files changed on both sides before packing');
    const saved: Record<string, string> = {};
    for (const [side, path] of [
      ['source', spool.source],
      ['copy', spool.copy],
    ] as const) {
      const manifest: SnapshotManifest = { ...describe(baseline, path), ...images[side] };
      await library.save(manifest);
      saved[path] = manifest.id;
    }
    const isFirst = await setPacked(records, id, {
      lower_manifest: saved[baseline.lower] as string,
      upper_manifest: saved[baseline.upper] as string,
    });
    if (isFirst)
      await deriveSiblings(installation, spool, (pair) => packedBaseline(installation, pair.lower, pair.upper));
    else for (const manifest of Object.values(saved)) await library.discard(manifest);
    await fs.rm(spoolFolder, { recursive: true, force: true });
    log.info({ baseline: id }, 'baseline packed');
    return isFirst ? copy.path : undefined;
  } catch (error) {
    // Another worker was first, and took the spool away.
    if (!(await baselineToPack(records, id))) return undefined;
    const isDamaged = error instanceof EngineError && ['blob-damaged', 'blob-missing'].includes(error.code);
    if (!isDamaged && paths.every((path) => existsSync(path))) throw error;
    // Without it the two are compared as they are, and a forecast says so.
    await dropBaseline(records, id);
    await fs.rm(spoolFolder, { recursive: true, force: true });
    log.error({ baseline: id, err: error }, 'a baseline is lost: its spool cannot be read');
    return undefined;
  }
}

/** What packing lets be known of the files of both ends. */
async function packedHashes(
  { records, folder }: Ground,
  spool: SpoolRecord,
  copy: EnvironmentRecord,
): Promise<PackedHashes> {
  const version = await profileOfSite(records, spool.site);
  const memories = {
    copy: await HashMemory.open(folder.memory(spool.copy)),
    source: await HashMemory.open(folder.memory(spool.source)),
  };
  const begunAt = spool.begunAt === undefined ? undefined : new Date(spool.begunAt);
  return new PackedHashes(toEngine(copy, version?.profile), memories, version?.edition ?? '', begunAt);
}

function describe({ spool }: BaselineToPack, path: string): Omit<SnapshotManifest, 'databases' | 'roots'> {
  return {
    format: 'tessarion-snapshot/1',
    id: newId('b'),
    site: spool.site,
    environment: path.slice(spool.site.length + 1),
    kind: path === spool.source ? spool.sourceKind : spool.copyKind,
    takenAt: spool.takenAt,
    profile: spool.profile,
  };
}
