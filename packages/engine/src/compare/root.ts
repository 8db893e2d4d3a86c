import { createHash } from 'node:crypto';
import {
  type AreaRule,
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
import { type HashMemory, type ListedFiles, listFiles } from '../site/list-root.js';
import { Listings } from '../site/root-reader.js';
import { readListing } from '../store/read-tree.js';
import { mergeTexts } from './merge-texts.js';
import { type ComparisonPlan, placesOf } from './plan.js';
import { digestOf, type RootStanding } from './standing.js';
import type { RootRecord } from './unlike-records.js';

/** What was found of one root. */
export interface ComparedRoot {
  readonly files: FileOutcome[];
  readonly standing: RootStanding[];
}

/** Compares one root of both ends three ways. */
export async function compareRoot(plan: ComparisonPlan, root: string): Promise<ComparedRoot> {
  const { destination, source, baseline } = plan;
  // Uploads of visitors come down with the rows that name them.
  const classes: ReadonlySet<DataClass> = new Set(plan.direction === 'down' ? ['authored', 'collected'] : ['authored']);
  const running = 'snapshot' in source ? [destination] : [destination, source.environment];
  const listings = new Map(running.map((one) => [one, new Listings(one.server)]));
  const rules = rootRules(plan, root, classes);
  const record = plan.changes?.roots.get(root);
  if (record?.rules === rules && (await areStill(record, listings)))
    return { files: [], standing: running.map((one) => standingOf(one, root, classes, record)) };

  const stored = async (manifest: SnapshotManifest) => {
    const tree = manifest.roots.find((one) => one.name === root);
    return tree ? readListing(plan.library.store, tree) : new Map();
  };
  const found = new Map<Environment, ListedFiles>();
  const listed = async (environment: Environment, memory: HashMemory | undefined) => {
    const rewriter = new Rewriter(environment.place);
    const own = listings.get(environment);
    const one = await listFiles(environment, root, rewriter, memory, plan.profileVersion, classes, own);
    found.set(environment, one);
    return one.files;
  };
  const isOneTree = baseline && treeOf(baseline.source, root) === treeOf(baseline.destination, root);
  const [ofDestination, ofSource, before] = await Promise.all([
    listed(destination, plan.memories.destination),
    'snapshot' in source ? stored(source.snapshot) : listed(source.environment, plan.memories.source),
    baseline && stored(baseline.source),
  ]);
  const areas = areasOf(destination.profile);
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
    (path) => isLeftOut(areas, baseline?.leftOut, path),
  );
  // A push from a snapshot replaces, and merges nothing.
  const files =
    'snapshot' in source ? outcomes : await mergeTexts(plan.library.store, source.environment, destination, outcomes);
  const news = files.length === 0 && !('snapshot' in source) ? newRootRecord(rules, found) : undefined;
  if (news) plan.changes?.roots.set(root, news);
  else plan.changes?.roots.delete(root);
  const standing = [...found].map(([environment, { entries, folders, young, files }]) => ({
    environment: environment.path,
    root,
    classes,
    folders,
    entries: digestOf(entries),
    young: new Map(young.map((path) => [path, files.get(path) ?? ({ type: 'absent' } as const)])),
  }));
  return { files, standing };
}

const treeOf = (manifest: SnapshotManifest, root: string): string | undefined =>
  manifest.roots.find((one) => one.name === root)?.tree;

function isLeftOut(areas: readonly AreaRule[], leftOut: LeftOut | undefined, path: ByteString): boolean {
  const below = (folder: string): boolean => path === toBytes(folder) || path.startsWith(`${toBytes(folder)}/`);
  const { paths, areas: names }: Pick<LeftOut, 'paths' | 'areas'> = leftOut ?? { paths: [], areas: [] };
  return paths.some(below) || areas.some((area) => names.includes(area.name) && below(area.path));
}

/** What decides what is found of a root, apart from what its folders hold. */
function rootRules(plan: ComparisonPlan, root: string, classes: ReadonlySet<DataClass>): string {
  const { baseline } = plan;
  const trees = baseline ? [treeOf(baseline.source, root), treeOf(baseline.destination, root), baseline.leftOut] : [];
  return createHash('sha256')
    .update(JSON.stringify([plan.profileVersion, placesOf(plan), plan.method, [...classes], trees]))
    .digest('hex');
}

async function areStill({ ends }: RootRecord, listings: ReadonlyMap<Environment, Listings>): Promise<boolean> {
  const found = await Promise.all(
    [...listings].map(async ([{ path }, own]) => {
      const marks = ends[path];
      return marks !== undefined && (await own.areMarked(Object.entries(marks)));
    }),
  );
  return !found.includes(false);
}

const standingOf = (
  { path }: Environment,
  root: string,
  classes: ReadonlySet<DataClass>,
  { ends }: RootRecord,
): RootStanding => ({
  environment: path,
  root,
  classes,
  folders: new Map(Object.entries(ends[path] ?? {})),
  entries: undefined,
  young: new Map(),
});

/** Undefined where a file may still change without another mark. */
function newRootRecord(rules: string, found: ReadonlyMap<Environment, ListedFiles>): RootRecord | undefined {
  if ([...found.values()].some(({ young }) => young.length > 0)) return undefined;
  const ends = [...found].map(([{ path }, { folders }]) => [path, Object.fromEntries(folders)] as const);
  return { rules, ends: Object.fromEntries(ends) };
}
