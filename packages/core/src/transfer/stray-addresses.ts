import type { ByteString } from '../address/place.js';
import { type TableName, tableOf } from '../table-name.js';
import type { Change } from './change.js';

/** An address of another environment in a value that is written: nobody rewrites it. */
export interface StrayAddress {
  readonly table: TableName;
  readonly key: readonly (ByteString | null)[];
  readonly column: string;
  readonly host: string;
}

/**
 * Finds addresses of other environments in what is written to one. The source's own were made tokens when it was read.
 *
 * @param hosts host names with their ports, such as `threadmill--dev.localhost:7400`
 */
export function strayAddresses(changes: Iterable<Change>, hosts: readonly string[]): StrayAddress[] {
  const found: StrayAddress[] = [];
  if (hosts.length === 0) return found;
  for (const change of changes) {
    if (change.part === 'file' || change.op === 'delete') continue;
    const cells: readonly (readonly [string, ByteString | null])[] =
      change.op === 'insert'
        ? Object.entries(change.row)
        : Object.entries(change.cells).map(([name, cell]) => [name, cell.after] as const);
    for (const [column, value] of cells) {
      const host = value === null ? undefined : hosts.find((one) => value.toLowerCase().includes(one));
      if (host !== undefined) found.push({ table: tableOf(change), key: change.key, column, host });
    }
  }
  return found;
}
