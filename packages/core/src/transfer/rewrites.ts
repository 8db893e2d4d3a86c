import { MARKER } from '../address/token.js';
import { type TableName, tableOf } from '../table-name.js';
import type { Change } from './change.js';

/** How many addresses, folders and settings are written in a column with the destination's own. */
export interface Rewrites {
  readonly table: TableName;
  readonly column: string;
  readonly count: number;
}

/** Counts what is rewritten in the values that are written, by table and column. */
export function countRewrites(changes: Iterable<Change>): Rewrites[] {
  const counts = new Map<string, Rewrites>();
  for (const change of changes) {
    if (change.part === 'file' || change.op === 'delete') continue;
    const values =
      change.op === 'insert'
        ? Object.entries(change.row)
        : Object.entries(change.cells).map(([name, cell]) => [name, cell.after] as const);
    for (const [column, value] of values) {
      const count = (value?.split(MARKER).length ?? 1) - 1;
      if (count === 0) continue;
      const at = `${change.database}/${change.table} ${column}`;
      counts.set(at, { table: tableOf(change), column, count: (counts.get(at)?.count ?? 0) + count });
    }
  }
  return [...counts.values()].sort((a, b) => b.count - a.count);
}
