import type { ByteString } from '../address/place.js';
import { writeLine } from '../rows/copy-text.js';
import { compareKeys, type KeyOrder, type RowKey } from '../rows/keys.js';
import { type RowAtHand, RowCursor } from '../rows/row-cursor.js';
import { decideRow, isSame, type MergeRules, type RowDecision, type RowSides } from './decide-row.js';
import { isFresh, type KeyPair, KeyTranslation } from './key-translation.js';
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

/** A table to compare, and how to read it; `open` may be called more than once. */
export interface TableToCompare {
  readonly table: MergeTable;
  readonly open: () => TableRows;
}

/** A row that is not the same everywhere, and what becomes of it. */
export interface RowOutcome {
  readonly table: MergeTable;
  /** As the source knows it; the destination's where the source has none. */
  readonly sourceKey: RowKey;
  /** As the destination will know it; fresh keys are drawn when it is written. */
  readonly key: RowKey;
  /** Keys of the source's sides translated to the destination's, moved keys of the destination's to their new ones. */
  readonly sides: RowSides;
  /** Every side as it stands. */
  readonly raw: RowSides;
  /** `untouched` only where keys in the row move. */
  readonly decision: Exclude<RowDecision, { is: 'two-things' }>;
}

/** A row that the destination made, changed or deleted itself, or alone has: others may depend on it. */
export interface OwnChange {
  readonly table: MergeTable;
  readonly key: RowKey;
  /** Undefined where the destination deleted it. */
  readonly values: Values | undefined;
  /** It is not as it was when the two last had it in common. */
  readonly isNews: boolean;
}

export interface Lacking {
  readonly table: MergeTable;
  /** As the destination would know it. */
  readonly key: RowKey;
}

export interface Comparison {
  /** By table, the keys at which there was anything to say: the rest is on both sides what it was, and alike. */
  readonly unlike: ReadonlyMap<string, readonly ByteString[] | 'too many'>;
  readonly outcomes: readonly RowOutcome[];
  readonly ownChanges: readonly OwnChange[];
  /** Rows that only the source has, and that the destination does not get, because it deleted them. */
  readonly lacking: readonly Lacking[];
  /** Pairs of keys that were found in this comparison; fresh keys are still to be drawn. */
  readonly found: readonly KeyPair[];
  /** Destination's rows that move to another key (downward only). */
  readonly moved: readonly KeyPair[];
}

/**
 * Compares tables three ways. Rows that both sides made anew are paired by their natural keys; two things under one
 * key are told apart by a fresh one. Tables that hold such keys are then compared once more.
 *
 * @param known pairs of keys from former transfers, from the source to the destination
 * @throws {RowOrderError}
 */
export async function compareTables(
  tables: readonly TableToCompare[],
  merge: MergeRules,
  known: Iterable<KeyPair>,
): Promise<Comparison> {
  const keys = new KeyTranslation('arriving', known);
  const moves = new KeyTranslation('moving');
  const found = new Map<string, KeyPair>();
  const results = new Map<string, TableComparison>();
  let stale = new Set(tables.map(({ table }) => table.id));
  for (let round = 1; stale.size > 0; round++) {
    if (round > MOST_ROUNDS)
      throw new Error(`Keys of ${[...stale].join(', ')} are not told apart after ${round} rounds.`);
    const concerned = new Set<string>();
    for (const { table, open } of tables)
      if (stale.has(table.id)) results.set(table.id, await compareTable(table, open(), merge, keys, moves));
    for (const { table } of tables) {
      if (!stale.has(table.id) || !table.drawsKeys || merge.method === 'replace') continue;
      const pairs = tellApart(table, results.get(table.id) as TableComparison, merge, keys, moves);
      for (const pair of pairs) {
        found.set(`${pair.table} ${pair.from}`, pair);
        concerned.add(pair.table);
      }
      if ((results.get(table.id) as TableComparison).displaced.length > 0) concerned.add(table.id);
    }
    stale = new Set(
      tables.filter(({ table }) => table.uses.some((use) => concerned.has(use.table))).map(({ table }) => table.id),
    );
  }
  const all = [...results.values()];
  return {
    unlike: new Map([...results].map(([id, { unlike }]) => [id, unlike.length > MOST_UNLIKE ? 'too many' : unlike])),
    outcomes: all.flatMap((one) => one.outcomes),
    ownChanges: all.flatMap((one) => one.ownChanges),
    lacking: all.flatMap((one) => one.lacking),
    found: [...found.values()],
    moved: [...moves.pairs()],
  };
}

/** Each round finds new pairs of keys, and rarely needs a third one. */
const MOST_ROUNDS = 1000;

/** More keys than this are not worth remembering: the next comparison reads the table whole. */
const MOST_UNLIKE = 300_000;

interface TableComparison {
  /** Key of a table with one key column; otherwise the whole row's. */
  readonly unlike: ByteString[];
  readonly outcomes: RowOutcome[];
  readonly ownChanges: OwnChange[];
  readonly lacking: Lacking[];
  /** Keys under which both sides made a thing of their own. */
  readonly displaced: {
    readonly source: Values;
    readonly destination: Values;
    readonly sourceKey: ByteString;
    readonly isSourceNew: boolean;
    readonly isDestinationNew: boolean;
  }[];
  /** Rows that only one side has, and that it made anew. */
  readonly newInSource: Map<ByteString, Values>;
  readonly newInDestination: Map<ByteString, Values>;
  /** Keys of rows that the destination lost, and whose key stands for another thing there since. */
  readonly homeless: ByteString[];
}

/** Pairs what is one thing, and gives fresh keys to what is two. @returns the new pairs of keys */
function tellApart(
  table: MergeTable,
  result: TableComparison,
  merge: MergeRules,
  keys: KeyTranslation,
  moves: KeyTranslation,
): KeyPair[] {
  const pairs: KeyPair[] = [];
  const pair = (from: ByteString, to: ByteString): void => {
    keys.pair(table.id, from, to);
    pairs.push({ table: table.id, from, to });
  };
  const renew = (from: ByteString): void => {
    pairs.push({ table: table.id, from, to: keys.renew(table.id, from) });
  };
  const natural = (values: Values): string => JSON.stringify(table.naturalKey.map((i) => values[i] ?? null));
  const waiting = new Map<string, ByteString>();
  if (table.naturalKey.length > 0) {
    for (const [key, values] of result.newInDestination) waiting.set(natural(values), key);
    for (const { destination, isDestinationNew } of result.displaced)
      if (isDestinationNew) waiting.set(natural(destination), keyOf(table, destination)[0] as ByteString);
  }
  const partner = (values: Values): ByteString | undefined => {
    const name = natural(values);
    const key = waiting.get(name);
    waiting.delete(name);
    return key;
  };
  for (const [key, values] of result.newInSource) {
    const other = table.naturalKey.length > 0 ? partner(values) : undefined;
    if (other !== undefined && other !== key) pair(key, other);
    else if (isFresh(keys.translate(table.id, key)) && keys.mapped(table.id, key) === undefined) renew(key);
  }
  for (const key of result.homeless) if (keys.mapped(table.id, key) === undefined) renew(key);
  for (const { source, destination, sourceKey, isSourceNew } of result.displaced) {
    const place = keyOf(table, destination)[0] as ByteString;
    const other = table.naturalKey.length > 0 && isSourceNew ? partner(source) : undefined;
    if (other !== undefined && other !== place) pair(sourceKey, other);
    else {
      // The destination's row stays where another of the source's rows was found to be the same thing.
      if (merge.direction === 'up' || keys.isTaken(table.id, place)) renew(sourceKey);
      else moves.renew(table.id, place);
    }
  }
  return pairs;
}

type Side = keyof RowSides;
const SIDES: readonly Side[] = ['source', 'destination', 'baseSource', 'baseDestination'];

/** A row of one side, its keys translated. */
interface RowOfSide {
  readonly line: ByteString;
  readonly key: RowKey;
  readonly values: Values;
  /** Key and values before keys were translated. */
  readonly ownKey: RowKey;
  readonly raw: Values;
}

type AlignedRow = { [K in Side]?: RowOfSide };

async function compareTable(
  table: MergeTable,
  rows: TableRows,
  merge: MergeRules,
  keys: KeyTranslation,
  moves: KeyTranslation,
): Promise<TableComparison> {
  const result: TableComparison = {
    unlike: [],
    outcomes: [],
    ownChanges: [],
    lacking: [],
    displaced: [],
    newInSource: new Map(),
    newInDestination: new Map(),
    homeless: [],
  };
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
    judge(table, aligned, merge, result);
    for (const one of taken) if (!one.next()) await one.fill();
  }
  for (const key of [...waiting.keys()].sort()) judge(table, waiting.get(key) as AlignedRow, merge, result);
  return result;
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
class PlainRow implements RowOfSide {
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

function judge(table: MergeTable, rows: AlignedRow, merge: MergeRules, result: TableComparison): void {
  const { source, destination, baseSource, baseDestination } = rows;
  // Without a change on either side there is nothing to decide.
  const isMoved =
    destination !== undefined && !(destination instanceof PlainRow) && destination.values !== destination.raw;
  const isAsBefore = source?.line === baseSource?.line && destination?.line === baseDestination?.line && !isMoved;
  if (isAsBefore && source && destination && source.line === destination.line && source instanceof PlainRow) return;
  const areAlike =
    source && destination ? !refersElsewhere(table, source.values, destination.values) : !source && !destination;
  if (!isAsBefore || !areAlike) remember(result, rows);
  if (isAsBefore) {
    if (source && !destination) result.lacking.push({ table, key: source.key });
    if (destination && (!source || refersElsewhere(table, source.values, destination.values)))
      result.ownChanges.push({ table, key: destination.key, values: destination.values, isNews: false });
    const isKept = merge.method === 'merge' || (!source && !destination) || source?.line === destination?.line;
    if (isKept) return;
  }
  const sides = sidesOf(rows, (row) => row.values);
  const raw = sidesOf(rows, (row) => row.raw);
  const decision = decideRow(table, sides, merge);
  if (decision.is === 'two-things') {
    result.displaced.push({
      source: sides.source as Values,
      destination: sides.destination as Values,
      sourceKey: source?.ownKey[0] as ByteString,
      isSourceNew: baseSource === undefined,
      isDestinationNew: baseDestination === undefined,
    });
    return;
  }
  if (table.drawsKeys && !baseSource && !baseDestination) {
    if (source && !destination) result.newInSource.set(source.ownKey[0] as ByteString, source.values);
    if (!source && destination) result.newInDestination.set(destination.ownKey[0] as ByteString, destination.values);
  }
  if (table.drawsKeys && baseSource && source && !destination && isFresh(source.key[0]))
    result.homeless.push(source.ownKey[0] as ByteString);
  const some = (source ?? destination ?? baseSource ?? baseDestination) as RowOfSide;
  if (isOwnChange(table, sides))
    result.ownChanges.push({ table, key: some.key, values: destination?.values, isNews: isNews(table, sides) });
  if (decision.is === 'untouched' && source && !destination) result.lacking.push({ table, key: source.key });
  if (decision.is === 'untouched' && !isMoved) return;
  const sourceKey = (source ?? baseSource ?? some).ownKey;
  result.outcomes.push({ table, sourceKey, key: some.key, sides, raw, decision });
}

function remember({ unlike }: TableComparison, rows: AlignedRow): void {
  if (unlike.length > MOST_UNLIKE) return;
  const keys = SIDES.flatMap((side) => {
    const key = rows[side]?.ownKey;
    return key ? [key.length === 1 ? (key[0] as ByteString) : keyText(key)] : [];
  });
  unlike.push(...new Set(keys));
}

const sidesOf = (rows: AlignedRow, pick: (row: RowOfSide) => Values): RowSides => ({
  source: rows.source && pick(rows.source),
  destination: rows.destination && pick(rows.destination),
  baseSource: rows.baseSource && pick(rows.baseSource),
  baseDestination: rows.baseDestination && pick(rows.baseDestination),
});

/** Whether the destination's row is its own in any way: news, alone there, or referring to something else. */
function isOwnChange(table: MergeTable, sides: RowSides): boolean {
  const { source, destination } = sides;
  if (isNews(table, sides) || (destination && !source)) return true;
  return source !== undefined && destination !== undefined && refersElsewhere(table, source, destination);
}

/** Whether the destination's own work is not what it was when the two last had it in common. */
function isNews(table: MergeTable, { destination, baseDestination }: RowSides): boolean {
  if (!destination || !baseDestination) return destination !== baseDestination;
  return table.rules.columns.some(
    (column, i) => column.class === 'authored' && !isSame(destination[i], baseDestination[i]),
  );
}

/** Whether the two sides' rows refer to different things. */
const refersElsewhere = (table: MergeTable, source: Values, destination: Values): boolean =>
  table.uses.some((use) => source[use.column] !== destination[use.column]);
