import { columnPlace, isPersonalColumn, itemForTable, type StampNames, toText } from '@tessarion/core';
import { type Environment, type EnvironmentComparison, Lookups, titlesOf } from '@tessarion/engine';

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
