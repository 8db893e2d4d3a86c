import type { Place } from '../address/place.js';
import type { FileOutcome } from '../merge/compare-files.js';
import type { Comparison } from '../merge/compare-tables.js';
import type { MergeRules } from '../merge/decide-row.js';
import type { DestinationFacts } from '../merge/settle.js';
import type { EnvironmentKind, MaskRule, Profile } from '../profile/schema.js';
import type { SchemaDifference } from '../schema/differences.js';
import type { TableName } from '../table-name.js';
/** A column that must be unique, under a mask that gives different people the same value. */
export interface BrokenMask {
  readonly table: string;
  readonly column: string;
  readonly mask: MaskRule;
}

/** A difference, and the database that it stands in. */
export type DatabaseDifference = SchemaDifference & {
  readonly database: string;
  /** `schema.table`. */
  readonly table: string;
};

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
export interface ComparedEnvironments {
  readonly merge: MergeRules;
  readonly rows: Comparison;
  readonly files: readonly FileOutcome[];
  readonly notes: readonly Note[];
  readonly facts: DestinationFacts;
  /** How the tables of both differ. */
  readonly schema: readonly DatabaseDifference[];
  /** Triggers of the destination's tables, by {@link tableId}. */
  readonly triggers: ReadonlyMap<string, readonly string[]>;
}

/** An end of a forecast, as far as its words go. */
export interface ForecastEnd {
  /** `site/name`. */
  readonly path: string;
  readonly site: string;
  readonly name: string;
  readonly kind: EnvironmentKind;
  readonly place: Place;
  readonly profile: Profile | undefined;
  /** Values of the profile's settings there. */
  readonly settings: ReadonlyMap<string, string>;
}
