import type { ByteString } from '../address/place.js';
import type { Collision } from './collision.js';
import type { RowOutcome } from './compare-table.js';
import { arriving, type CellOutcome, classOfCell, classOfRow, type MergeRules, type RowSides } from './decide-row.js';
import type { MergeTable, Values } from './merge-table.js';

/** Values that an outcome writes, the others null. */
export function writtenValues({ table, sides, decision }: RowOutcome): Values | undefined {
  switch (decision.is) {
    case 'inserted':
      return decision.values;
    case 'colliding':
      return sides.source;
    case 'updated': {
      const values: (ByteString | null)[] = table.columns.map(() => null);
      for (const cell of decision.cells) if (cell.is !== 'agreed') values[cell.column] = cell.value;
      return table.uses.some((use) => use.when) ? withConditions(table, values, sides.source) : values;
    }
    case 'agreed':
    case 'deleted':
    case 'untouched':
      return undefined;
  }
}

/** Cells that say what kind of reference a row holds are needed beside the reference. */
function withConditions(
  table: MergeTable,
  written: readonly (ByteString | null)[],
  source: Values | undefined,
): Values {
  const references = new Set(table.uses.map((use) => use.column));
  return written.map((value, i) => value ?? (references.has(i) ? null : (source?.[i] ?? null)));
}

/** The destination's row after an outcome was written; undefined where there is none. */
export function rowAfter(
  outcome: RowOutcome,
  decision: RowOutcome['decision'],
  sides: RowSides,
  merge: MergeRules,
  collisions: readonly Collision[],
): Values | undefined {
  const whole = collisions.filter((one) => one.column === undefined);
  if (whole.some((one) => one.settled?.take === 'destination')) {
    if (decision.is !== 'updated' || classOfRow(outcome.table.rules, sides) !== 'authored') return sides.destination;
    const isReference = (column: number): boolean => outcome.table.uses.some((use) => use.column === column);
    const following = decision.cells.filter((cell) => cell.is === 'taken' && cell.follows && !isReference(cell.column));
    return withCells(following, sides.destination as Values, []);
  }
  switch (decision.is) {
    case 'inserted':
      return decision.values;
    case 'deleted':
      return undefined;
    case 'agreed':
    case 'untouched':
      return sides.destination;
    case 'colliding':
      if (whole.some((one) => !one.settled)) return sides.destination;
      return sides.source && overwritten(outcome.table, sides, merge);
    case 'updated':
      return withCells(decision.cells, sides.destination as Values, collisions);
  }
}

/** The source's authored cells over the destination's row. */
function overwritten(table: MergeTable, sides: RowSides, merge: MergeRules): Values {
  const source = arriving(table, sides.source as Values, merge);
  const { destination } = sides;
  if (!destination) return source;
  const rowClass = classOfRow(table.rules, sides);
  return destination.map((value, i) => {
    const column = table.rules.columns[i];
    return column && classOfCell(column, table.rules, rowClass) === 'authored' ? (source[i] ?? null) : value;
  });
}

function withCells(cells: readonly CellOutcome[], row: Values, collisions: readonly Collision[]): Values {
  const after = [...row];
  for (const cell of cells) {
    if (cell.is === 'agreed') continue;
    if (cell.is === 'taken') {
      after[cell.column] = cell.value;
      continue;
    }
    const settled = collisions.find((one) => one.column === cell.column)?.settled;
    if (settled?.take === 'source') after[cell.column] = cell.value;
    if (settled?.take === 'edited') after[cell.column] = settled.value;
  }
  return after;
}
