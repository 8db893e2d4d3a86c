import { areaOf, type ByteString, type FileChange, type Profile, sameFile } from '@tessarion/core';
import { EngineError } from '../ports/errors.js';
import { showPath } from '../ports/paths.js';
import { checkpoint, type Work } from '../ports/progress.js';
import type { Mode, Remain } from '../ports/rows.js';
import type { Acl } from '../ports/server.js';
import { areasOf, type Environment, keptAreas, layout, rewriterOf } from '../site/environment.js';
import { readState } from '../site/list-root.js';
import { FileForm } from '../site/root-reader.js';
import type { PackStore } from '../store/pack-store.js';
import { readPieces, storedPieces } from '../store/read-tree.js';

/** Whether a path lies in an area that is kept beside the trees, such as the uploads of visitors. */
export const isKept = (profile: Profile | undefined, path: ByteString): boolean =>
  keptAreas(areasOf(profile)).some((area) => path === area.path || path.startsWith(`${area.path}/`));

type Placed = Pick<FileChange, 'root' | 'path'>;

/** Whether a file is written where it lies: in an area that is kept, or in a root that was taken as it lay. */
export const isInPlace = ({ profile, place }: Environment, { root, path }: Placed): boolean =>
  isKept(profile, path) || place.roots.some((one) => one.name === root && one.isPlain === true);

/** Where a file lies that is written in place. Through the tree: an area that was not kept when that was laid out lies in it still. */
const placeOf = ({ folder }: Environment, { root, path }: Placed): ByteString =>
  `${layout.rootLink(folder, root)}/${path}`;

/**
 * Sees that files which are to be written in place are as they were compared.
 *
 * @throws {EngineError} `outdated`
 */
export async function checkInPlace(environment: Environment, changes: readonly FileChange[]): Promise<void> {
  const rewriter = rewriterOf(environment);
  for (const change of changes)
    if (!sameFile(await readState(environment, change.root, change.path, rewriter), change.before))
      throw new EngineError(
        'outdated',
        `${showPath(change.path)} was changed meanwhile.`,
        'Make a new forecast: the destination has changed since this one.',
      );
}

/** Access control lists of files that are to be replaced, by where they lie. */
async function aclsOf(
  { server, folder, place }: Environment,
  changes: readonly FileChange[],
): Promise<Map<ByteString, Acl>> {
  const found = new Map<ByteString, Acl>();
  for (const { name } of place.roots) {
    const root = layout.rootLink(folder, name);
    const paths = changes.flatMap((change) => (change.root === name ? [change.path] : []));
    for (const [path, acl] of paths.length > 0 ? await server.readAcls(root, paths) : [])
      found.set(`${root}/${path}`, acl);
  }
  return found;
}

/**
 * Writes files where they lie, one by one: a copy's uploads become as its source's. What somebody changed since it was
 * compared stays. May be run again after a crash.
 *
 * @returns what stayed
 */
export async function writeInPlace(
  environment: Environment,
  changes: readonly FileChange[],
  store: PackStore,
  mode: Mode,
  work: Work,
): Promise<Remain[]> {
  const { server, profile } = environment;
  const remains: Remain[] = [];
  const rewriter = rewriterOf(environment);
  const form = new FileForm(environment, rewriter);
  const areas = areasOf(profile);
  const acls = await aclsOf(environment, changes);
  for (const change of changes) {
    checkpoint(work);
    const { root, path, before, after } = change;
    const place = placeOf(environment, change);
    const area = areaOf(areas, path);
    const is = mode === 'over' ? before : await readState(environment, root, path, rewriter);
    if (sameFile(is, after)) continue;
    if (!sameFile(is, before)) {
      remains.push({ table: `root ${root}`, key: showPath(path), what: 'was changed meanwhile, and stays' });
      continue;
    }
    if (after.type !== 'file') await server.remove(place);
    if (after.type !== 'absent') await server.makeFolder(place.split('/').slice(0, -1).join('/'));
    if (after.type === 'link') await server.makeLink(place, rewriter.materialise(after.target));
    if (after.type === 'file') {
      const content = form.isTranslated(path, area)
        ? form.materialise(path, area, await readPieces(store, after.pieces))
        : storedPieces(store, after.pieces);
      await server.writeFile(place, content, after.mode, { acl: acls.get(place) });
    }
    work.count({ files: 1 });
  }
  return remains;
}
