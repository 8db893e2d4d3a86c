import { areaOf, type ByteString, type FileChange, type FileState, Rewriter, sameFile, toBytes } from '@tessarion/core';
import type { PackStore } from '../blobs/pack-store.js';
import { areasOf, type Environment, layout } from '../environment/environment.js';
import { listAuthored } from '../environment/list-root.js';
import { eachOf, FileForm } from '../environment/root-reader.js';
import { EngineError } from '../errors.js';
import { checkpoint, type Work } from '../progress.js';
import { showPath } from '../server/local-server.js';
import { readPieces } from '../snapshot/read-tree.js';
import type { Mode, Remain } from './apply-rows.js';

/** A new tree that stands ready beside the one in use. */
export interface StagedTree {
  readonly root: string;
  readonly from: ByteString;
  readonly to: ByteString;
  /** Identities of the files of the tree in use when it was staged, to notice what is written to it until the switch. */
  readonly seen: ReadonlyMap<ByteString, string>;
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
  version: string,
  work: Work,
): Promise<StagedTree> {
  const { server, folder } = environment;
  const from = await treeInUse(environment, root);
  const to = layout.tree(folder, root, treeId);
  const rewriter = new Rewriter(
    environment.place,
    new Map([...environment.settings].map(([name, value]) => [name, toBytes(value)])),
  );
  const form = new FileForm(environment, rewriter);
  const now = await listAuthored(environment, root, rewriter, undefined, version);
  const absent: FileState = { type: 'absent' };

  const remains: Remain[] = [];
  const applied = new Map<ByteString, FileChange>();
  for (const change of changes) {
    if (sameFile(now.get(change.path)?.state ?? absent, change.before)) applied.set(change.path, change);
    else remains.push({ table: `root ${root}`, key: showPath(change.path), what: 'was changed meanwhile' });
  }
  if (mode === 'strict' && remains[0])
    throw new EngineError(
      'outdated',
      `${remains[0].key} was changed meanwhile${remains.length > 1 ? ` (and ${remains.length - 1} more)` : ''}.`,
      'Make a new forecast: the destination has changed since this one.',
    );

  const seen = new Map<ByteString, string>();
  await server.remove(to);
  await server.makeFolder(to);
  await eachOf(foldersFirst(), 16, async (node) => {
    checkpoint(work);
    if (applied.has(node.path)) return;
    if (node.type === 'link') await server.makeLink(`${to}/${node.path}`, node.target as ByteString);
    else await server.makeHardLink(`${to}/${node.path}`, `${from}/${node.path}`);
  });
  for (const change of applied.values()) {
    checkpoint(work);
    if (change.after.type === 'absent') continue;
    await server.makeFolder(`${to}/${change.path}`.split('/').slice(0, -1).join('/'));
    if (change.after.type === 'link')
      await server.makeLink(`${to}/${change.path}`, rewriter.materialise(change.after.target));
    else {
      const content = await readPieces(store, change.after.pieces);
      await server.writeFile(
        `${to}/${change.path}`,
        form.materialise(change.path, areaOf(areasOf(environment.profile), change.path), content),
        change.after.mode,
      );
    }
    work.count({ files: 1 });
  }
  return { root, from, to, seen, written: applied.size, remains };

  async function* foldersFirst() {
    for await (const node of server.listTree(from)) {
      if (node.type === 'folder') await server.makeFolder(`${to}/${node.path}`, node.mode);
      else {
        seen.set(node.path, node.type === 'link' ? `link ${node.target}` : contentIdentity(node.identity));
        yield node;
      }
    }
  }
}

/** Hard links change a file's ctime; size, mtime and inode tell whether somebody wrote to it. */
const contentIdentity = (identity: string): string => {
  const [size, mtime, , inode] = identity.split('.');
  return `${size}.${mtime}.${inode}`;
};

/**
 * Carries over what was written to the former tree since it was staged: new and changed files that the transfer
 * itself does not write. Called right before the switch and once more after it.
 *
 * @returns the paths carried over
 */
export async function carryOver(
  environment: Environment,
  staged: StagedTree,
  changes: ReadonlySet<ByteString>,
): Promise<ByteString[]> {
  const { server } = environment;
  const carried: ByteString[] = [];
  const present = new Set<ByteString>();
  for await (const node of server.listTree(staged.from)) {
    if (node.type === 'folder' || node.type === 'special') continue;
    present.add(node.path);
    const identity = node.type === 'link' ? `link ${node.target}` : contentIdentity(node.identity);
    if (staged.seen.get(node.path) === identity || changes.has(node.path)) continue;
    const to = `${staged.to}/${node.path}`;
    await server.makeFolder(to.split('/').slice(0, -1).join('/'));
    await server.remove(to);
    if (node.type === 'link') await server.makeLink(to, node.target as ByteString);
    else await server.makeHardLink(to, `${staged.from}/${node.path}`);
    carried.push(node.path);
  }
  for (const path of staged.seen.keys()) {
    if (present.has(path) || changes.has(path)) continue;
    await server.remove(`${staged.to}/${path}`);
    carried.push(path);
  }
  return carried;
}
