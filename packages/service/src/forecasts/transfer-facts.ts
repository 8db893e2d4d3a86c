import type { Check, Forecast, ForecastWishes } from '@tessarion/contract';
import type {
  Amounts,
  ByteString,
  Change,
  freshKeysOf,
  ItemCollector,
  MergePlan,
  SchemaChange,
  SentencePiece,
} from '@tessarion/core';
import type { EnvironmentComparison, Standing } from '@tessarion/engine';

/** How two environments are to be brought together. */
export interface TransferWish {
  readonly method: 'merge' | 'replace';
  readonly wishes: ForecastWishes;
  /** A change request is looked at again with the wishes that it had. */
  readonly follows?: boolean;
}

/** The wishes of somebody who has said nothing. */
export const NO_WISHES: ForecastWishes = { only: [], except: [], settlements: {}, rest: null };

/** Of a body, the wishes that it names. */
export const withoutAbsent = (
  wishes: {
    readonly [K in keyof ForecastWishes]?: ForecastWishes[K] | undefined;
  },
): Partial<ForecastWishes> => Object.fromEntries(Object.entries(wishes).filter(([, value]) => value !== undefined));

/** What a transfer would do, as far as the comparison tells. */
export interface TransferFacts {
  readonly direction: 'up' | 'down';
  readonly collector: ItemCollector;
  /** The changes as they would be written; keys that are to be drawn are negative. */
  readonly changes: readonly Change[];
  readonly kept: Amounts;
  /** How the destination's tables are changed before rows are written. */
  readonly schemaChanges: readonly SchemaChange[];
  readonly reshaped: EnvironmentComparison['reshaped'];
  /** Differences of how tables are made about which somebody has decided. */
  readonly decided: readonly string[];
  readonly rewrites: Forecast['rewrites'];
  readonly touched: Forecast['touched'];
  readonly unclassified: Forecast['unclassified'];
  readonly neverMoves: { table: string; because: string }[];
  readonly tasks: Forecast['tasks'];
  readonly checks: Check[];
  readonly sentence: SentencePiece[];
  readonly button: string;
  readonly written: Forecast['written'];
  readonly lost: Forecast['lost'];
  /** Items in which something is still to be settled. */
  readonly unsettled: number;
  /** Items that the destination changed itself since the two last had them in common. */
  readonly news: number;
  /** Tables (by `tableId`) in which an edited value stands, which the database may spell otherwise. */
  readonly editedTables: ReadonlySet<string>;
  readonly fingerprint: string;
  readonly baselineAt: Date | undefined;
  readonly baselineIds: { lower: string; upper: string; lowerManifest: string; upperManifest: string } | undefined;
  /** Fresh keys that must be drawn before {@link plan}. */
  readonly keysToDraw: ReturnType<typeof freshKeysOf>;
  /** A digest of all on record that it was found by: ends, baseline, profile, wishes. */
  readonly basis: string;
  /** Undefined where nobody can prove later that it would be found so again. */
  readonly standing: Standing | undefined;
  plan(drawn: ReadonlyMap<ByteString, ByteString>): WrittenPlan;
}

/** What is written, and what the baselines of both ends become by it. */
export interface WrittenPlan {
  readonly changes: readonly Change[];
  readonly source: readonly Change[];
  /** The same array where both become alike. */
  readonly destination: readonly Change[];
  readonly pairs: MergePlan['pairs'];
  /** How the destination knows items that have another key there, by how the source knows them. */
  readonly namesThere: ReadonlyMap<string, string>;
}
