import type { ByteString } from '../address/place.js';
import { areaOf } from '../profile/rules.js';
import type { AreaRule, DataClass } from '../profile/schema.js';
import { type FileState, sameFile } from '../transfer/change.js';
import type { Method } from './decide-row.js';

/** All files and links of one root by path; folders are implied. */
export type FileListing = ReadonlyMap<ByteString, FileState>;

/** One path as up to four sides have it. */
export interface FileSides {
  readonly source: FileState;
  readonly destination: FileState;
  readonly baseSource: FileState;
  readonly baseDestination: FileState;
}

/** What becomes of a file. */
export type FileDecision =
  /** Both sides have it alike, and the baseline does not know it yet. */
  | { readonly is: 'agreed' }
  /** `follows`: collected, so that it comes down without anybody asking for it. */
  | { readonly is: 'taken'; readonly overwrites: boolean; readonly follows: boolean }
  /** Both sides changed it, at different lines. */
  | { readonly is: 'merged'; readonly after: FileState }
  | { readonly is: 'colliding' }
  /** The destination alone changed it, and keeps it. */
  | { readonly is: 'own' };

/** A path that is not the same everywhere, and what becomes of it. */
export interface FileOutcome {
  readonly root: string;
  readonly path: ByteString;
  readonly area: string;
  readonly sides: FileSides;
  readonly decision: FileDecision;
}

const ABSENT: FileState = { type: 'absent' };

/**
 * Compares a root's authored files three ways; collected ones, where their class is
 * named, follow the source.
 *
 * @param leftOut paths that one side never received, which are not taken for deleted
 */
export function compareFiles(
  root: string,
  areas: readonly AreaRule[],
  listings: {
    readonly source: FileListing;
    readonly destination: FileListing;
    readonly baseline: { readonly source: FileListing; readonly destination: FileListing } | undefined;
  },
  how: { readonly method: Method; readonly classes: ReadonlySet<DataClass> },
  leftOut: (path: ByteString) => boolean,
): FileOutcome[] {
  const outcomes: FileOutcome[] = [];
  const { source, destination, baseline } = listings;
  for (const path of [...pathsToDecide(listings)].sort()) {
    const area = areaOf(areas, path);
    if (!how.classes.has(area.class) || leftOut(path)) continue;
    const at: FileSides = {
      source: source.get(path) ?? ABSENT,
      destination: destination.get(path) ?? ABSENT,
      baseSource: baseline?.source.get(path) ?? ABSENT,
      baseDestination: baseline?.destination.get(path) ?? ABSENT,
    };
    const decision = area.class === 'authored' ? decideFile(at, how.method, baseline !== undefined) : followFile(at);
    if (decision) outcomes.push({ root, path, area: area.name, sides: at, decision });
  }
  return outcomes;
}

/** Paths at which there may be something to decide: all but those that every side has alike. */
function pathsToDecide({ source, destination, baseline }: Parameters<typeof compareFiles>[2]): Set<ByteString> {
  const paths = new Set<ByteString>();
  for (const [path, state] of source) {
    const others = baseline && [destination, baseline.source, baseline.destination].map((one) => one.get(path));
    if (!others?.every((other) => other && sameFile(state, other))) paths.add(path);
  }
  for (const side of [destination, baseline?.source, baseline?.destination])
    for (const path of side?.keys() ?? []) if (!source.has(path)) paths.add(path);
  return paths;
}

function decideFile(sides: FileSides, method: Method, hasBaseline: boolean): FileDecision | undefined {
  const { source, destination, baseSource, baseDestination } = sides;
  const ownChanged = hasBaseline && !sameFile(destination, baseDestination);
  if (sameFile(source, destination)) {
    const isKnown = sameFile(source, baseSource) && sameFile(destination, baseDestination);
    return hasBaseline && isKnown ? undefined : { is: 'agreed' };
  }
  if (method === 'replace') return { is: 'taken', overwrites: ownChanged, follows: false };
  // Without a baseline a file that only the destination has may be its own, and one that differs may be newer here or there.
  if (!hasBaseline) {
    if (source.type === 'absent') return undefined;
    return destination.type === 'absent' ? { is: 'taken', overwrites: false, follows: false } : { is: 'colliding' };
  }
  if (sameFile(source, baseSource)) return ownChanged ? { is: 'own' } : undefined;
  return ownChanged ? { is: 'colliding' } : { is: 'taken', overwrites: false, follows: false };
}

/** The destination's own test files give way. */
const followFile = ({ source, destination }: FileSides): FileDecision | undefined =>
  sameFile(source, destination) ? undefined : { is: 'taken', overwrites: false, follows: true };
