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
import { canonicalTable } from '../site/canonical-rows.js';
import type { PackStore } from '../store/pack-store.js';
import { blockList, readImageRanges, readRowImage } from '../store/row-image.js';
import { mergeTable } from './merge-tables.js';
import type { ComparisonPlan, Reshaped } from './plan.js';
import { readAhead } from './read-ahead.js';
import type { ComparedSchemas } from './schemas.js';
import type { SourceSide } from './source-side.js';
import { type TableEnd, whatToRead } from './unlike-records.js';

/** One database of both ends, open for reading. */
export interface DatabaseEnds {
  readonly name: string;
  readonly view: DatabaseView;
  readonly source: SourceSide;
  /** Undefined where the source is a snapshot. */
  readonly schema: ComparedSchemas | undefined;
  readonly reshaped: Reshaped[];
  /** Tables that the destination gets with this transfer. */
  readonly added: TableShape[];
}

/** A table that takes part in a comparison. */
export interface FoundTable extends TableToCompare {
  /** Set where both ends have an image of the table, and can tell what was written since. */
  readonly ends: readonly TableEnd[] | undefined;
}

/** The tables of a database that take part; what is to be said of the others goes into the notes. */
export async function tablesToCompare(plan: ComparisonPlan, ends: DatabaseEnds, notes: Note[]): Promise<FoundTable[]> {
  const { name: database, view, source } = ends;
  const { destination } = plan;
  const { tables } = view.schema;
  const sourceTables = new Map(source.tables().map((table) => [tablePath(table), table]));
  const [moment, sourceMoment] = plan.changes
    ? await Promise.all([view.moment(), source.view?.moment()])
    : [undefined, undefined];
  const found: FoundTable[] = [];
  for (const shape of tables) {
    const other = sourceTables.get(tablePath(shape));
    const one = await tableToCompare(
      plan,
      database,
      { view, moment },
      shape,
      other,
      { ...source, moment: sourceMoment },
      notes,
      ends,
    );
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

async function tableToCompare(
  plan: ComparisonPlan,
  database: string,
  { view, moment }: { readonly view: DatabaseView; readonly moment: ReadingMoment | undefined },
  own: TableShape,
  other: TableShape | undefined,
  source: SourceSide & { readonly moment: ReadingMoment | undefined },
  notes: Note[],
  { schema, reshaped }: DatabaseEnds,
): Promise<FoundTable | undefined> {
  const { destination, baseline, direction, library } = plan;
  const canonical = canonicalTable(destination, view, own, new Rewriter(destination.place));
  const { shape, rules } = canonical;
  const label = calledIn(destination.profile, shape);
  const stored = (side: 'source' | 'destination') =>
    baseline?.[side].databases
      .find((one) => one.name === database)
      ?.tables.find((one) => tablePath(one) === tablePath(shape));
  const isCollected = rules.class === 'collected' && !rules.hasRowGroups;
  if (isCollected && direction === 'up') {
    const rows = await view.countRows(shape);
    const more = baseline ? Math.max(0, rows - (stored('destination')?.rows ?? 0)) : 0;
    notes.push({ type: 'collected', of: shape, table: label, rows, more });
    return undefined;
  }
  if (rules.class === 'unclassified' && direction === 'up') {
    const rows = other ? await source.count(other) : 0;
    const before = stored('source');
    if (rows > 0 && rows !== (before?.contents === 'rows' ? before.rows : 0))
      notes.push({ type: 'unclassified', database, table: label, rows });
  }
  const takesPart = rules.class === 'authored' || rules.hasRowGroups || isCollected;
  if (!takesPart) {
    notes.push({ type: 'never-moves', table: label, because: rules.class });
    return undefined;
  }
  if (baseline?.leftOut.tables.includes(label)) {
    notes.push({ type: 'never-moves', table: label, because: 'left out of the copy' });
    return undefined;
  }
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
      ...shapeOf(shape, other, columns),
      fills: Object.fromEntries(columns.map((column) => [column, fill(column)])),
    });
  const from = 'environment' in plan.source ? plan.source.environment : plan.source.of;
  const paired = (end: 'from' | 'to') =>
    (baseline?.keys ?? []).flatMap((pair) => (pair.table === table.id ? [pair[end]] : []));
  const ends: TableEnd[] | undefined =
    isKnown && source.view
      ? [
          {
            path: from.path,
            view: source.view,
            moment: source.moment,
            shape: other,
            image: images.source as TableManifest,
            paired: paired('from'),
          },
          {
            path: destination.path,
            view,
            moment,
            shape: own,
            image: images.destination as TableManifest,
            paired: paired('to'),
          },
        ]
      : undefined;
  const toRead =
    ends && plan.method === 'merge'
      ? await whatToRead(plan.changes?.tables.get(table.id), library.store, ends, rulesOf(plan, table))
      : 'whole';
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
  return { table, open, ends };
}

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

/** A table that the destination gets with this transfer: all rows of the source's are new. */
function addedTable(plan: ComparisonPlan, ends: DatabaseEnds, shape: TableShape): FoundTable {
  const { destination } = plan;
  const columns = readable(shape).map((column) => column.name);
  const rules = rulesForTable(destination.profile, shape, columns);
  const table = mergeTable(destination, { shape, columns, rules }, plan.baseline !== undefined);
  ends.reshaped.push({ ...shape, columns: readable(shape) });
  const none = { [Symbol.asyncIterator]: () => nothing() };
  return {
    table,
    ends: undefined,
    open: () => ({
      source: { [Symbol.asyncIterator]: () => readAhead(ends.source.rows(shape)[Symbol.asyncIterator]()) },
      destination: none,
      baseline: plan.baseline && { source: none, destination: none },
    }),
  };
}

/** What decides how rows are read and written in canonical form, apart from the rows themselves. */
export const rulesOf = ({ profileVersion, source, destination }: ComparisonPlan, { columns }: MergeTable): string => {
  const from = 'environment' in source ? source.environment : source.of;
  const places = [from, destination].map(({ path, place }) => JSON.stringify([path, place])).sort();
  return createHash('sha256')
    .update([profileVersion, ...places, ...columns].join('\n'))
    .digest('hex');
};

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
