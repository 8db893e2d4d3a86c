import type { ByteString } from '@tessarion/core';
import { areasOf, type Environment, keepLinkTarget, keptAreas, keptFolder, layout } from './environment.js';

/** One thing that is done to a root that gets the layout which switches in one step. */
export type LayoutMove =
  | { readonly act: 'rename'; readonly path: ByteString; readonly to: ByteString }
  /** Owner and mode are those of `like`. */
  | { readonly act: 'folder'; readonly path: ByteString; readonly like: ByteString }
  | { readonly act: 'link'; readonly path: ByteString; readonly to: ByteString; readonly like: ByteString };

/**
 * What is still to be done so that a root is a link to a tree, with its kept areas beside it; nothing is done here.
 *
 * @param id of the transfer, by which the tree is named
 */
export async function movesOf(environment: Environment, root: string, id: ByteString): Promise<LayoutMove[]> {
  const { server, folder } = environment;
  const link = layout.rootLink(folder, root);
  const moves: LayoutMove[] = [];
  const current = await server.readLink(link);
  const tree = current === undefined ? layout.tree(folder, root, id) : `${folder}/${current}`;
  let here = tree;
  if (current === undefined) {
    if (await server.exists(link)) {
      moves.push({ act: 'rename', path: link, to: tree });
      here = link;
    }
    moves.push({ act: 'link', path: link, to: `trees/${root}-${id}`, like: tree });
  }
  for (const area of keptAreas(areasOf(environment.profile))) {
    const beside = layout.keep(folder, root, area.name);
    if ((await server.readLink(`${here}/${area.path}`)) !== undefined) continue;
    const path = `${tree}/${area.path}`;
    if (await server.exists(`${here}/${area.path}`)) moves.push({ act: 'rename', path, to: beside });
    else if (!(await server.exists(beside))) moves.push({ act: 'folder', path: beside, like: tree });
    moves.push({ act: 'link', path, to: keepLinkTarget(root, area), like: beside });
  }
  return moves;
}

const parentOf = (path: ByteString): ByteString => path.split('/').slice(0, -1).join('/');

/** Does one of {@link movesOf}. */
export async function makeMove({ server }: Environment, move: LayoutMove): Promise<void> {
  if (move.act === 'rename') {
    await server.makeFolder(parentOf(move.to));
    await server.rename(move.path, move.to);
    return;
  }
  const like = await server.nodeAt(move.like);
  if (move.act === 'folder') return server.makeFolder(move.path, like?.mode, like);
  await server.makeFolder(parentOf(move.path));
  await server.replaceLink(move.path, move.to, `${move.path}.tsr-switch`, like);
}

/** The links of a tree that lead to kept areas beside it, by whatever profile they were made, and where these lie. */
export async function keptLinks(
  { server, folder }: Pick<Environment, 'server' | 'folder'>,
  root: string,
  tree: ByteString,
): Promise<{ readonly link: ByteString; readonly lies: ByteString }[]> {
  return (await server.listWhole(tree)).nodes.flatMap((node) => {
    const lies = node.type === 'link' ? keptFolder(folder, root, node.target) : undefined;
    return lies === undefined ? [] : [{ link: `${tree}/${node.path}`, lies }];
  });
}
