import { type ByteString, type FileState, type RootManifest, type TreeEntry, toText } from '@tessarion/core';
import type { PackStore } from './pack-store.js';

/** Walks a stored root: folders before what is in them, in order. */
export async function* walkTree(
  store: PackStore,
  root: Pick<RootManifest, 'tree'>,
): AsyncGenerator<{ path: ByteString; entry: TreeEntry }> {
  yield* walkFolder(store, root.tree, '');
}

/** The entries of one stored folder. They are whole: the store checks the hash of what it gives. */
export async function readFolder(store: PackStore, tree: string): Promise<TreeEntry[]> {
  const listing = toText((await store.get(tree)).toString('latin1'));
  return listing
    .split('\n')
    .filter((line) => line !== '')
    .map((line) => JSON.parse(line) as TreeEntry);
}

async function* walkFolder(
  store: PackStore,
  tree: string,
  below: ByteString,
): AsyncGenerator<{ path: ByteString; entry: TreeEntry }> {
  for (const entry of await readFolder(store, tree)) {
    const path = below === '' ? entry.name : `${below}/${entry.name}`;
    yield { path, entry };
    if (entry.type === 'folder') yield* walkFolder(store, entry.tree, path);
  }
}

/** Listings that were read lately, by the hash of their tree: what is compared is often compared again. */
const recentListings = new Map<string, ReadonlyMap<ByteString, FileState>>();
const RECENT_FILES = 60_000;

/** Files and links of a stored root by path. */
export async function readListing(
  store: PackStore,
  root: Pick<RootManifest, 'tree'>,
): Promise<ReadonlyMap<ByteString, FileState>> {
  const recent = recentListings.get(root.tree);
  if (recent) return recent;
  const files = new Map<ByteString, FileState>();
  for await (const { path, entry } of walkTree(store, root)) {
    if (entry.type === 'file') files.set(path, fileOf(entry));
    if (entry.type === 'link') files.set(path, { type: 'link', target: entry.target });
  }
  recentListings.set(root.tree, files);
  let kept = 0;
  for (const listing of recentListings.values()) kept += listing.size;
  for (const [tree, listing] of recentListings) {
    if (kept <= RECENT_FILES) break;
    recentListings.delete(tree);
    kept -= listing.size;
  }
  return files;
}

const fileOf = ({ mode, size, pieces, plain }: Extract<TreeEntry, { type: 'file' }>): FileState =>
  plain === undefined ? { type: 'file', mode, size, pieces } : { type: 'file', mode, size, pieces, plain };

/** The content of a stored file in one; for files that are small enough to be held. */
export async function readPieces(store: PackStore, hashes: readonly string[]): Promise<Buffer> {
  const parts = await Promise.all(hashes.map((hash) => store.get(hash)));
  return parts.length === 1 ? (parts[0] as Buffer) : Buffer.concat(parts);
}

/** The content of a stored file, piece by piece. */
export async function* storedPieces(store: PackStore, hashes: readonly string[]): AsyncGenerator<Buffer> {
  for (const hash of hashes) yield await store.get(hash);
}
