import type { OwnChange, RowOutcome } from '../merge/compare-table.js';
import type { MergeTable } from '../merge/merge-table.js';
import type { MergePlan } from '../merge/plan-merge.js';
import { itemForTable } from '../profile/item-rules.js';
import { calledIn } from '../profile/named-tables.js';
import type { Profile } from '../profile/schema.js';
import type { TableName } from '../table-name.js';
import { type ItemCollector, pluralOf } from '../transfer/items.js';
import type { ComparedEnvironments } from './comparison.js';

/** What visitors made on the destination since the two last had things in common. */
export const collectedAmounts = ({ notes }: ComparedEnvironments, profile: Profile | undefined): Amounts =>
  notes.flatMap((note) =>
    note.type === 'collected' && note.more > 0 ? [amountOfTable(profile, note.of, note.more)] : [],
  );

/** The item that a row of the destination's own belongs to. */
function ownerOf(collector: ItemCollector, { table, key, values }: OwnChange): { id: string; kind: string } {
  return collector.ownerOf(table.name, key, (column) => values?.[table.columns.indexOf(column)]);
}

const isOwnNews = ({ table, isNews }: OwnChange): boolean => isNews && table.rules.class !== 'collected';

/** How many items the destination changed itself. */
export function countNews({ rows, files }: ComparedEnvironments, collector: ItemCollector): number {
  const items = new Set<string>();
  for (const own of rows.ownChanges) if (isOwnNews(own)) items.add(ownerOf(collector, own).id);
  for (const { root, path, decision } of files)
    if (decision.is === 'own' || decision.is === 'colliding') items.add(collector.fileItem(root, path).id);
  return items.size;
}

/** What the copy made or changed itself, and keeps. */
export function ownWork(
  { rows, files }: ComparedEnvironments,
  collector: ItemCollector,
  profile: Profile | undefined,
): Amounts {
  const items = new Map<string, string>();
  for (const own of rows.ownChanges) {
    if (!isOwnNews(own)) continue;
    const { id, kind } = ownerOf(collector, own);
    const change = collector.items.get(id);
    if (change?.outcome !== 'written' || change.change !== 'deleted') items.set(id, kind);
  }
  for (const { root, path, decision } of files) {
    const { id, kind } = collector.fileItem(root, path);
    if (decision.is === 'own') items.set(id, kind);
  }
  const counts = new Map<string, number>();
  for (const kind of items.values()) counts.set(kind, (counts.get(kind) ?? 0) + 1);
  return [...counts].map(([kind, count]) => ({ count, kind, plural: pluralOf(profile, kind) }));
}

/** What visitors made or changed, on its way down. */
export function followedAmounts(
  { files }: ComparedEnvironments,
  plan: MergePlan,
  isFollowing: (outcome: RowOutcome) => boolean,
  profile: Profile | undefined,
): Amounts {
  const rows = new Map<MergeTable, number>();
  const areas = new Map<string, number>();
  let counts = 0;
  for (const { outcome } of plan.changes) {
    if (!isFollowing(outcome)) continue;
    const { table } = outcome;
    if (table.rules.class === 'collected') rows.set(table, (rows.get(table) ?? 0) + 1);
    else counts++;
  }
  for (const { area, decision } of files)
    if (decision.is === 'taken' && decision.follows) areas.set(area, (areas.get(area) ?? 0) + 1);
  const all = [...rows].map(([table, count]) => amountOfTable(profile, table.name, count));
  const titled = all.filter((one) => !one.kind.startsWith('row of '));
  const uploads = [...areas].map(([area, count]) => ({ count, kind: `file of ${area}`, plural: `files of ${area}` }));
  const changed = counts > 0 ? [{ count: counts, kind: 'count', plural: 'counts' }] : [];
  return [...(titled.length > 0 ? titled : all), ...uploads, ...changed];
}

/** Rows of a table, by the kind of item that they are where they are one. @param item what they are parts of, where it is counted instead */
export function amountOfTable(
  profile: Profile | undefined,
  table: TableName,
  count: number,
  item = itemForTable(profile, table),
): { count: number; kind: string; plural: string } {
  if (item) return { count, kind: item.kind, plural: pluralOf(profile, item.kind) };
  const called = calledIn(profile, table);
  return { count, kind: `row of ${called}`, plural: `rows of ${called}` };
}

/** Amounts of a forecast, by kind. */
export type Amounts = { count: number; kind: string; plural: string }[];
