import {
  type ByteString,
  compareFiles,
  type DataClass,
  type FileOutcome,
  Rewriter,
  type SnapshotManifest,
  toBytes,
} from '@tessarion/core';
import { areasOf, type Environment } from '../site/environment.js';
import type { LeftOut } from '../site/left-out.js';
import { type HashMemory, listFiles } from '../site/list-root.js';
import { readListing } from '../store/read-tree.js';
import { mergeTexts } from './merge-texts.js';
import type { ComparisonPlan } from './plan.js';

/** Compares one root of both ends three ways. */
export async function compareRoot(plan: ComparisonPlan, root: string): Promise<FileOutcome[]> {
  const { destination, source, baseline } = plan;
  const areas = areasOf(destination.profile);
  // Uploads of visitors come down with the rows that name them.
  const classes: ReadonlySet<DataClass> = new Set(plan.direction === 'down' ? ['authored', 'collected'] : ['authored']);
  const stored = async (manifest: SnapshotManifest) => {
    const tree = manifest.roots.find((one) => one.name === root);
    return tree ? readListing(plan.library.store, tree) : new Map();
  };
  const listed = (environment: Environment, memory: HashMemory | undefined) =>
    listFiles(environment, root, new Rewriter(environment.place), memory, plan.profileVersion, classes);
  const isLeftOut = (path: ByteString): boolean => {
    const below = (folder: string): boolean => path === toBytes(folder) || path.startsWith(`${toBytes(folder)}/`);
    const { paths, areas: names }: LeftOut = baseline?.leftOut ?? { tables: [], paths: [], areas: [] };
    return paths.some(below) || areas.some((area) => names.includes(area.name) && below(area.path));
  };
  const treeOf = (manifest: SnapshotManifest) => manifest.roots.find((one) => one.name === root)?.tree;
  const isOneTree = baseline && treeOf(baseline.source) === treeOf(baseline.destination);
  const [ofDestination, ofSource, before] = await Promise.all([
    listed(destination, plan.memories.destination),
    'snapshot' in source ? stored(source.snapshot) : listed(source.environment, plan.memories.source),
    baseline && stored(baseline.source),
  ]);
  const outcomes = compareFiles(
    root,
    areas,
    {
      destination: ofDestination,
      source: ofSource,
      baseline: baseline &&
        before && { source: before, destination: isOneTree ? before : await stored(baseline.destination) },
    },
    { method: plan.method, classes },
    isLeftOut,
  );
  // A push from a snapshot replaces, and merges nothing.
  return 'snapshot' in source ? outcomes : mergeTexts(plan.library.store, source.environment, destination, outcomes);
}
