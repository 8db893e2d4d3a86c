import type { ByteString } from '../address/place.js';
import { addTo } from '../multimap.js';
import type { RowKey } from '../rows/keys.js';
import { cellIn, type RowChange, valueIn } from '../transfer/change.js';
import type { OwnChange } from './compare-table.js';
import { isSame } from './decide-row.js';
import { keysIn } from './key-uses.js';
import { keyOf, keyText, type MergeTable, type Values } from './merge-table.js';

/**
 * The rows that a transfer wrote to one table, as the taking back of it sees them: a merge whose source is what they
 * were before it, whose baseline is what it made of them, and whose destination is what they are now.
 */
export interface FormerRows {
  readonly source: readonly Values[];
  readonly baseline: readonly Values[];
  readonly destination: readonly Values[];
  /** Changes to rows that are gone since: nobody knows the rest of what they held. */
  readonly gone: readonly RowChange[];
}

/**
 * @param columns of the table as it is now; what a change says of others is passed over
 * @param changes as they turned out when they were written
 * @param current the row that stands under a key now; of a table without a key all that are alike
 */
export function formerRows(
  columns: readonly string[],
  isKeyed: boolean,
  changes: readonly RowChange[],
  current: (key: RowKey) => readonly Values[],
): FormerRows {
  const rows = {
    source: [] as Values[],
    baseline: [] as Values[],
    destination: [] as Values[],
    gone: [] as RowChange[],
  };
  const valuesOf = (row: Readonly<Record<string, ByteString | null>>): Values =>
    columns.map((name) => valueIn(row, name) ?? null);
  if (!isKeyed) {
    for (const alike of groupAlike(changes)) {
      const [change] = alike as [RowChange];
      if (change.op === 'update') continue;
      // Rows that are alike cannot be told apart: as many go, or come, as the transfer wrote.
      const now = current(change.key);
      rows.destination.push(...now);
      rows.baseline.push(...now);
      if (change.op === 'insert') rows.source.push(...now.slice(0, Math.max(0, now.length - alike.length)));
      else rows.source.push(...now, ...alike.map(() => valuesOf(change.row)));
    }
    return rows;
  }
  for (const change of changes) {
    const [now] = current(change.key);
    if (now) rows.destination.push(now);
    if (change.op === 'insert') rows.baseline.push(valuesOf(change.row));
    else if (change.op === 'delete') rows.source.push(valuesOf(change.row));
    else if (!now) rows.gone.push(change);
    else {
      const turned = (side: 'before' | 'after'): Values =>
        now.map((value, i) => {
          const cell = cellIn(change, columns[i] as string);
          return cell ? cell[side] : value;
        });
      rows.source.push(turned('before'));
      rows.baseline.push(turned('after'));
    }
  }
  return rows;
}

/**
 * Rows of one table that refer to something which the transfer made: where they still do after the undo, it stays.
 *
 * @param made keys that the transfer made, by {@link MergeTable.id}
 */
export function referringRows(
  table: MergeTable,
  { destination }: FormerRows,
  made: ReadonlyMap<string, ReadonlySet<ByteString>>,
): OwnChange[] {
  if (table.key.length === 0 || table.rules.class !== 'authored') return [];
  return destination.flatMap((values) => {
    const key = keyOf(table, values);
    const others = [...keysIn(table, values)].filter((one) => !(one.table === table.id && one.key === key[0]));
    return others.some((one) => made.get(one.table)?.has(one.key)) ? [{ table, key, values, isNews: false }] : [];
  });
}

/**
 * Rows of one table that do not hold back what the transfer made, since the undo deletes them or lets them refer to
 * something else again.
 */
export function leavingRows(
  table: MergeTable,
  { source, baseline }: FormerRows,
  made: ReadonlyMap<string, ReadonlySet<ByteString>>,
): RowKey[] {
  if (table.key.length === 0) return [];
  const former = new Map(source.map((values) => [keyText(keyOf(table, values)), values]));
  return baseline.flatMap((values) => {
    const key = keyOf(table, values);
    const was = former.get(keyText(key));
    return was && [...keysIn(table, was)].some((one) => made.get(one.table)?.has(one.key)) ? [] : [key];
  });
}

function groupAlike(changes: readonly RowChange[]): RowChange[][] {
  const groups = new Map<string, RowChange[]>();
  for (const change of changes) {
    const at = `${change.op} ${keyText(change.key)}`;
    addTo(groups, at, change);
  }
  return [...groups.values()];
}

/**
 * What a row of a baseline's image becomes when a transfer is taken back: what was taken back is as it was in the image
 * before the transfer, all else stays as it is now. Where the whole transfer is taken back, so is what it only settled:
 * whoever takes it back because they settled wrongly is asked again.
 *
 * @param undone what the undo wrote to the row; undefined where the transfer had written nothing to it either
 * @param former the image's row before the transfer
 * @param made what the transfer made of the image's row
 * @param now the image's row now, which later transfers may have moved on
 */
export function imageRowAfterUndo(
  columns: readonly string[],
  undone: RowChange | undefined,
  former: Values | undefined,
  made: Values | undefined,
  now: Values | undefined,
  isWhole = false,
): Values | undefined {
  if (undone && (undone.op !== 'update' || !former || !now)) return former;
  if (!made) return now ?? former;
  if (!now) return undefined;
  if (!former) return now.every((value, i) => isSame(value, made[i])) ? undefined : now;
  const isTaken = (i: number): boolean =>
    isWhole || (undone !== undefined && cellIn(undone, columns[i] as string) !== undefined);
  return now.map((value, i) => (isTaken(i) && isSame(value, made[i]) ? (former[i] ?? null) : value));
}
