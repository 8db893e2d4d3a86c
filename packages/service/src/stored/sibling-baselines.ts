import type { SnapshotManifest } from '@tessarion/core';
import { lowerOf } from '@tessarion/core';
import type { SnapshotLibrary } from '@tessarion/engine';
import type { EnvironmentRecord, Environments } from '../fleet/environments.js';
import { newId } from '../ground/data-folder.js';
import type { Ground } from '../ground/ground.js';
import {
  type BaselineRecord,
  baselinesOf,
  findPair,
  libraryOf,
  type PackedBaseline,
  type SpoolRecord,
  saveBaseline,
} from './snapshots.js';

/**
 * What two copies of one environment have in common. Called when a copy's baseline is packed.
 *
 * Of copies of one kind, between which nothing moves, each has what it had of their source: the two are compared by how
 * each came off it. Of copies of two kinds, which take work from one another, both have what the earlier one had of the
 * source when the later one was made: the later one has all that the source ever was.
 *
 * @param packed packs a baseline where that is still to be done
 */
export async function deriveSiblings(
  installation: Ground & { readonly environments: Environments },
  { copy, source, begunAt }: SpoolRecord,
  packed: (pair: BaselineRecord) => Promise<PackedBaseline | undefined>,
): Promise<void> {
  const { records, environments } = installation;
  const own = await findPair(records, copy, source);
  const ownRecord = await environments.find(records, copy);
  if (!own || own.spool || !ownRecord) return;
  const library = libraryOf(installation.folder, ownRecord.site);
  for (const pair of await baselinesOf(records, source)) {
    const other = pair.lower === source ? pair.upper : pair.lower;
    const sibling = await environments.find(records, other);
    if (!sibling || other === copy || sibling.kind === 'live') continue;
    const known = await findPair(records, copy, other);
    // One of the two is a copy of the other: they have more in common than their source.
    if (known && !known.derived) continue;
    const lower = lowerOf(ownRecord, sibling);
    const ends = { isOwnLower: lower === copy, ownRecord, sibling };
    const isOneKind = sibling.kind === ownRecord.kind;
    if (isOneKind ? pair.spool : begunAt === undefined || pair.created_at > new Date(begunAt)) continue;
    const there = await packed(pair);
    if (!there) continue;
    const images = isOneKind
      ? await eachItsOwn(library, own as PackedBaseline, there, ends)
      : await theEarlier(library, there, ends);
    if (!images) continue;
    await library.save(images.lower);
    await library.save(images.upper);
    await saveBaseline(records, {
      lower,
      upper: lower === copy ? other : copy,
      lower_manifest: images.lower.id,
      upper_manifest: images.upper.id,
      spool: null,
      left_out: {
        tables: [...new Set([...own.left_out.tables, ...pair.left_out.tables])],
        areas: [...new Set([...own.left_out.areas, ...pair.left_out.areas])],
        paths: [...new Set([...own.left_out.paths, ...pair.left_out.paths])],
      },
      created_at: isOneKind ? installation.now() : pair.created_at,
      derived: true,
    });
  }
}

interface Ends {
  readonly isOwnLower: boolean;
  /** The copy whose baseline is packed, and the other one. */
  readonly ownRecord: EnvironmentRecord;
  readonly sibling: EnvironmentRecord;
}

interface Images {
  readonly lower: SnapshotManifest;
  readonly upper: SnapshotManifest;
}

/** What each of the two had of their source, and how they number what it gives one number. */
async function eachItsOwn(
  library: SnapshotLibrary,
  own: PackedBaseline,
  pair: PackedBaseline,
  { isOwnLower, ownRecord, sibling }: Ends,
): Promise<Images> {
  const sides = [await sideOf(library, own, ownRecord.path), await sideOf(library, pair, sibling.path)] as const;
  const [low, high] = isOwnLower ? sides : ([sides[1], sides[0]] as const);
  const byUpper = new Map(high.keys.map((one) => [`${one.table} ${one.upper}`, one.own]));
  const byLower = new Map(low.keys.map((one) => [`${one.table} ${one.upper}`, one]));
  // Both are known by the number that their source gives a row; where it gave one of them no other, it is the same.
  const pairs = [...new Set([...byUpper.keys(), ...byLower.keys()])].flatMap((at) => {
    const table = at.slice(0, at.lastIndexOf(' '));
    const number = at.slice(at.lastIndexOf(' ') + 1);
    const [down, up] = [byLower.get(at)?.own ?? number, byUpper.get(at) ?? number];
    return down === up ? [] : [{ table, lower: down, upper: up }];
  });
  return {
    lower: { ...low.manifest, id: newId('b'), pairs },
    upper: { ...high.manifest, id: newId('b'), pairs: undefined },
  };
}

/**
 * What the earlier of the two had of their source, for both. Undefined where it numbers rows otherwise than the source
 * does, and so than the later one: its rows would be taken for others there.
 */
async function theEarlier(
  library: SnapshotLibrary,
  pair: PackedBaseline,
  { isOwnLower, ownRecord, sibling }: Ends,
): Promise<Images | undefined> {
  const { manifest, keys } = await sideOf(library, pair, sibling.path);
  if (keys.length > 0) return undefined;
  const imageOf = ({ name, kind }: EnvironmentRecord): SnapshotManifest => ({
    ...manifest,
    id: newId('b'),
    environment: name,
    kind,
    pairs: undefined,
  });
  const [own, other] = [imageOf(ownRecord), imageOf(sibling)];
  return isOwnLower ? { lower: own, upper: other } : { lower: other, upper: own };
}

interface SiblingSide {
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
    manifest,
    keys: (pairs ?? []).map(({ table, lower, upper }) =>
      isLower ? { table, own: lower, upper } : { table, own: upper, upper: lower },
    ),
  };
}
