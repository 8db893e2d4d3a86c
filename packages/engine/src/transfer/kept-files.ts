import {
  areaOf,
  type ByteString,
  type FileChange,
  type FileState,
  type Profile,
  Rewriter,
  sameFile,
} from '@tessarion/core';
import type { PackStore } from '../blobs/pack-store.js';
import { areasOf, type Environment, keptAreas, layout } from '../environment/environment.js';
import { canonicalLink, FileForm, hashOf } from '../environment/root-reader.js';
import { checkpoint, type Work } from '../progress.js';
import { readPieces, storedPieces } from '../snapshot/read-tree.js';
import type { Mode } from './check-rows.js';
import { rewriterOf } from './copy-files.js';

/** Whether a path lies in an area that is kept beside the trees, such as the uploads of visitors. */
export const isKept = (profile: Profile | undefined, path: ByteString): boolean =>
  keptAreas(areasOf(profile)).some((area) => path === area.path || path.startsWith(`${area.path}/`));

/**
 * Writes files of kept areas where they lie, one by one: a copy's uploads become as its source's. May be run again
 * after a crash.
 *
 * @param mode `lenient` leaves what somebody changed since, as an undo does
 */
export async function writeKept(
  environment: Environment,
  changes: readonly FileChange[],
  store: PackStore,
  mode: Mode,
  work: Work,
): Promise<void> {
  const { server, profile } = environment;
  const rewriter = rewriterOf(environment);
  const form = new FileForm(environment, rewriter);
  const areas = areasOf(profile);
  for (const { root, path, before, after } of changes) {
    checkpoint(work);
    if (!isKept(profile, path)) continue;
    // Through the tree: an area that was not kept when the tree was laid out lies in it still.
    const place = `${layout.rootLink(environment.folder, root)}/${path}`;
    const area = areaOf(areas, path);
    if (mode === 'lenient' && !sameFile(await stateOf(environment, path, place), before)) continue;
    if (after.type !== 'file') await server.remove(place);
    if (after.type !== 'absent') await server.makeFolder(place.split('/').slice(0, -1).join('/'));
    if (after.type === 'link') await server.makeLink(place, rewriter.materialise(after.target));
    if (after.type === 'file') {
      const content = form.isTranslated(path, area)
        ? form.materialise(path, area, await readPieces(store, after.pieces))
        : storedPieces(store, after.pieces);
      await server.writeFile(place, content, after.mode);
    }
    work.count({ files: 1 });
  }
}

async function stateOf(environment: Environment, path: ByteString, place: ByteString): Promise<FileState> {
  if ((await environment.server.identityOf(place)) === undefined) return { type: 'absent' };
  const rewriter = new Rewriter(environment.place);
  const form = new FileForm(environment, rewriter);
  const area = areaOf(areasOf(environment.profile), path);
  for await (const node of environment.server.listFolder(place.split('/').slice(0, -1).join('/')))
    if (place.endsWith(`/${node.path}`))
      return node.type === 'link'
        ? { type: 'link', target: canonicalLink(environment, rewriter, path, node.target as ByteString) }
        : form.read(path, area, node.mode, place, hashOf);
  return { type: 'absent' };
}
