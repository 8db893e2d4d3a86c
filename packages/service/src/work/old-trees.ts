import { type Environment, keepingIdentities, layout, treeInUse } from '@tessarion/engine';
import type { TransferContext } from './context.js';

const KEPT_TREES = 3;

/** Former trees are kept for a while, so that a late writer or a person can still reach them. */
export async function removeOldTrees(context: TransferContext, environment: Environment): Promise<void> {
  for (const root of environment.place.roots) {
    if (root.isPlain) continue;
    const inUse = await treeInUse(environment, root.name);
    const trees: { path: string; at: bigint }[] = [];
    for await (const node of environment.server.listFolder(layout.trees(environment.folder))) {
      if (node.type === 'folder' && node.path.startsWith(`${root.name}-`))
        trees.push({ path: `${layout.trees(environment.folder)}/${node.path}`, at: node.changedAtNs });
    }
    const old = trees.filter((tree) => tree.path !== inUse).sort((a, b) => (a.at < b.at ? 1 : -1));
    const gone = old.slice(KEPT_TREES);
    if (gone.length === 0) continue;
    const memory = await context.memory(environment.path);
    const known = memory.filesOf(root.name, await context.edition(environment.site));
    await keepingIdentities(environment, root.name, known, async () => {
      for (const tree of gone) await environment.server.remove(tree.path);
    });
    await memory.save();
  }
}
