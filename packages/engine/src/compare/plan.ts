import type {
  ComparedEnvironments,
  KeyOrder,
  KeyPair,
  MergeRules,
  SnapshotManifest,
  TableManifest,
  TableName,
} from '@tessarion/core';
import type { Environment } from '../site/environment.js';
import type { LeftOut } from '../site/left-out.js';
import type { HashMemory } from '../site/list-root.js';
import type { SnapshotLibrary } from '../store/library.js';
import type { Standing } from './standing.js';
import type { ChangeRecords } from './unlike-records.js';

/** What two environments had when they last had things in common. */
export interface Baseline {
  readonly source: SnapshotManifest;
  readonly destination: SnapshotManifest;
  readonly leftOut: LeftOut;
  /** Rows that the two know by different keys. */
  readonly keys: readonly KeyPair[];
  /** Taken over from another environment, whose masked values are not the source's. */
  readonly isDerived: boolean;
  /** Differences of how tables are made that somebody has decided about. */
  readonly seen: ReadonlySet<string>;
}

/** The source of a comparison: a running environment, or one of its snapshots. */
export type TransferSource =
  | { readonly environment: Environment }
  | { readonly snapshot: SnapshotManifest; readonly of: Environment };

/** What is compared with what, and what is known already. */
export interface ComparisonPlan {
  readonly source: TransferSource;
  readonly destination: Environment;
  readonly baseline: Baseline | undefined;
  readonly library: SnapshotLibrary;
  readonly memories: { readonly source: HashMemory | undefined; readonly destination: HashMemory | undefined };
  /** What was found unlike before; undefined to read everything. */
  readonly changes: ChangeRecords | undefined;
  readonly profileVersion: string;
  readonly method: MergeRules['method'];
  readonly direction: MergeRules['direction'];
  readonly mask: MergeRules['mask'];
  /** Differences of how tables are made, by id, that the destination is to take over. */
  readonly takes: ReadonlySet<string>;
}

/** The ends of a comparison, as far as it decides how rows and files are read; in one order whichever way it goes. */
export function placesOf({ source, destination }: Pick<ComparisonPlan, 'source' | 'destination'>): string[] {
  const from = 'environment' in source ? source.environment : source.of;
  return [from, destination].map(({ path, place }) => JSON.stringify([path, place])).sort();
}

/** How a table's image looks from now on, and what its rows hold in columns that they did not have. */
export interface Reshaped extends TableName {
  readonly columns: readonly Readonly<TableManifest['columns'][number]>[];
  readonly key: readonly string[];
  readonly keyOrders: readonly KeyOrder[];
  readonly fills?: Readonly<Record<string, string | null>>;
}

/** Everything that two environments differ in, and how the images of tables look from now on. */
export interface EnvironmentComparison extends ComparedEnvironments {
  /** Tables whose rows were compared in other columns than an image of the baseline has. */
  readonly reshaped: readonly Reshaped[];
  /** Undefined where nobody can prove later that it would be found so again. */
  readonly standing: Standing | undefined;
}
