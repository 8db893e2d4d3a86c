import type { ByteString } from '../address/place.js';
import { plain } from '../address/rewriter.js';
import { MARKER } from '../address/token.js';
import { readLine, writeLine } from '../rows/copy-text.js';
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

/** An image of a table: what an environment holds, or what a baseline remembers of it. */
export type Side = keyof RowSides;
/** Every {@link Side}, in the order in which rows of one key are read. */
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
  const spellings = new Spellings(table, meet);
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
    spellings.meet(aligned);
    for (const one of taken) if (!one.next()) await one.fill();
  }
  for (const key of [...waiting.keys()].sort()) spellings.meet(waiting.get(key) as AlignedRow);
  spellings.end();
}

/**
 * Lets rows meet whose keys hold an address of the site in another spelling: what an environment's own address makes of
 * a capital letter, another scheme or a default port reads differently there, and is the same thing.
 */
class Spellings {
  /** Rows that one end lacks, by their key without spellings. */
  readonly #waiting = new Map<string, AlignedRow[]>();
  readonly #mayDiffer: boolean;

  constructor(
    readonly table: MergeTable,
    readonly then: (rows: AlignedRow) => void,
  ) {
    this.#mayDiffer = table.key.length === 0 || table.keyOrders.includes('bytes');
  }

  meet(rows: AlignedRow): void {
    const key = this.#mayDiffer && !(rows.source && rows.destination) ? someOf(rows).key : undefined;
    if (!key?.some((one) => one?.includes(MARKER))) {
      this.then(rows);
      return;
    }
    const at = keyText(key.map((one) => one && plain(one)));
    const alike = this.#waiting.get(at) ?? [];
    this.#waiting.set(at, alike);
    const other = alike.findIndex((one) => SIDES.every((side) => !(one[side] && rows[side])));
    if (other === -1) alike.push(rows);
    else alike[other] = { ...alike[other], ...rows };
  }

  end(): void {
    for (const at of [...this.#waiting.keys()].sort())
      for (const rows of this.#waiting.get(at) as AlignedRow[]) this.then(this.#alike(rows));
  }

  /** The destination's spelling is that of the row. */
  #alike(rows: AlignedRow): AlignedRow {
    const { key } = rows.destination ?? rows.baseDestination ?? someOf(rows);
    const spelled = (row: RowOfSide | undefined): RowOfSide | undefined => {
      if (!row || keyText(row.key) === keyText(key)) return row;
      const { line, ownKey, raw } = row;
      return { line, ownKey, raw, key, values: spelledAs(this.table, row.values, key) };
    };
    return Object.fromEntries(SIDES.flatMap((side) => (rows[side] ? [[side, spelled(rows[side])]] : [])));
  }
}

const someOf = (rows: AlignedRow): RowOfSide =>
  (rows.destination ?? rows.source ?? rows.baseDestination ?? rows.baseSource) as RowOfSide;

/** A row whose key is spelled as another one that says the same. */
export function spelledAs(table: MergeTable, values: Values, key: RowKey): Values {
  if (table.key.length === 0) return readLine(key[0] as ByteString);
  const spelled = [...values];
  for (const [i, name] of table.key.entries()) {
    const at = table.columns.indexOf(name);
    const [own, other] = [values[at], key[i]];
    if (own && other && own !== other && plain(own) === plain(other)) spelled[at] = other;
  }
  return spelled;
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
