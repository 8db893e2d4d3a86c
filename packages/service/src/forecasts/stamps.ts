import {
  type ByteString,
  columnPlace,
  type ItemRule,
  isPersonalColumn,
  itemForTable,
  type Stamp,
  timeOf,
  toText,
} from '@tessarion/core';
import { type Environment, type EnvironmentComparison, Lookups, titlesOf } from '@tessarion/engine';

type ChangedRule = NonNullable<Extract<ItemRule, { readonly table: string }>['changed']>;

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
export function stampOf(
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

/** Looks up on each end what those are called whom the rows of a comparison name by a key; personal names are left alone. */
export async function stampNames(
  { rows }: Pick<EnvironmentComparison, 'rows'>,
  from: Environment,
  destination: Environment,
): Promise<{ readonly from: StampNames; readonly destination: StampNames }> {
  const { profile } = destination;
  const keys = new Map<string, Set<string>>();
  for (const { table, raw } of rows.outcomes) {
    const rule = itemForTable(profile, table.name)?.changed;
    if (rule?.name === undefined || rule.by === undefined) continue;
    const at = table.columns.indexOf(rule.by);
    const known = keys.get(rule.name) ?? new Set();
    for (const row of [raw.source, raw.destination, raw.baseSource]) {
      const key = row?.[at];
      if (key !== null && key !== undefined) known.add(toText(key));
    }
    keys.set(rule.name, known);
  }
  const lookups = new Lookups();
  const namesOn = async (environment: Environment): Promise<StampNames> => {
    const found = new Map<string, Map<string, string>>();
    for (const [place, wanted] of keys) {
      const { table, column } = columnPlace(place);
      if (isPersonalColumn(profile, table, column)) continue;
      const named = await titlesOf(lookups, environment, { table, title: column }, [...wanted]);
      found.set(place, new Map(named.flatMap(({ titles }) => [...titles])));
    }
    return found;
  };
  try {
    return { from: await namesOn(from), destination: await namesOn(destination) };
  } finally {
    await lookups.close();
  }
}
