import {
  addTo,
  amountOfTable,
  type ByteString,
  type FileOutcome,
  type ItemCollector,
  type ItemOfRow,
  isPersonalColumn,
  type RowOutcome,
  shownValue,
  toBytes,
} from '@tessarion/core';
import {
  type Environment,
  type EnvironmentComparison,
  Lookups,
  MOST_KEYS,
  mentionsOf,
  titlesOf,
  type UsedBy,
  usesOf,
} from '@tessarion/engine';

/** Notes of items what their own rows do not say: what refers to them on the destination, and what they are called. */
export async function noteMore(
  collector: ItemCollector,
  comparison: EnvironmentComparison,
  from: Environment,
  destination: Environment,
  ownerOf: (outcome: RowOutcome) => ItemOfRow,
): Promise<void> {
  const lookups = new Lookups();
  try {
    await noteUses(lookups, collector, comparison, destination, ownerOf);
    await findTitles(lookups, collector, from, destination);
  } finally {
    await lookups.close();
  }
}

/** Notes of each thing that changes on the destination what refers to it there. */
async function noteUses(
  lookups: Lookups,
  collector: ItemCollector,
  comparison: EnvironmentComparison,
  destination: Environment,
  ownerOf: (outcome: RowOutcome) => ItemOfRow,
): Promise<void> {
  const keys = new Map<string, ByteString[]>();
  const items = new Map<string, string>();
  for (const outcome of comparison.rows.outcomes) {
    const { table, sides, decision } = outcome;
    const [own] = outcome.key;
    if (!sides.destination || decision.is === 'untouched' || decision.is === 'agreed' || typeof own !== 'string')
      continue;
    if ((keys.get(table.id)?.length ?? 0) >= MOST_KEYS) continue;
    const owner = ownerOf(outcome);
    if (!owner.isOwner || !collector.items.has(owner.id)) continue;
    addTo(keys, table.id, own);
    items.set(`${table.id} ${own}`, owner.id);
  }
  const note = (id: string, { table, item, rows }: UsedBy): void => {
    const used = collector.items.get(id);
    if (used) used.usedBy = [...used.usedBy, amountOfTable(destination.profile, table, rows, item)];
  };
  for (const { of, by } of await usesOf(lookups, destination, keys)) note(items.get(`${of.table} ${of.key}`) ?? '', by);
  const files = comparison.files.filter(({ sides }) => sides.destination.type === 'file');
  const paths = files.map((one) => one.path);
  for (const { path, by } of await mentionsOf(lookups, destination, paths)) {
    const { root } = files.find((one) => one.path === path) as FileOutcome;
    note(collector.fileItem(root, path).id, by);
  }
}

/** Items of which only parts changed go by their title too: as the source has it, or the destination. */
async function findTitles(
  lookups: Lookups,
  collector: ItemCollector,
  from: Environment,
  destination: Environment,
): Promise<void> {
  for (const rule of destination.profile?.items ?? []) {
    if (!('table' in rule) || isPersonalColumn(destination.profile, rule.table, rule.title)) continue;
    const untitled = [...collector.items.values()].filter((one) => one.isUntitled && one.kind === rule.kind);
    for (const environment of [from, destination]) {
      const keys = untitled.filter((one) => one.isUntitled).map((one) => one.key);
      for (const { table, titles } of await titlesOf(lookups, environment, rule, keys))
        for (const item of untitled) {
          const title = item.id === collector.itemId(table, item.key) ? titles.get(item.key) : undefined;
          if (title === undefined || !item.isUntitled) continue;
          item.title = shownValue(toBytes(title)) ?? item.title;
          item.isUntitled = false;
        }
    }
  }
}
