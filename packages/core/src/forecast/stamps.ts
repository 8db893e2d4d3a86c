import type { ByteString } from '../address/place.js';
import { timeOf } from '../merge/choice.js';
import type { ItemRule } from '../profile/schema.js';
import { toText } from '../rows/condition.js';
import type { Stamp } from '../transfer/items.js';
/** How an item's rows say who changed them, and when. */
export type ChangedRule = NonNullable<Extract<ItemRule, { readonly table: string }>['changed']>;

/** What those are called whom rows name by a key: by the column with their names, and the key. */
export type StampNames = ReadonlyMap<string, ReadonlyMap<string, string>>;

/** Who changed a row and when, as it says itself. */
export interface RowStamp {
  /** Milliseconds since 1970. */
  readonly at: number | undefined;
  /** All that they are called: what the row holds, and the name behind it. */
  readonly called: readonly string[];
}

/** @param holds what the row holds in a column */
export function rowStamp(
  { at, by, name }: ChangedRule,
  holds: (column: string) => ByteString | null,
  names: StampNames,
): RowStamp {
  const said = (column: string | undefined): string | undefined => {
    const value = column === undefined ? null : holds(column);
    return value === null ? undefined : toText(value);
  };
  const [moment, key] = [said(at), said(by)];
  const time = moment === undefined ? Number.NaN : timeOf(moment);
  const called = key === undefined ? undefined : names.get(name ?? '')?.get(key);
  return {
    at: Number.isNaN(time) ? undefined : time,
    called: [key, called].filter((one) => one !== undefined),
  };
}

/** A stamp for people: by name, where there is one. @param isPersonal whether the row's word for who it was is nobody's to read */
export function shownStamp(stamp: RowStamp | undefined, isPersonal: boolean): Stamp | null {
  const at = stamp?.at === undefined ? null : new Date(stamp.at).toISOString();
  const by = isPersonal ? null : (stamp?.called.at(-1) ?? null);
  return at === null && by === null ? null : { at, by };
}
