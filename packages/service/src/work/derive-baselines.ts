import { lowerOf } from '@tessarion/core';
import type { Environment, LeftOut } from '@tessarion/engine';
import { newId } from '../ground/data-folder.js';
import { packedBaseline } from '../stored/packing.js';
import { baselinesOf, findPair, libraryOf, saveBaseline } from '../stored/snapshots.js';
import type { TransferContext } from './context.js';

/**
 * What a copy's source had in common with others, the copy has in common with them too: so a copy of a copy can be
 * compared with live. Only with those above its source: what lies below or beside may be compared through it.
 */
export async function deriveBaselines(
  { installation }: TransferContext,
  source: Environment,
  copy: Environment,
  leftOut: LeftOut,
): Promise<void> {
  const { records, environments } = installation;
  if (source.site !== copy.site || source.path === copy.path) return;
  const library = libraryOf(installation.folder, copy.site);
  for (const pair of await baselinesOf(records, source.path)) {
    const { upper: other } = pair;
    const third = await environments.find(records, other);
    if (!third || other === source.path || other === copy.path || (await findPair(records, copy.path, other))) continue;
    const packed = await packedBaseline(installation, pair.lower, pair.upper);
    if (!packed) continue;
    const [below, above] = [await library.load(packed.lower_manifest), await library.load(packed.upper_manifest)];
    const lower = lowerOf(copy, third);
    const isCopyLower = lower === copy.path;
    const pairs = (below.pairs ?? []).map((one) =>
      isCopyLower ? one : { table: one.table, lower: one.upper, upper: one.lower },
    );
    const images = {
      copy: { ...below, id: newId('b'), environment: copy.path.slice(copy.site.length + 1), kind: copy.kind },
      other: { ...above, id: newId('b') },
    };
    const [low, high] = isCopyLower ? [images.copy, images.other] : [images.other, images.copy];
    await library.save({ ...low, pairs });
    await library.save({ ...high, pairs: undefined });
    await saveBaseline(records, {
      lower,
      upper: isCopyLower ? other : copy.path,
      lower_manifest: low.id,
      upper_manifest: high.id,
      spool: null,
      left_out: {
        tables: [...new Set([...pair.left_out.tables, ...leftOut.tables])],
        areas: [...new Set([...pair.left_out.areas, ...leftOut.areas])],
        paths: [...new Set([...pair.left_out.paths, ...leftOut.paths])],
      },
      created_at: pair.created_at,
      derived: true,
    });
  }
}
