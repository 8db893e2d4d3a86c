import type { ByteString } from '../address/place.js';
import type { TableName } from '../table-name.js';
import type { RowOutcome } from './compare-table.js';
import type { RowCollision } from './decide-row.js';

/** The two environments that a transfer is between. */
export type Side = 'source' | 'destination';

/** How a person settled a collision; an edited value stands in canonical form. */
export type Settlement = { readonly take: Side } | { readonly take: 'edited'; readonly value: ByteString | null };

/** Something that is not written before a person or a rule settles it. */
export interface Collision {
  /** Stable over forecasts of the same pair. */
  readonly id: string;
  readonly outcome: RowOutcome;
  /** Position of the column, where the collision is in one cell. */
  readonly column: number | undefined;
  readonly why:
    | { readonly is: 'both-changed' }
    | { readonly is: RowCollision }
    /** Rows of a table that is not merged refer to what would be deleted. */
    | { readonly is: 'referred'; readonly by: TableName; readonly rows: number }
    /** Something that the destination made or changed refers to what would be deleted. */
    | { readonly is: 'referred-by-own'; readonly by: string; readonly key: string }
    /** It refers to something that the destination deleted or does not get. */
    | { readonly is: 'refers-to-gone'; readonly table: string; readonly key: string }
    /** It is a part of something that stays. */
    | { readonly is: 'part-of-kept' }
    /** Another row of the destination has a value that must be unique. */
    | { readonly is: 'taken'; readonly columns: readonly string[]; readonly key: string };
  readonly allowed: readonly Settlement['take'][];
  readonly settled: Settlement | undefined;
}
