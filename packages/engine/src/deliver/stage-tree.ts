import { areaOf, type ByteString, type FileChange, type FileState, Rewriter, sameFile } from '@tessarion/core';
import { EngineError } from '../ports/errors.js';
import { showPath } from '../ports/paths.js';
import { checkpoint, type Work } from '../ports/progress.js';
import type { Mode, Remain } from '../ports/rows.js';
import { type Owner, type ServerConnection, type TreeNode, type WholeListing, whileThere } from '../ports/server.js';
import { areasOf, type Environment, keptFolder, layout, rewriterOf } from '../site/environment.js';
import { type KnownFiles, readState } from '../site/list-root.js';
import { eachOf, FileForm, rootFolder } from '../site/root-reader.js';
import type { PackStore } from '../store/pack-store.js';
import type { PackWriter } from '../store/pack-writer.js';
import { readPieces, storedPieces } from '../store/read-tree.js';
import { isKept } from './kept-files.js';
import { removeOldTrees } from './old-trees.js';

/** A new tree that stands ready beside the one in use. */
export interface StagedTree {
  readonly root: string;
  readonly from: ByteString;
  readonly to: ByteString;
  readonly written: number;
  readonly remains: readonly Remain[];
  /** Where files are not shared with the former tree: when it was made, in nanoseconds since 1970 as the server has it. */
  readonly ownSince: bigint | undefined;
  /** What stood in the former tree when it was last looked at, by path (see {@link markOf}). */
  seen: Map<ByteString, string>;
  /** That listing's mark, once it was looked at with the second names that its files got. */
  seenMark?: string;
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

/** How a tree is staged. */
export interface Staging {
  readonly store: PackStore;
  readonly mode: Mode;
  readonly work: Work;
  /** Hashes of the root's files: what is known need not be read again. */
  readonly known?: KnownFiles | undefined;
  /** Whether files are copied rather than linked. */
  readonly ownFiles?: boolean;
}

/**
 * Makes a new tree out of the one in use: unchanged files are the same files under a second name, so that the cost
 * grows with the number of files and not with their size; changed ones come from the store.
 *
 * Where programs are to work in it, unchanged files are copies instead: what they write in place would show at once.
 */
export async function stageTree(
  environment: Environment,
  root: string,
  treeId: string,
  changes: readonly FileChange[],
  { store, mode, work, known, ownFiles = false }: Staging,
): Promise<StagedTree> {
  const { server, folder } = environment;
  const from = await treeInUse(environment, root);
  const to = layout.tree(folder, root, treeId);
  const rewriter = rewriterOf(environment);
  const form = new FileForm(environment, rewriter);

  const { nodes } = await server.listWhole(from);
  const before = new Map(nodes.map((node) => [node.path, node]));
  const isNow = async (path: ByteString): Promise<FileState> => {
    const node = before.get(path);
    const found = node?.type === 'file' ? known?.recall(path, node) : undefined;
    return found ?? readState(environment, root, path, rewriter);
  };
  const { applied, remains } = await whatApplies(root, changes, mode, isNow);
  await server.remove(to);
  await removeOldTrees(environment, root, from);
  const top = await server.nodeAt(from);
  await server.makeFolder(to, top?.mode, top);
  const began = await server.nodeAt(to);
  const depth = (path: ByteString): number => path.split('/').length;
  for (const node of nodes.filter(({ type }) => type === 'folder').sort((a, b) => depth(a.path) - depth(b.path)))
    await server.makeFolder(`${to}/${node.path}`, node.mode, node);
  // Unchanged files are the same files, with what they have.
  const asked = nodes.flatMap(({ path, type }) => (type === 'folder' || ownFiles || applied.has(path) ? [path] : []));
  const acls = await server.readAcls(from, ['.', ...asked]);
  const carry = (isMeant: (path: ByteString) => boolean): Promise<void> =>
    server.writeAcls(new Map([...acls].flatMap(([path, acl]) => (isMeant(path) ? [[`${to}/${path}`, acl]] : []))));
  const isFolder = (path: ByteString): boolean => path === '.' || before.get(path)?.type === 'folder';
  await carry(isFolder);
  for await (const part of unchangedParts(environment, root, nodes, { from, to }))
    await takeOver(server, part, { isWritten: (path) => applied.has(path), ownFiles, work });
  // Second names that came and went have changed when a file was changed last, and nothing else of it.
  const linked = await server.listWhole(from);
  for (const node of linked.nodes) {
    const former = before.get(node.path);
    if (former) known?.follow(node.path, former, node);
  }
  for (const change of applied.values()) {
    checkpoint(work);
    // What takes a file's place belongs to whom that belonged.
    await writeChanged(`${to}/${change.path}`, change, before.get(change.path), form, store);
    if (change.after.type !== 'absent') work.count({ files: 1 });
  }
  await carry((path) => !isFolder(path) && (applied.get(path)?.after.type ?? 'file') === 'file');
  const ownSince = ownFiles ? began?.changedAtNs : undefined;
  const staged: StagedTree = { root, from, to, written: applied.size, remains, ownSince, seen: marksOf(nodes) };
  await carryOver(environment, staged, new Set(changes.map(({ path }) => path)), linked);
  return staged;
}

/** Files and links of one folder that a new tree has in the same way below another one. */
interface UnchangedPart {
  readonly from: ByteString;
  readonly to: ByteString;
  /** What paths begin with in the tree. */
  readonly prefix: ByteString;
  readonly nodes: readonly TreeNode[];
}

/** What a tree in use holds, and the areas that were kept beside it and by the profile as it is now are a part of it again. */
async function* unchangedParts(
  { server, folder, profile }: Environment,
  root: string,
  found: readonly TreeNode[],
  { from, to }: Pick<StagedTree, 'from' | 'to'>,
): AsyncGenerator<UnchangedPart> {
  const again = new Map<TreeNode, ByteString>();
  for (const node of found) {
    const kept = node.type === 'link' ? keptFolder(folder, root, node.target) : undefined;
    if (kept !== undefined && !isKept(profile, node.path)) again.set(node, kept);
  }
  yield { from, to, prefix: '', nodes: found.filter((node) => node.type !== 'folder' && !again.has(node)) };
  for (const [{ path }, kept] of again) {
    const there = await server.nodeAt(kept);
    await server.makeFolder(`${to}/${path}`, there?.mode, there);
    const nodes: TreeNode[] = [];
    for await (const inner of server.listTree(kept)) {
      if (inner.type === 'folder') await server.makeFolder(`${to}/${path}/${inner.path}`, inner.mode, inner);
      else nodes.push(inner);
    }
    yield { from: kept, to: `${to}/${path}`, prefix: `${path}/`, nodes };
  }
}

/** Gives a new tree what it has unchanged. */
async function takeOver(
  server: ServerConnection,
  { from, to, prefix, nodes }: UnchangedPart,
  {
    isWritten,
    ownFiles,
    work,
  }: { readonly isWritten: (path: ByteString) => boolean; readonly ownFiles: boolean; readonly work: Work },
): Promise<void> {
  const left = nodes.filter(({ path }) => !isWritten(`${prefix}${path}`));
  const links = left.filter(({ type }) => type === 'link');
  const files = left.flatMap(({ type, path }) => (type === 'link' ? [] : [path]));
  await eachOf(links, 16, async (node) => {
    checkpoint(work);
    await server.makeLink(`${to}/${node.path}`, node.target as ByteString, node);
  });
  if (ownFiles)
    await eachOf(files, 16, async (path) => {
      checkpoint(work);
      await whileThere(() => server.copyFile(`${to}/${path}`, `${from}/${path}`));
    });
  else
    for (let at = 0; at < files.length; at += LINKED_AT_ONCE) {
      checkpoint(work);
      await server.linkTree(to, from, files.slice(at, at + LINKED_AT_ONCE));
    }
}

/** Files between which a transfer can be stopped. */
const LINKED_AT_ONCE = 5000;

/** Which changes find what they expect. @throws {EngineError} `outdated` where all have to, and one does not */
async function whatApplies(
  root: string,
  changes: readonly FileChange[],
  mode: Mode,
  isNow: (path: ByteString) => Promise<FileState>,
): Promise<{ readonly applied: ReadonlyMap<ByteString, FileChange>; readonly remains: readonly Remain[] }> {
  const remains: Remain[] = [];
  const applied = new Map<ByteString, FileChange>();
  for (const change of changes) {
    const is = mode === 'over' ? undefined : await isNow(change.path);
    if (is === undefined || sameFile(is, change.before)) applied.set(change.path, change);
    // Taking back may have been done already, or find what was never written.
    else if (mode === 'strict' || !sameFile(is, change.after))
      remains.push({ table: `root ${root}`, key: showPath(change.path), what: 'was changed meanwhile' });
  }
  if (mode === 'strict' && remains[0])
    throw new EngineError(
      'outdated',
      `${remains[0].key} was changed meanwhile${remains.length > 1 ? ` (and ${remains.length - 1} more)` : ''}.`,
      'Make a new forecast: the destination has changed since this one.',
    );
  return { applied, remains };
}

/** Writes what a path holds after a change, as the environment has it. */
async function writeChanged(
  to: ByteString,
  { path, after }: FileChange,
  owner: Owner | undefined,
  form: FileForm,
  store: PackStore,
): Promise<void> {
  const { server, profile } = form.environment;
  if (after.type === 'absent') return;
  await server.makeFolder(to.split('/').slice(0, -1).join('/'));
  if (after.type === 'link') return server.makeLink(to, form.rewriter.materialise(after.target), owner);
  const area = areaOf(areasOf(profile), path);
  const { pieces, mode } = after;
  const content = form.isTranslated(path, area)
    ? form.materialise(path, area, await readPieces(store, pieces))
    : storedPieces(store, pieces);
  await server.writeFile(to, content, mode, { owner });
}

/** An unchanged file is the same file in both trees: what was written in place is there already. */
const markOf = ({ type, target, file }: TreeNode): string => (type === 'link' ? `link ${target}` : file);

const marksOf = (nodes: readonly TreeNode[]): Map<ByteString, string> =>
  new Map(
    nodes.flatMap((node) =>
      node.type === 'folder' || node.type === 'special' ? [] : [[node.path, markOf(node)] as const],
    ),
  );

/**
 * Carries over what was written to the former tree since it was last looked at, but for the paths that the transfer
 * writes itself. Its listing is made unless it is given. Called right before the switch and once more after it. A worker that took over has not looked at the
 * former tree before; then the two trees are compared, or where they share no files, the time is asked.
 *
 * @returns the paths carried over
 */
export async function carryOver(
  { server }: Environment,
  staged: Pick<StagedTree, 'from' | 'to' | 'seenMark'> & {
    seen?: Map<ByteString, string>;
    readonly ownSince?: bigint | undefined;
  },
  changes: ReadonlySet<ByteString>,
  given?: WholeListing,
): Promise<ByteString[]> {
  const listing = given ?? (await server.listWhole(staged.from));
  if (listing.mark === staged.seenMark) return [];
  const { nodes } = listing;
  const now = marksOf(nodes);
  const { ownSince } = staged;
  const before =
    staged.seen ??
    marksOf(
      ownSince === undefined
        ? (await server.listWhole(staged.to)).nodes
        : nodes.filter(({ changedAtNs }) => changedAtNs <= ownSince),
    );
  const carried: ByteString[] = [];
  for (const [path, mark] of now) {
    if (before.get(path) === mark || changes.has(path)) continue;
    const to = `${staged.to}/${path}`;
    await makeFoldersLike(server, staged, path);
    await server.remove(to);
    const link = mark.startsWith('link ') ? await server.nodeAt(`${staged.from}/${path}`) : undefined;
    if (mark.startsWith('link ')) await server.makeLink(to, mark.slice('link '.length), link);
    else await server.makeHardLink(to, `${staged.from}/${path}`);
    carried.push(path);
  }
  for (const path of before.keys()) {
    if (now.has(path) || changes.has(path)) continue;
    await server.remove(`${staged.to}/${path}`);
    carried.push(path);
  }
  staged.seen = now;
  staged.seenMark = listing.mark;
  return carried.sort();
}

/**
 * What programs wrote into a new tree that has files of its own, as changes against the one in use.
 *
 * @param written paths that the transfer itself writes
 */
export async function changesByPrograms(
  environment: Environment,
  { root, from, to }: Pick<StagedTree, 'root' | 'from' | 'to'>,
  written: ReadonlySet<ByteString>,
): Promise<FileChange[]> {
  const { server } = environment;
  const [before, after] = [
    contentMarks((await server.listWhole(from)).nodes),
    contentMarks((await server.listWhole(to)).nodes),
  ];
  const rewriter = rewriterOf(environment);
  const changes: FileChange[] = [];
  for (const path of new Set([...before.keys(), ...after.keys()])) {
    if (written.has(path) || before.get(path) === after.get(path)) continue;
    const [was, is] = [
      await readState(environment, root, path, rewriter, from),
      await readState(environment, root, path, rewriter, to),
    ];
    if (!sameFile(was, is)) changes.push({ part: 'file', root, path, before: was, after: is });
  }
  return changes;
}

/** What tells a file from another without reading it, where copies keep size and time. */
const contentMarks = (nodes: readonly TreeNode[]): Map<ByteString, string> =>
  new Map(
    nodes.flatMap(({ path, type, target, mode, bytes, modified }) =>
      type === 'folder' || type === 'special'
        ? []
        : [[path, type === 'link' ? `link ${target}` : `${mode} ${bytes} ${Math.floor(modified * 1000)}`] as const],
    ),
  );

/** Makes the folders that a path of one tree lies in there as they are in the other, where they are new. */
async function makeFoldersLike(
  server: ServerConnection,
  { from, to }: Pick<StagedTree, 'from' | 'to'>,
  path: ByteString,
): Promise<void> {
  const parts = path.split('/').slice(0, -1);
  for (const [i] of parts.entries()) {
    const folder = parts.slice(0, i + 1).join('/');
    if (await server.exists(`${to}/${folder}`)) continue;
    const there = await server.nodeAt(`${from}/${folder}`);
    await server.makeFolder(`${to}/${folder}`, there?.mode, there);
    const acl = (await server.readAcls(from, [folder])).get(folder);
    if (acl !== undefined) await server.writeAcls(new Map([[`${to}/${folder}`, acl]]));
  }
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
  await eachOf(changes, 8, async (change) => {
    const wanted = change[side];
    if (wanted.type !== 'file') return;
    const area = areaOf(areasOf(environment.profile), change.path);
    const realPath = `${rootFolder(environment, change.root)}/${change.path}`;
    const found = await form.read(change.path, area, wanted.mode, realPath, (piece) => writer.put(piece));
    if (found.pieces.join() !== wanted.pieces.join())
      throw new EngineError(
        'outdated',
        `${showPath(change.path)} in ${environment.path} changed while it was read.`,
        'Make a new forecast.',
      );
  });
}
