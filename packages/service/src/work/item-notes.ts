import {
  type ByteString,
  type FileOutcome,
  type ItemCollector,
  isPersonalColumn,
  type RowOutcome,
  shownValue,
  toBytes,
} from '@tessarion/core';
import { type Environment, type EnvironmentComparison, Lookups, mentionsOf, titlesOf, usesOf } from '@tessarion/engine';
import { amountOfTable } from './amounts.js';
import { profileTable } from './forecast-checks.js';

/** A row by which its item is found: as the source knows it, where it knows it. */
export function rowOf({ table, raw }: RowOutcome): Record<string, ByteString | null> {
  const values = raw.source ?? raw.baseSource ?? raw.destination ?? [];
  return Object.fromEntries(table.columns.map((name, i) => [name, values[i] ?? null]));
}

/** Notes of items what their own rows do not say: what refers to them on the destination, and what they are called. */
export async function noteMore(
  collector: ItemCollector,
  comparison: EnvironmentComparison,
  from: Environment,
  destination: Environment,
): Promise<void> {
  const lookups = new Lookups();
  try {
    await noteUses(lookups, collector, comparison, destination);
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
): Promise<void> {
  const keys = new Map<string, Map<string, ByteString[]>>();
  const items = new Map<string, string>();
  for (const outcome of comparison.rows.outcomes) {
    const { table, sourceKey, sides, decision } = outcome;
    const [own] = outcome.key;
    if (!sides.destination || decision.is === 'untouched' || decision.is === 'agreed' || typeof own !== 'string')
      continue;
    const owner = collector.ownerOf(profileTable(table.table), sourceKey, rowOf(outcome));
    if (!owner.isOwner || !collector.items.has(owner.id)) continue;
    const tables = keys.get(table.database) ?? new Map<string, ByteString[]>();
    keys.set(table.database, tables);
    const known = tables.get(table.table);
    if (known) known.push(own);
    else tables.set(table.table, [own]);
    items.set(`${table.table} ${own}`, owner.id);
  }
  for (const [database, wanted] of keys)
    for (const { of, by, rows } of await usesOf(lookups, destination, database, wanted)) {
      const item = collector.items.get(items.get(`${of.table} ${of.key}`) ?? '');
      if (item) item.usedBy = [...item.usedBy, amountOfTable(destination.profile, by, rows)];
    }
  const files = comparison.files.filter(({ sides }) => sides.destination.type === 'file');
  for (const { name } of destination.databases)
    for (const { path, by, rows } of await mentionsOf(
      lookups,
      destination,
      name,
      files.map((one) => one.path),
    )) {
      const { root } = files.find((one) => one.path === path) as FileOutcome;
      const item = collector.items.get(collector.fileItem(root, path).id);
      if (item) item.usedBy = [...item.usedBy, amountOfTable(destination.profile, by, rows)];
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
    for (const environment of [from, destination])
      for (const { name } of environment.databases) {
        const keys = untitled.filter((one) => one.isUntitled).map((one) => one.key);
        const titles = await titlesOf(lookups, environment, name, rule, keys);
        for (const item of untitled) {
          const title = titles.get(item.key);
          if (title === undefined || !item.isUntitled) continue;
          item.title = shownValue(toBytes(title)) ?? item.title;
          item.isUntitled = false;
        }
      }
  }
}
