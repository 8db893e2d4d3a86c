import type { SnapshotManifest } from '@tessarion/core';
import type { SnapshotLibrary } from '@tessarion/engine';
import { newId } from '../data-folder.js';
import { baselinesOf, findPair, libraryOf, type PackedBaseline, saveBaseline } from '../records/snapshots.js';
import type { Installation } from './context.js';
import { lowerOf } from './pair.js';

/**
 * What two copies of one environment have in common: each what it had of that environment. Called when a copy's baseline
 * is packed; what the two are compared with is then how each came off its source.
 */
export async function deriveSiblings(installation: Installation, copy: string, source: string): Promise<void> {
  const { records, environments } = installation;
  const own = await findPair(records, copy, source);
  const ownRecord = await environments.find(records, copy);
  if (!own || own.spool || !ownRecord) return;
  const library = libraryOf(installation.folder, ownRecord.site);
  for (const pair of await baselinesOf(records, source)) {
    const other = pair.lower === source ? pair.upper : pair.lower;
    const sibling = await environments.find(records, other);
    if (!sibling || other === copy || sibling.kind === 'live' || sibling.kind !== ownRecord.kind || pair.spool)
      continue;
    const known = await findPair(records, copy, other);
    // One of the two is a copy of the other: they have more in common than their source.
    if (known && !known.derived) continue;
    const sides = {
      own: await sideOf(library, own as PackedBaseline, copy),
      other: await sideOf(library, pair as PackedBaseline, other),
    };
    const lower = lowerOf(ownRecord, sibling);
    const [low, high] = lower === copy ? [sides.own, sides.other] : [sides.other, sides.own];
    const byUpper = new Map(high.keys.map((one) => [`${one.table} ${one.upper}`, one.own]));
    const byLower = new Map(low.keys.map((one) => [`${one.table} ${one.upper}`, one]));
    // Both are known by the number that their source gives a row; where it gave one of them no other, it is the same.
    const pairs = [...new Set([...byUpper.keys(), ...byLower.keys()])].flatMap((at) => {
      const table = at.slice(0, at.lastIndexOf(' '));
      const number = at.slice(at.lastIndexOf(' ') + 1);
      const [down, up] = [byLower.get(at)?.own ?? number, byUpper.get(at) ?? number];
      return down === up ? [] : [{ table, lower: down, upper: up }];
    });
    await library.save({ ...low.manifest, id: low.id, pairs });
    await library.save({ ...high.manifest, id: high.id, pairs: undefined });
    await saveBaseline(records, {
      lower,
      upper: lower === copy ? other : copy,
      lower_manifest: low.id,
      upper_manifest: high.id,
      spool: null,
      left_out: {
        tables: [...new Set([...own.left_out.tables, ...pair.left_out.tables])],
        areas: [...new Set([...own.left_out.areas, ...pair.left_out.areas])],
        paths: [...new Set([...own.left_out.paths, ...pair.left_out.paths])],
      },
      created_at: installation.now(),
      derived: true,
    });
  }
}

interface SiblingSide {
  readonly id: string;
  readonly manifest: SnapshotManifest;
  /** Numbers of rows: by the copy itself, and by its source. */
  readonly keys: readonly { readonly table: string; readonly own: string; readonly upper: string }[];
}

/** What a copy had of its source, and how the two number rows. */
async function sideOf(library: SnapshotLibrary, pair: PackedBaseline, copy: string): Promise<SiblingSide> {
  const isLower = pair.lower === copy;
  const manifest = await library.load(isLower ? pair.lower_manifest : pair.upper_manifest);
  const { pairs } = await library.load(pair.lower_manifest);
  return {
    id: newId('b'),
    manifest,
    keys: (pairs ?? []).map(({ table, lower, upper }) =>
      isLower ? { table, own: lower, upper } : { table, own: upper, upper: lower },
    ),
  };
}
