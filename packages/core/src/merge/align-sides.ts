import type { ByteString } from '../address/place.js';
import { writeLine } from '../rows/copy-text.js';
import { compareKeys, type KeyOrder, type RowKey } from '../rows/keys.js';
import { type RowAtHand, RowCursor } from '../rows/row-cursor.js';
import type { RowSides } from './decide-row.js';
import { isFresh, type KeyTranslation } from './key-translation.js';
import { type KeyUse, keyOf, keyText, type MergeTable, type Values } from './merge-table.js';

/**
 * Rows of one table from up to four sides, each in key order and canonical form, as batches of whole lines. Both
 * images may be the same object; it can be iterated more than once then.
 */
export interface TableRows {
  readonly source: AsyncIterable<ByteString>;
  readonly destination: AsyncIterable<ByteString>;
  readonly baseline:
    | { readonly source: AsyncIterable<ByteString>; readonly destination: AsyncIterable<ByteString> }
    | undefined;
}

export type Side = keyof RowSides;
export const SIDES: readonly Side[] = ['source', 'destination', 'baseSource', 'baseDestination'];

/** A row of one side, its keys translated. */
export interface RowOfSide {
  readonly line: ByteString;
  readonly key: RowKey;
  readonly values: Values;
  /** Key and values before keys were translated. */
  readonly ownKey: RowKey;
  readonly raw: Values;
}

/** The rows that the sides have under one key. */
export type AlignedRow = { [K in Side]?: RowOfSide };

/**
 * Walks the sides of a table together, and lets the rows that have one key meet.
 *
 * @param keys translates keys of the source's sides to the destination's
 * @param moves translates keys of the destination's rows that move
 * @param meet called once for each key
 * @throws {RowOrderError}
 */
export async function alignSides(
  table: MergeTable,
  rows: TableRows,
  keys: KeyTranslation,
  moves: KeyTranslation,
  meet: (rows: AlignedRow) => void,
): Promise<void> {
  const orders = table.key.length === 0 ? (['bytes'] as const) : table.keyOrders;
  const waiting = new Map<string, AlignedRow>();
  const lines = {
    source: rows.source,
    destination: rows.destination,
    baseSource: rows.baseline?.source,
    baseDestination: rows.baseline?.destination,
  };
  // Where both images are one, as they are wherever nothing is masked, it is read once.
  const isOneImage =
    rows.baseline !== undefined &&
    rows.baseline.source === rows.baseline.destination &&
    !table.uses.some((use) => keys.concerns(use.table) || moves.concerns(use.table));
  const cursors = SIDES.flatMap((side) => {
    if (side === 'baseDestination' && isOneImage) return [];
    const own = lines[side];
    const translation = side === 'source' || side === 'baseSource' ? keys : moves;
    return own ? [new SideCursor(side, table, own, orders, translation, keys, moves, waiting)] : [];
  });
  for (const one of cursors) if (!one.next()) await one.fill();
  for (;;) {
    let lowest: RowKey | undefined;
    for (const { row } of cursors) if (row && (!lowest || compareKeys(row.key, lowest, orders) < 0)) lowest = row.key;
    if (!lowest) break;
    const aligned: AlignedRow = {};
    const taken: SideCursor[] = [];
    for (const one of cursors) {
      if (!one.row || compareKeys(one.row.key, lowest, orders) !== 0) continue;
      aligned[one.side] = one.row;
      taken.push(one);
    }
    if (isOneImage && aligned.baseSource) aligned.baseDestination = aligned.baseSource;
    meet(aligned);
    for (const one of taken) if (!one.next()) await one.fill();
  }
  for (const key of [...waiting.keys()].sort()) meet(waiting.get(key) as AlignedRow);
}

/**
 * Walks the rows of one side. Rows whose keys are translated do not come in order; they, and those they may meet, wait
 * until the end.
 */
class SideCursor {
  readonly #cursor: RowCursor;
  readonly #keyUses: readonly KeyUse[];
  /** Whether any key in this side's rows is translated, and whether any side's is. */
  readonly #isActive: boolean;
  readonly #mayWait: boolean;
  row: RowOfSide | undefined;

  constructor(
    readonly side: Side,
    readonly table: MergeTable,
    lines: AsyncIterable<ByteString>,
    orders: readonly KeyOrder[],
    readonly translation: KeyTranslation,
    readonly keys: KeyTranslation,
    moves: KeyTranslation,
    readonly waiting: Map<string, AlignedRow>,
  ) {
    const keyColumns = table.key.map((name) => table.columns.indexOf(name));
    this.#cursor = new RowCursor(lines, keyColumns, orders);
    this.#keyUses = table.uses.filter((use) => keyColumns.includes(use.column));
    this.#isActive = table.uses.some((use) => translation.concerns(use.table));
    this.#mayWait = table.uses.some((use) => keys.concerns(use.table) || moves.concerns(use.table));
  }

  /** Moves to the next row that comes in order without waiting; false when {@link fill} must be awaited. */
  next(): boolean {
    while (this.#cursor.next()) if (this.#take()) return true;
    return false;
  }

  async fill(): Promise<void> {
    for (;;) {
      await this.#cursor.fill();
      if (!this.#cursor.current) {
        this.row = undefined;
        return;
      }
      if (this.#take() || this.next()) return;
    }
  }

  /** Takes the row at hand, or lets it wait. */
  #take(): boolean {
    const current = this.#cursor.current as RowAtHand;
    if (!this.#mayWait) {
      this.row = new PlainRow(current);
      return true;
    }
    const { table, translation } = this;
    const values = this.#isActive ? translation.row(table, current.values) : current.values;
    const row: RowOfSide = {
      line: current.line,
      key: current.key,
      values,
      ownKey: current.key,
      raw: current.values,
    };
    if (table.key.length === 0) {
      if (values === current.values) {
        this.row = row;
        return true;
      }
      const line = writeLine(values);
      park(this.waiting, this.side, { ...row, line, key: [line] });
      return false;
    }
    const key = keyOf(table, values);
    if (this.#meetsTranslated(values) || keyText(key) !== keyText(current.key)) {
      park(this.waiting, this.side, { ...row, key });
      return false;
    }
    this.row = row;
    return true;
  }

  #meetsTranslated(values: Values): boolean {
    return this.#keyUses.some((use) => {
      const value = values[use.column] ?? null;
      return value !== null && (this.keys.isTaken(use.table, value) || isFresh(value));
    });
  }
}

/** A row whose keys are the same on both sides; its values are read only when they are asked for. */
export class PlainRow implements RowOfSide {
  constructor(readonly at: RowAtHand) {}
  get line(): ByteString {
    return this.at.line;
  }
  get key(): RowKey {
    return this.at.key;
  }
  get ownKey(): RowKey {
    return this.at.key;
  }
  get values(): Values {
    return this.at.values;
  }
  get raw(): Values {
    return this.at.values;
  }
}

/** Rows that are alike in every way count each for themselves. */
function park(waiting: Map<string, AlignedRow>, side: Side, row: RowOfSide): void {
  for (let copy = 0; ; copy++) {
    const at = `${keyText(row.key)}${copy === 0 ? '' : ` ${copy}`}`;
    const known = waiting.get(at) ?? {};
    if (known[side]) continue;
    known[side] = row;
    waiting.set(at, known);
    return;
  }
}
