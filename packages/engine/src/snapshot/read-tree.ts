import { type ByteString, type FileState, type RootManifest, TreeEntry, toText } from '@tessarion/core';
import type { PackStore } from '../blobs/pack-store.js';

/** Walks a stored root: folders before what is in them, in order. */
export async function* walkTree(
  store: PackStore,
  root: Pick<RootManifest, 'tree'>,
): AsyncGenerator<{ path: ByteString; entry: TreeEntry }> {
  yield* walkFolder(store, root.tree, '');
}

async function* walkFolder(
  store: PackStore,
  tree: string,
  below: ByteString,
): AsyncGenerator<{ path: ByteString; entry: TreeEntry }> {
  const listing = toText((await store.get(tree)).toString('latin1'));
  for (const line of listing.split('\n')) {
    if (line === '') continue;
    const entry = TreeEntry.parse(JSON.parse(line));
    const path = below === '' ? entry.name : `${below}/${entry.name}`;
    yield { path, entry };
    if (entry.type === 'folder') yield* walkFolder(store, entry.tree, path);
  }
}

/** Files and links of a stored root by path. */
export async function readListing(
  store: PackStore,
  root: Pick<RootManifest, 'tree'>,
): Promise<Map<ByteString, FileState>> {
  const files = new Map<ByteString, FileState>();
  for await (const { path, entry } of walkTree(store, root)) {
    if (entry.type === 'file')
      files.set(path, { type: 'file', mode: entry.mode, size: entry.size, pieces: entry.pieces });
    if (entry.type === 'link') files.set(path, { type: 'link', target: entry.target });
  }
  return files;
}

export async function readPieces(store: PackStore, hashes: readonly string[]): Promise<Buffer> {
  const parts = await Promise.all(hashes.map((hash) => store.get(hash)));
  return parts.length === 1 ? (parts[0] as Buffer) : Buffer.concat(parts);
}

/** The content of a stored file, piece by piece. */
export async function* storedPieces(store: PackStore, hashes: readonly string[]): AsyncGenerator<Buffer> {
  for (const hash of hashes) yield await store.get(hash);
}
