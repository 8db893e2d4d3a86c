import { createHash } from 'node:crypto';
import {
  type ByteString,
  calledIn,
  type DatabaseDifference,
  type KeyRange,
  type MergeTable,
  type Note,
  projection,
  Rewriter,
  rulesForTable,
  type TableManifest,
  type TableRows,
  type TableToCompare,
  tablePath,
} from '@tessarion/core';
import type { DatabaseView, ReadingMoment } from '../ports/database.js';
import { readable, type TableShape } from '../ports/shapes.js';
import { type CanonicalTable, canonicalTable } from '../site/canonical-rows.js';
import type { PackStore } from '../store/pack-store.js';
import { blockList, readImageRanges, readRowImage } from '../store/row-image.js';
import { mergeTable } from './merge-tables.js';
import { type ComparisonPlan, placesOf, type Reshaped } from './plan.js';
import { readAhead } from './read-ahead.js';
import type { ComparedSchemas } from './schemas.js';
import type { SourceSide } from './source-side.js';
import { type Reading, type TableEnd, whatToRead } from './unlike-records.js';

/** One database of both ends, open for reading. */
export interface DatabaseEnds {
  readonly name: string;
  readonly view: DatabaseView;
  readonly source: SourceSide;
  /** When both were read; undefined where nobody can tell later what was written since. */
  readonly moments: { readonly own: ReadingMoment | undefined; readonly source: ReadingMoment | undefined };
  /** Undefined where the source is a snapshot. */
  readonly schema: ComparedSchemas | undefined;
  readonly reshaped: Reshaped[];
  /** Tables of the source that nobody has classified, and how many rows they have. */
  readonly counted: ReadTable[];
  /** Tables that the destination gets with this transfer. */
  readonly added: TableShape[];
}

/** A table that takes part in a comparison. */
export interface FoundTable extends TableToCompare {
  /** Set where both ends have an image of the table, and can tell what was written since. */
  readonly ends: readonly TableEnd[] | undefined;
  /** Where its rows are read, source first; a snapshot's are not, for they stay what they are. */
  readonly read: readonly ReadTable[];
}

/** A table of one end that a comparison goes by. */
export interface ReadTable {
  readonly environment: string;
  readonly view: DatabaseView;
  readonly shape: TableShape;
  /** How many rows it has; undefined where that is not known by then. */
  readonly rows: number | undefined;
}

/** The tables of a database that take part; what is to be said of the others goes into the notes. */
export async function tablesToCompare(plan: ComparisonPlan, ends: DatabaseEnds, notes: Note[]): Promise<FoundTable[]> {
  const { name: database, view, source } = ends;
  const { destination } = plan;
  const { tables } = view.schema;
  const sourceTables = new Map(source.tables().map((table) => [tablePath(table), table]));
  const found: FoundTable[] = [];
  for (const shape of tables) {
    const other = sourceTables.get(tablePath(shape));
    const one = await tableToCompare(plan, ends, shape, other, notes);
    if (one) found.push(one);
  }
  for (const table of sourceTables.values()) {
    if (tables.some((shape) => tablePath(shape) === tablePath(table))) continue;
    const label = calledIn(destination.profile, table);
    const { class: of } = rulesForTable(destination.profile, table, []);
    if (of === 'unclassified' && plan.direction === 'up') {
      const rows = await source.count(table);
      if (rows > 0) notes.push({ type: 'unclassified', database, table: label, rows });
    }
    if (of !== 'authored') continue;
    if (!ends.schema) notes.push({ type: 'schema', table: label, message: `only the source has the table ${label}` });
    else if (plan.takes.has(`schema:${label}`)) {
      ends.added.push(table);
      found.push(addedTable(plan, ends, table));
    }
  }
  return found;
}

/** What the baseline's snapshots hold of a table. */
type Stored = (side: 'source' | 'destination') => TableManifest | undefined;

/** Whether a table's rows are compared; what is to be said of it besides, or instead, goes into the notes. */
async function takesPart(
  plan: ComparisonPlan,
  { name: database, view, source, counted }: DatabaseEnds,
  { shape, rules }: CanonicalTable,
  other: TableShape | undefined,
  stored: Stored,
  notes: Note[],
): Promise<boolean> {
  const { destination, baseline, direction } = plan;
  const label = calledIn(destination.profile, shape);
  const isCollected = rules.class === 'collected' && !rules.hasRowGroups;
  if (isCollected && direction === 'up') {
    const rows = await view.countRows(shape);
    const more = baseline ? Math.max(0, rows - (stored('destination')?.rows ?? 0)) : 0;
    notes.push({ type: 'collected', of: shape, table: label, rows, more });
    return false;
  }
  if (rules.class === 'unclassified' && direction === 'up') {
    const rows = other ? await source.count(other) : 0;
    if (other && source.view) counted.push({ environment: sourceOf(plan), view: source.view, shape: other, rows });
    const before = stored('source');
    if (rows > 0 && rows !== (before?.contents === 'rows' ? before.rows : 0))
      notes.push({ type: 'unclassified', database, table: label, rows });
  }
  const isLeftOut = baseline?.leftOut.tables.includes(label);
  const isOfClass = rules.class === 'authored' || rules.hasRowGroups || isCollected;
  if (isOfClass && !isLeftOut) return true;
  notes.push({ type: 'never-moves', table: label, because: isOfClass ? 'left out of the copy' : rules.class });
  return false;
}

async function tableToCompare(
  plan: ComparisonPlan,
  databaseEnds: DatabaseEnds,
  own: TableShape,
  other: TableShape | undefined,
  notes: Note[],
): Promise<FoundTable | undefined> {
  const { destination, baseline, library } = plan;
  const { name: database, view, source, moments, schema, reshaped } = databaseEnds;
  const canonical = canonicalTable(destination, view, own, new Rewriter(destination.place));
  const { shape } = canonical;
  const label = calledIn(destination.profile, shape);
  const stored: Stored = (side) =>
    baseline?.[side].databases
      .find((one) => one.name === database)
      ?.tables.find((one) => tablePath(one) === tablePath(shape));
  if (!(await takesPart(plan, databaseEnds, canonical, other, stored, notes))) return undefined;
  if (!other) {
    if (!schema) notes.push({ type: 'schema', table: label, message: `only the destination has the table ${label}` });
    // A table of the destination's own; what the source had of it is gone there, and stays here.
    else notes.push({ type: 'never-moves', table: label, because: 'only the destination has it' });
    return undefined;
  }
  const names = (one: TableShape): string => one.columns.map((column) => `${column.name} ${column.type}`).join(', ');
  if (!schema && names(other) !== names(shape)) {
    notes.push({ type: 'schema', table: label, message: `the columns of ${label} differ` });
    return undefined;
  }
  const differences = schema?.differences.filter((one) => one.table === tablePath(shape)) ?? [];
  const columns = columnsToCompare(canonical.columns, other, differences, plan.takes);
  const lost = shape.key.filter((name) => !columns.includes(name));
  if (lost.length > 0 || other.key.join() !== own.key.join()) {
    notes.push({ type: 'schema', table: label, message: `the rows of ${label} are told apart by other columns` });
    return undefined;
  }
  const images = { source: stored('source'), destination: stored('destination') };
  const isKnown = images.source?.contents === 'rows' && images.destination?.contents === 'rows';
  const table = mergeTable(
    destination,
    columns.join('\n') === canonical.columns.join('\n')
      ? canonical
      : { shape, columns, rules: rulesForTable(destination.profile, shape, columns) },
    isKnown,
  );
  const fill = (column: string): ByteString | null => schema?.fill(tablePath(shape), column) ?? null;
  const into = (from: readonly string[]) => projection(from, columns, fill);
  const imageColumns = (image: TableManifest | undefined): string[] =>
    (image?.columns ?? []).filter((column) => !column.generated).map((column) => column.name);
  if ([images.source, images.destination].some((one) => one && into(imageColumns(one))))
    reshaped.push({
      ...imageShape(shapeOf(shape, other, columns)),
      fills: Object.fromEntries(columns.map((column) => [column, fill(column)])),
    });
  const ends = isKnown
    ? endsOf(plan, table.id, view, source.view, [
        { moment: moments.source, shape: other, image: images.source as TableManifest },
        { moment: moments.own, shape: own, image: images.destination as TableManifest },
      ])
    : undefined;
  const { toRead, rows }: Reading =
    ends && plan.method === 'merge'
      ? await whatToRead(plan.changes?.tables.get(table.id), library.store, ends, rulesOf(plan, table))
      : { toRead: 'whole', rows: [] };
  const image = (side: 'source' | 'destination'): AsyncIterable<ByteString> => ({
    [Symbol.asyncIterator]: () =>
      readAhead(
        toRead === 'whole'
          ? projected(readRowImage(library.store, images[side]), into(imageColumns(images[side])))
          : projected(
              imageWithin(
                library.store,
                images[side],
                imageColumns(images[side]).indexOf(shape.key[0] as string),
                toRead,
              ),
              into(imageColumns(images[side])),
            ),
      ),
  });
  const open = (): TableRows => {
    const ofSource = image('source');
    const isOne = images.source?.blocks === images.destination?.blocks;
    const ranges = toRead === 'whole' ? undefined : toRead;
    const live = (rows: () => AsyncIterable<ByteString>): AsyncIterable<ByteString> => ({
      [Symbol.asyncIterator]: () => (ranges?.length === 0 ? nothing() : readAhead(rows()[Symbol.asyncIterator]())),
    });
    return {
      source: live(() => projected(source.rows(other, ranges), into(readable(other).map((one) => one.name)))),
      destination: live(() => projected(canonical.rows(ranges), into(canonical.columns))),
      baseline: isKnown ? { source: ofSource, destination: isOne ? ofSource : image('destination') } : undefined,
    };
  };
  const read = [
    ...(source.view ? [{ environment: sourceOf(plan), view: source.view, shape: other, rows: rows[0] }] : []),
    { environment: destination.path, view, shape: own, rows: rows[1] },
  ];
  return { table, open, ends, read };
}

const sourceOf = ({ source }: ComparisonPlan): string =>
  'environment' in source ? source.environment.path : source.of.path;

/** Both ends of a table, where the source can tell what was written since. */
function endsOf(
  { source, destination, baseline }: ComparisonPlan,
  table: string,
  view: DatabaseView,
  sourceView: DatabaseView | undefined,
  [first, second]: readonly [OfEnd, OfEnd],
): TableEnd[] | undefined {
  if (!sourceView) return undefined;
  const from = 'environment' in source ? source.environment : source.of;
  const paired = (end: 'from' | 'to') =>
    (baseline?.keys ?? []).flatMap((pair) => (pair.table === table ? [pair[end]] : []));
  return [
    { ...first, path: from.path, view: sourceView, paired: paired('from') },
    { ...second, path: destination.path, view, paired: paired('to') },
  ];
}

type OfEnd = Pick<TableEnd, 'moment' | 'shape' | 'image'>;

/** The columns in which rows are compared: those that both have alike, and those that the destination gets. */
function columnsToCompare(
  own: readonly string[],
  other: TableShape,
  differences: readonly DatabaseDifference[],
  takes: ReadonlySet<string>,
): string[] {
  const theirs = new Map(readable(other).map((column) => [column.name, column]));
  const unlike = new Set(
    differences
      .filter((one) => one.what === 'column' && one.is === 'unlike' && !one.isReadAlike)
      .map((one) => one.name),
  );
  const added = differences.filter(
    (one) => one.what === 'column' && one.is === 'added' && one.canTake && takes.has(one.id),
  );
  return [
    ...own.filter((name) => theirs.has(name) && !unlike.has(name)),
    ...added.map((one) => one.name).filter((name) => theirs.has(name)),
  ];
}

/** The shape of rows in the columns in which they are compared. */
const shapeOf = (own: TableShape, other: TableShape, columns: readonly string[]): TableShape => ({
  ...own,
  columns: columns.flatMap((name) => [...own.columns, ...other.columns].find((column) => column.name === name) ?? []),
});

/** A table as images hold it. */
const imageShape = ({ database, schema, name, columns, key, keyOrders }: TableShape): Reshaped => ({
  database,
  schema,
  name,
  columns: columns.map(({ name, type, generated }) => ({ name, type, generated })),
  key,
  keyOrders,
});

/** A table that the destination gets with this transfer: all rows of the source's are new. */
function addedTable(plan: ComparisonPlan, ends: DatabaseEnds, shape: TableShape): FoundTable {
  const { destination } = plan;
  const columns = readable(shape).map((column) => column.name);
  const rules = rulesForTable(destination.profile, shape, columns);
  const table = mergeTable(destination, { shape, columns, rules }, plan.baseline !== undefined);
  ends.reshaped.push(imageShape({ ...shape, columns: readable(shape) }));
  const none = { [Symbol.asyncIterator]: () => nothing() };
  return {
    table,
    ends: undefined,
    read: ends.source.view ? [{ environment: sourceOf(plan), view: ends.source.view, shape, rows: undefined }] : [],
    open: () => ({
      source: { [Symbol.asyncIterator]: () => readAhead(ends.source.rows(shape)[Symbol.asyncIterator]()) },
      destination: none,
      baseline: plan.baseline && { source: none, destination: none },
    }),
  };
}

/** What decides how rows are read and written in canonical form, apart from the rows themselves. */
export const rulesOf = (plan: ComparisonPlan, { columns }: MergeTable): string =>
  createHash('sha256')
    .update([plan.profileVersion, ...placesOf(plan), ...columns].join('\n'))
    .digest('hex');

async function* projected(
  rows: AsyncIterable<ByteString>,
  project: ((lines: ByteString) => ByteString) | undefined,
): AsyncGenerator<ByteString> {
  if (!project) yield* rows;
  else for await (const batch of rows) yield project(batch);
}

async function* nothing(): AsyncGenerator<ByteString> {}

/** Rows of an image in some ranges of its key. */
async function* imageWithin(
  store: PackStore,
  image: TableManifest | undefined,
  keyColumn: number,
  ranges: readonly KeyRange[],
): AsyncGenerator<ByteString> {
  if (ranges.length > 0) yield* readImageRanges(store, await blockList(store, image), keyColumn, ranges);
}
