import { addTo, type Misfit, tableLabel } from '@tessarion/core';
import type { WrittenRow } from './rows.js';
import type { TableShape } from './shapes.js';

/** How a row is named in messages. */
export const nameOfRow = (shape: TableShape, key: readonly (string | null)[]): string =>
  shape.key.length === 0 ? 'a row' : key.map((value) => value ?? 'null').join(' ');

/** A value as it stands in messages. */
export const shownValue = (value: string): string => (value.length > 60 ? `${value.slice(0, 57)}…` : value);

/** Cells that are longer than their columns, by the position of their row. */
export function misfitsInLength(shape: TableShape, rows: readonly WrittenRow[]): Map<number, Misfit[]> {
  const limits = new Map(
    shape.columns.flatMap((column) => (column.maxLength === undefined ? [] : [[column.name, column.maxLength]])),
  );
  const found = new Map<number, Misfit[]>();
  for (const [i, row] of rows.entries()) {
    for (const [name, value] of Object.entries(row.cells)) {
      const limit = limits.get(name);
      if (limit === undefined || value === null) continue;
      // The server counts characters, and drops spaces at the end that do not fit.
      const length = [...value.trimEnd()].length;
      if (length <= limit) continue;
      const misfit = {
        table: tableLabel(shape),
        key: nameOfRow(shape, row.key),
        what: `${name} would be ${length} characters long and has room for ${limit}: "${shownValue(value)}"`,
      };
      addTo(found, i, misfit);
    }
  }
  return found;
}
