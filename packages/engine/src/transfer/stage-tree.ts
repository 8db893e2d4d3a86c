import { areaOf, type ByteString, type FileChange, Rewriter, sameFile } from '@tessarion/core';
import type { PackStore, PackWriter } from '../blobs/pack-store.js';
import { areasOf, type Environment, keptFolder, layout } from '../environment/environment.js';
import { readState } from '../environment/list-root.js';
import { eachOf, FileForm } from '../environment/root-reader.js';
import { EngineError } from '../errors.js';
import { checkpoint, type Work } from '../progress.js';
import { showPath } from '../server/local-server.js';
import { readPieces, storedPieces } from '../snapshot/read-tree.js';
import type { Mode, Remain } from './apply-rows.js';
import { rewriterOf } from './copy-files.js';
import { isKept } from './kept-files.js';

/** A new tree that stands ready beside the one in use. */
export interface StagedTree {
  readonly root: string;
  readonly from: ByteString;
  readonly to: ByteString;
  readonly written: number;
  readonly remains: readonly Remain[];
}

/** The tree that a root leads to now. @throws {EngineError} when the root is not a link */
export async function treeInUse(environment: Environment, root: string): Promise<ByteString> {
  const target = await environment.server.readLink(layout.rootLink(environment.folder, root));
  if (target === undefined)
    throw new EngineError(
      'file-refused',
      `The root "${root}" of ${environment.path} is not a link to a tree.`,
      'Bring the site in again, so that it gets the layout that switches in one step.',
    );
  return target.startsWith('/') ? target : `${environment.folder}/${target}`;
}

/**
 * Makes a new tree out of the one in use: unchanged files are the same files under a second name, so that the cost
 * grows with the number of files and not with their size; changed ones come from the store.
 */
export async function stageTree(
  environment: Environment,
  root: string,
  treeId: string,
  changes: readonly FileChange[],
  store: PackStore,
  mode: Mode,
  work: Work,
): Promise<StagedTree> {
  const { server, folder } = environment;
  const from = await treeInUse(environment, root);
  const to = layout.tree(folder, root, treeId);
  const rewriter = rewriterOf(environment);
  const form = new FileForm(environment, rewriter);

  const remains: Remain[] = [];
  const applied = new Map<ByteString, FileChange>();
  for (const change of changes) {
    if (sameFile(await readState(environment, root, change.path, rewriter), change.before))
      applied.set(change.path, change);
    else remains.push({ table: `root ${root}`, key: showPath(change.path), what: 'was changed meanwhile' });
  }
  if (mode === 'strict' && remains[0])
    throw new EngineError(
      'outdated',
      `${remains[0].key} was changed meanwhile${remains.length > 1 ? ` (and ${remains.length - 1} more)` : ''}.`,
      'Make a new forecast: the destination has changed since this one.',
    );

  await server.remove(to);
  await server.makeFolder(to);
  await eachOf(foldersFirst(), 16, async (node) => {
    checkpoint(work);
    if (applied.has(node.path)) return;
    if (node.type === 'link') await server.makeLink(`${to}/${node.path}`, node.target as ByteString);
    else await server.makeHardLink(`${to}/${node.path}`, node.at);
  });
  for (const change of applied.values()) {
    checkpoint(work);
    if (change.after.type === 'absent') continue;
    await server.makeFolder(`${to}/${change.path}`.split('/').slice(0, -1).join('/'));
    if (change.after.type === 'link')
      await server.makeLink(`${to}/${change.path}`, rewriter.materialise(change.after.target));
    else {
      const area = areaOf(areasOf(environment.profile), change.path);
      const { pieces, mode: fileMode } = change.after;
      await server.writeFile(
        `${to}/${change.path}`,
        form.isTranslated(change.path, area)
          ? form.materialise(change.path, area, await readPieces(store, pieces))
          : storedPieces(store, pieces),
        fileMode,
      );
    }
    work.count({ files: 1 });
  }
  return { root, from, to, written: applied.size, remains };

  async function* foldersFirst() {
    for await (const node of server.listTree(from)) {
      const kept = node.type === 'link' ? keptFolder(folder, root, node.target) : undefined;
      if (node.type === 'folder') await server.makeFolder(`${to}/${node.path}`, node.mode);
      else if (kept === undefined || isKept(environment.profile, node.path))
        yield { ...node, at: `${from}/${node.path}` };
      else {
        // By the profile as it is now the area is a part of the tree again.
        await server.makeFolder(`${to}/${node.path}`);
        for await (const inner of server.listTree(kept)) {
          const path = `${node.path}/${inner.path}`;
          if (inner.type === 'folder') await server.makeFolder(`${to}/${path}`, inner.mode);
          else yield { ...inner, path, at: `${kept}/${inner.path}` };
        }
      }
    }
  }
}

const inodeOf = (identity: string): string => identity.split('.')[3] as string;

/**
 * Carries over what was written to the former tree since the new one was staged, but for the paths that the transfer
 * writes itself. An unchanged file is the same file in both trees, so the trees alone tell what happened. Called
 * right before the switch and once more after it.
 *
 * @returns the paths carried over
 */
export async function carryOver(
  environment: Environment,
  staged: Pick<StagedTree, 'from' | 'to'>,
  changes: ReadonlySet<ByteString>,
): Promise<ByteString[]> {
  const { server } = environment;
  const carried: ByteString[] = [];
  const there = new Map<ByteString, string>();
  for await (const node of server.listTree(staged.to))
    if (node.type !== 'folder')
      there.set(node.path, node.type === 'link' ? `link ${node.target}` : inodeOf(node.identity));
  for await (const node of server.listTree(staged.from)) {
    if (node.type === 'folder' || node.type === 'special') continue;
    const mark = node.type === 'link' ? `link ${node.target}` : inodeOf(node.identity);
    const same = there.get(node.path) === mark;
    there.delete(node.path);
    if (same || changes.has(node.path)) continue;
    const to = `${staged.to}/${node.path}`;
    await server.makeFolder(to.split('/').slice(0, -1).join('/'));
    await server.remove(to);
    if (node.type === 'link') await server.makeLink(to, node.target as ByteString);
    else await server.makeHardLink(to, `${staged.from}/${node.path}`);
    carried.push(node.path);
  }
  for (const path of there.keys()) {
    if (changes.has(path)) continue;
    await server.remove(`${staged.to}/${path}`);
    carried.push(path);
  }
  return carried;
}

/** Stores the contents that file changes speak of, as one side has them, so that they can be written and undone. */
export async function storeContents(
  environment: Environment,
  changes: readonly FileChange[],
  side: 'before' | 'after',
  writer: PackWriter,
): Promise<void> {
  const rewriter = new Rewriter(environment.place);
  const form = new FileForm(environment, rewriter);
  for (const change of changes) {
    const wanted = change[side];
    if (wanted.type !== 'file') continue;
    const root = environment.place.roots.find((one) => one.name === change.root)?.path as ByteString;
    const area = areaOf(areasOf(environment.profile), change.path);
    const found = await form.read(change.path, area, wanted.mode, `${root}/${change.path}`, (piece) =>
      writer.put(piece),
    );
    if (found.pieces.join() !== wanted.pieces.join())
      throw new EngineError(
        'outdated',
        `${showPath(change.path)} in ${environment.path} changed while it was read.`,
        'Make a new forecast.',
      );
  }
}
