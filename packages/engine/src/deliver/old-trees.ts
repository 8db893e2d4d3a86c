import type { ByteString } from '@tessarion/core';
import { type Environment, layout } from '../site/environment.js';

/** Former trees are kept for a while, so that a late writer or a person can still reach them. */
const KEPT_TREES = 3;

/**
 * Removes the oldest trees of a root that nothing leads to, so that with the one in use, which another one is about to take
 * the place of, a few are left.
 */
export async function removeOldTrees({ server, folder }: Environment, root: string, inUse: ByteString): Promise<void> {
  const trees: { readonly path: ByteString; readonly at: bigint }[] = [];
  for await (const { type, path, changedAtNs } of server.listFolder(layout.trees(folder)))
    if (type === 'folder' && path.startsWith(`${root}-`))
      trees.push({ path: `${layout.trees(folder)}/${path}`, at: changedAtNs });
  const old = trees.filter((tree) => tree.path !== inUse).sort((a, b) => (a.at < b.at ? 1 : -1));
  for (const { path } of old.slice(KEPT_TREES - 1)) await server.remove(path);
}
