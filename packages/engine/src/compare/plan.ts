import type {
  Comparison,
  DestinationFacts,
  FileOutcome,
  KeyPair,
  MergeRules,
  SchemaDifference,
  SnapshotManifest,
  TableName,
} from '@tessarion/core';
import type { TableShape } from '../ports/shapes.js';
import type { Environment } from '../site/environment.js';
import type { LeftOut } from '../site/left-out.js';
import type { HashMemory } from '../site/list-root.js';
import type { SnapshotLibrary } from '../store/library.js';
import type { BrokenMask } from './broken-masks.js';
import type { ChangeRecords } from './unlike-records.js';

/** A difference, and the database that it stands in. */
export type DatabaseDifference = SchemaDifference & {
  readonly database: string;
  /** `schema.table`. */
  readonly table: string;
};

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

/** What a comparison says beside what changed. */
export type Note =
  /** Rows of a collected table that the destination holds, and how many more than at the baseline. */
  | {
      readonly type: 'collected';
      readonly of: TableName;
      readonly table: string;
      readonly rows: number;
      readonly more: number;
    }
  | { readonly type: 'never-moves'; readonly table: string; readonly because: string }
  | { readonly type: 'unclassified'; readonly database: string; readonly table: string; readonly rows: number }
  | { readonly type: 'schema'; readonly table: string; readonly message: string }
  /** On the way down: a mask under which unique values would meet. */
  | { readonly type: 'mask'; readonly broken: BrokenMask }
  /** A reference of the profile that leads to nothing. */
  | { readonly type: 'reference'; readonly from: string; readonly to: string; readonly missing: string };

/** Everything that two environments differ in. */
export interface EnvironmentComparison {
  readonly merge: MergeRules;
  readonly rows: Comparison;
  readonly files: readonly FileOutcome[];
  readonly notes: readonly Note[];
  readonly facts: DestinationFacts;
  /** How the tables of both differ. */
  readonly schema: readonly DatabaseDifference[];
  /** Tables whose rows were compared in other columns than an image of the baseline has. */
  readonly reshaped: readonly Reshaped[];
  /** Triggers of the destination's tables, by {@link tableId}. */
  readonly triggers: ReadonlyMap<string, readonly string[]>;
}

/** How a table's image looks from now on, and what its rows hold in columns that they did not have. */
export type Reshaped = TableShape & {
  readonly fills?: Readonly<Record<string, string | null>>;
};
