import type { ByteString } from '../address/place.js';
import { areaOf } from '../profile/rules.js';
import type { AreaRule } from '../profile/schema.js';
import { type FileChange, type FileState, sameFile } from './change.js';

/** All files and links of one root by path; folders are implied. */
export type FileListing = ReadonlyMap<ByteString, FileState>;

export interface FileDifference {
  readonly change: FileChange;
  readonly area: string;
  readonly overwritesOwnWork: boolean;
}

const ABSENT: FileState = { type: 'absent' };

/**
 * Compares a root's files for a push by `replace`: in authored areas the destination becomes as the source.
 *
 * @param leftOut paths that the copy never received, which are not taken for deleted
 */
export function compareFilesForReplace(
  root: string,
  areas: readonly AreaRule[],
  sides: {
    readonly source: FileListing;
    readonly destination: FileListing;
    readonly baseline: FileListing | undefined;
  },
  leftOut: (path: ByteString) => boolean,
): FileDifference[] {
  const differences: FileDifference[] = [];
  for (const path of [...new Set([...sides.source.keys(), ...sides.destination.keys()])].sort()) {
    const area = areaOf(areas, path);
    if (area.class !== 'authored' || leftOut(path)) continue;
    const before = sides.destination.get(path) ?? ABSENT;
    const after = sides.source.get(path) ?? ABSENT;
    if (sameFile(before, after)) continue;
    const overwritesOwnWork = sides.baseline !== undefined && !sameFile(before, sides.baseline.get(path) ?? ABSENT);
    differences.push({ change: { part: 'file', root, path, before, after }, area: area.name, overwritesOwnWork });
  }
  return differences;
}
