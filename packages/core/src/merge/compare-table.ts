import type { ByteString } from '../address/place.js';
import type { RowKey } from '../rows/keys.js';
import {
  type AlignedRow,
  alignSides,
  PlainRow,
  type RowOfSide,
  SIDES,
  type Side,
  type TableRows,
} from './align-sides.js';
import { decideRow, isSame, type MergeRules, type RowDecision, type RowSides } from './decide-row.js';
import { isFresh, type KeyTranslation } from './key-translation.js';
import { keyText, type MergeTable, type Values } from './merge-table.js';

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

/** A row that only the source has, because the destination deleted it. */
export interface Lacking {
  readonly table: MergeTable;
  /** As the destination would know it. */
  readonly key: RowKey;
}

/** More keys than this are not worth remembering: the next comparison reads the table whole. */
export const MOST_UNLIKE = 300_000;

/** What was found in one table, before what both sides made under one key is told apart. */
export interface TableComparison {
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

/** Compares one table three ways. @throws {RowOrderError} */
export async function compareTable(
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
  await alignSides(table, rows, keys, moves, (aligned) => judge(table, aligned, merge, result));
  return result;
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
  const raw = rawSides(rows);
  const sides = SIDES.some((side) => rows[side] && rows[side].values !== rows[side].raw)
    ? asTranslated(rows, raw)
    : raw;
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
  const from = unlike.length;
  for (const side of SIDES) {
    const key = rows[side]?.ownKey;
    if (!key) continue;
    const text = key.length === 1 ? (key[0] as ByteString) : keyText(key);
    if (!unlike.includes(text, from)) unlike.push(text);
  }
}

/** Every side as it stands. What stands in several of them alike is held once, and told at a glance to be the same. */
function rawSides(rows: AlignedRow): RowSides {
  const baseSource = rows.baseSource?.raw;
  const baseDestination = alike(rows.baseDestination, rows.baseSource, baseSource);
  const destination = alike(rows.destination, rows.baseDestination, baseDestination);
  const source =
    rows.baseSource === undefined
      ? alike(rows.source, rows.destination, destination)
      : alike(rows.source, rows.baseSource, baseSource);
  return { source, destination, baseSource, baseDestination };
}

/** The values of a row; those that another row holds too are that one's. */
function alike(
  row: RowOfSide | undefined,
  other: RowOfSide | undefined,
  known: Values | undefined,
): Values | undefined {
  if (!row || !other || !known) return row?.raw;
  if (row === other || (row instanceof PlainRow && other instanceof PlainRow && row.line === other.line)) return known;
  const { raw } = row;
  return raw.map((value, i) => (value === known[i] ? (known[i] as ByteString | null) : value));
}

/** Every side in the destination's keys; one in which none is translated is as it stands. */
function asTranslated(rows: AlignedRow, raw: RowSides): RowSides {
  const of = (side: Side): Values | undefined => {
    const row = rows[side];
    return row && row.values !== row.raw ? row.values : raw[side];
  };
  return {
    source: of('source'),
    destination: of('destination'),
    baseSource: of('baseSource'),
    baseDestination: of('baseDestination'),
  };
}

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
