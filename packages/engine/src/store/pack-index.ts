import type { ObjectStore } from '../ports/objects.js';
import { indexName, PACKS, packsIn, readIndex, type Spot } from './pack-format.js';

/** The packs of a store as this process knows them: all who open it share it, and only look which packs there are. */
interface OpenIndex {
  readonly key: Buffer;
  /** Names of the packs whose blobs are in it; a pack never changes. */
  readonly packs: Set<string>;
  readonly spots: Map<string, Spot>;
}

/** By the store's place, the one that was opened last at the end. */
const openIndexes = new Map<string, OpenIndex>();
/** Blobs whose places stay in memory so, of all stores together. */
const MOST_OPEN_SPOTS = 300_000;

/** Tells a store of objects from all others, in this process. */
export const placeOf = ({ place: { kind, at } }: ObjectStore): string => `${kind} ${at}`;

/** The places of all blobs that a store holds now. */
export async function openIndex(objects: ObjectStore, key: Buffer): Promise<Map<string, Spot>> {
  const names = packsIn(await objects.list(PACKS));
  const there = new Set(names);
  const place = placeOf(objects);
  const open = openIndexes.get(place);
  // Packs are only removed where their blobs have been written anew, or are named by nobody.
  const isWhole = open?.key.equals(key) === true && [...open.packs].every((pack) => there.has(pack));
  const index = isWhole ? open : { key, packs: new Set<string>(), spots: new Map<string, Spot>() };
  for (const pack of names) {
    if (index.packs.has(pack)) continue;
    // One that is gone since somebody wrote its pack anew, or damaged: its blobs are missed by name when they are
    // wanted, and stored anew by whoever has their content; the others go on.
    const stored = await objects.get(indexName(pack));
    const spots = stored && readIndex(pack, key, stored);
    if (!spots) continue;
    for (const [hash, spot] of spots) index.spots.set(hash, spot);
    index.packs.add(pack);
  }
  openIndexes.delete(place);
  openIndexes.set(place, index);
  let spots = 0;
  for (const [other, one] of [...openIndexes].reverse()) {
    spots += one.spots.size;
    if (spots > MOST_OPEN_SPOTS && one !== index) openIndexes.delete(other);
  }
  return index.spots;
}
