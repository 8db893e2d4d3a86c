import { createHash } from 'node:crypto';
import {
  type ByteString,
  type Comparison,
  compareFiles,
  compareTables,
  type DataClass,
  type DestinationFacts,
  type FileOutcome,
  type KeyPair,
  type KeyRange,
  type MergeRules,
  type MergeTable,
  type Profile,
  projection,
  Rewriter,
  rulesForTable,
  type SnapshotManifest,
  type TableManifest,
  type TableRows,
  type TableToCompare,
  toBytes,
} from '@tessarion/core';
import type { PackStore } from '../blobs/pack-store.js';
import { PostgresView, readable } from '../database/postgres-view.js';
import {
  type DatabaseLogin,
  type DatabaseView,
  fullName,
  profileName,
  type ReadingMoment,
  type SchemaShape,
  type TableShape,
} from '../database/site-database.js';
import { canonicalTable } from '../environment/canonical-rows.js';
import { areasOf, type Environment } from '../environment/environment.js';
import { type HashMemory, listFiles } from '../environment/list-root.js';
import type { SnapshotLibrary } from '../snapshot/library.js';
import { readListing } from '../snapshot/read-tree.js';
import { blockList, readImageRanges, readRowImage } from '../snapshot/row-image.js';
import { type BrokenMask, masksThatBreak } from './broken-masks.js';
import type { LeftOut } from './build-copy.js';
import { type ChangeRecords, newRecord, type TableEnd, whatToRead } from './change-records.js';
import { type ComparedSchemas, compareSchemas, type DatabaseDifference } from './compare-schemas.js';
import { askDestination } from './destination-facts.js';
import { describeUses, mergeTable } from './merge-tables.js';
import { mergeTexts } from './merge-texts.js';
import { readAhead } from './read-ahead.js';

/** What two environments had when they last had things in common. */
export interface Baseline {
  readonly source: SnapshotManifest;
  readonly destination: SnapshotManifest;
  readonly leftOut: LeftOut;
  /** Rows that the two know by different keys. */
  readonly keys: readonly KeyPair[];
  /** Taken over from another environment, whose masked values are not the source's. */
  readonly isDerived: boolean;
  /** Differences of how tables are made that somebody has decided about. */
  readonly seen: ReadonlySet<string>;
}

/** The source of a comparison: a running environment, or one of its snapshots. */
export type TransferSource =
  | { readonly environment: Environment }
  | { readonly snapshot: SnapshotManifest; readonly of: Environment };

export interface ComparisonPlan {
  readonly source: TransferSource;
  readonly destination: Environment;
  readonly baseline: Baseline | undefined;
  readonly library: SnapshotLibrary;
  readonly memories: { readonly source: HashMemory | undefined; readonly destination: HashMemory | undefined };
  /** What was found unlike before; undefined to read everything. */
  readonly changes: ChangeRecords | undefined;
  readonly profileVersion: string;
  readonly method: MergeRules['method'];
  readonly direction: MergeRules['direction'];
  readonly mask: MergeRules['mask'];
  /** Differences of how tables are made, by id, that the destination is to take over. */
  readonly takes: ReadonlySet<string>;
}

/** What a comparison says beside what changed. */
export type Note =
  /** Rows of a collected table that the destination holds, and how many more than at the baseline. */
  | { readonly type: 'collected'; readonly table: string; readonly rows: number; readonly more: number }
  | { readonly type: 'never-moves'; readonly table: string; readonly because: string }
  | { readonly type: 'unclassified'; readonly database: string; readonly table: string; readonly rows: number }
  | { readonly type: 'schema'; readonly table: string; readonly message: string }
  /** On the way down: a mask under which unique values would meet. */
  | { readonly type: 'mask'; readonly broken: BrokenMask }
  /** A reference of the profile that leads to nothing. */
  | { readonly type: 'reference'; readonly from: string; readonly to: string; readonly missing: string };

/** Everything that two environments differ in. */
export interface EnvironmentComparison {
  readonly merge: MergeRules;
  readonly rows: Comparison;
  readonly files: readonly FileOutcome[];
  readonly notes: readonly Note[];
  readonly facts: DestinationFacts;
  /** How the tables of both differ. */
  readonly schema: readonly DatabaseDifference[];
  /** Tables whose rows were compared in other columns than an image of the baseline has. */
  readonly reshaped: readonly Reshaped[];
  /** Triggers of the destination's tables, by `schema.table`. */
  readonly triggers: ReadonlyMap<string, readonly string[]>;
}

/** Compares two environments three ways: database by database, then root by root. Read only. */
export async function compareEnvironments(plan: ComparisonPlan): Promise<EnvironmentComparison> {
  const { method, direction, mask, destination } = plan;
  const merge: MergeRules = { method, direction, mask, keepsMasked: plan.baseline?.isDerived === true };
  const notes: Note[] = [];
  const ends: DatabaseEnds[] = [];
  try {
    for (const database of destination.databases) ends.push(await openEnds(plan, database.name, database.login));
    notes.push(...lostReferences(destination.profile, ends));
    if (direction === 'down')
      for (const { name, login, view } of ends) {
        const broken = await masksThatBreak(login, view.schema, destination.profile, name);
        notes.push(...broken.map((one) => ({ type: 'mask', broken: one }) as const));
      }
    // Files are listed after the databases' views are open, so that what rows name is there; and while servers count.
    const work = [compareDatabases(plan, merge, ends, notes), compareRoots(plan)] as const;
    await Promise.allSettled(work);
    const [rows, files] = await Promise.all(work);
    const schemas = new Map(ends.map(({ name, view }) => [name, view.schema]));
    const schema = ends.flatMap((one) => one.schema?.differences ?? []);
    const reshaped = ends.flatMap((one) => one.reshaped);
    const triggers = triggersOf(schemas.values());
    const facts = askDestination(destination, schemas, direction);
    return { merge, rows, files, notes, facts, schema, reshaped, triggers };
  } finally {
    for (const { view, source } of ends) await Promise.all([view.close(), source.close()]);
  }
}

export const triggersOf = (schemas: Iterable<SchemaShape>): Map<string, readonly string[]> =>
  new Map([...schemas].flatMap(({ tables }) => tables.map((one) => [fullName(one), one.rowTriggers] as const)));

/** References of the profile from tables that are there, out of or into columns that are not. */
function lostReferences(profile: Profile | undefined, ends: readonly DatabaseEnds[]): Note[] {
  const tables = new Map(ends.flatMap(({ view }) => view.schema.tables.map((one) => [profileName(one), one] as const)));
  const isThere = (column: string): boolean => {
    const [table, name] = column.split('.') as [string, string];
    return tables.get(table)?.columns.some((one) => one.name === name) === true;
  };
  return (profile?.references ?? []).flatMap(({ from, to }): Note[] => {
    if (!tables.has(from.split('.')[0] as string)) return [];
    const missing = [from, to].find((column) => !isThere(column));
    return missing === undefined ? [] : [{ type: 'reference', from, to, missing }];
  });
}

/** One database of both ends, open for reading. */
interface DatabaseEnds {
  readonly name: string;
  readonly login: DatabaseLogin;
  readonly view: DatabaseView;
  readonly source: SourceSide;
  /** Undefined where the source is a snapshot. */
  readonly schema: ComparedSchemas | undefined;
  readonly reshaped: Reshaped[];
}

/** How a table's image looks from now on, and what its rows hold in columns that they did not have. */
export type Reshaped = TableShape & {
  readonly database: string;
  readonly fills?: Readonly<Record<string, string | null>>;
};

async function openEnds(plan: ComparisonPlan, name: string, login: DatabaseLogin): Promise<DatabaseEnds> {
  const [view, source] = await Promise.allSettled([PostgresView.open(login), openSource(plan, name)]);
  if (view.status === 'fulfilled' && source.status === 'fulfilled') {
    const { environment } = 'environment' in plan.source ? plan.source : { environment: undefined };
    const theirs = environment?.databases.find((one) => one.name === name)?.login;
    const schema =
      theirs &&
      (await compareSchemas(plan, name, { login: theirs, tables: source.value.tables() }, { login, view: view.value }));
    return { name, login, view: view.value, source: source.value, schema, reshaped: [] };
  }
  for (const one of [view, source]) if (one.status === 'fulfilled') await one.value.close();
  throw view.status === 'rejected' ? view.reason : (source as PromiseRejectedResult).reason;
}

async function compareDatabases(
  plan: ComparisonPlan,
  merge: MergeRules,
  ends: readonly DatabaseEnds[],
  notes: Note[],
): Promise<Comparison> {
  const tables: FoundTable[] = [];
  for (const one of ends) tables.push(...(await tablesToCompare(plan, one, notes)));
  const rows = await compareTables(tables, merge, plan.baseline?.keys ?? []);
  for (const { table, ends } of tables) {
    const record = ends && newRecord(ends, rulesOf(plan, table), rows.unlike.get(table.id) ?? 'too many');
    if (record) plan.changes?.tables.set(table.id, record);
    else plan.changes?.tables.delete(table.id);
  }
  return rows;
}

async function compareRoots(plan: ComparisonPlan): Promise<FileOutcome[]> {
  const files: FileOutcome[] = [];
  for (const root of plan.destination.place.roots) files.push(...(await compareRoot(plan, root.name)));
  return files;
}

/** What decides how rows are read and written in canonical form, apart from the rows themselves. */
const rulesOf = ({ profileVersion, source, destination }: ComparisonPlan, { columns }: MergeTable): string => {
  const from = 'environment' in source ? source.environment : source.of;
  const places = [from, destination].map(({ path, place }) => JSON.stringify([path, place])).sort();
  return createHash('sha256')
    .update([profileVersion, ...places, ...columns].join('\n'))
    .digest('hex');
};

interface FoundTable extends TableToCompare {
  /** Set where both ends have an image of the table, and can tell what was written since. */
  readonly ends: readonly TableEnd[] | undefined;
}

interface SourceSide {
  /** Undefined where the source is a snapshot. */
  readonly view: DatabaseView | undefined;
  tables(): readonly TableShape[];
  rows(table: TableShape, ranges?: readonly KeyRange[]): AsyncIterable<ByteString>;
  count(table: TableShape): Promise<number>;
  close(): Promise<void>;
}

async function openSource(plan: ComparisonPlan, database: string): Promise<SourceSide> {
  if ('snapshot' in plan.source) {
    const stored = plan.source.snapshot.databases.find((one) => one.name === database);
    const tables = stored?.tables ?? [];
    const find = (table: TableShape): (typeof tables)[number] | undefined =>
      tables.find((one) => fullName(one) === fullName(table));
    return {
      view: undefined,
      tables: () =>
        tables.map((table) => ({
          ...table,
          columns: table.columns.map((column) => ({ ...column, maxLength: undefined, isText: false })),
          references: [],
          rowTriggers: [],
        })),
      rows: (table) => readRowImage(plan.library.store, find(table)),
      count: async (table) => find(table)?.rows ?? 0,
      close: async () => undefined,
    };
  }
  const { environment } = plan.source;
  const login = environment.databases.find((one) => one.name === database)?.login;
  if (!login) throw new Error(`${environment.path} has no database "${database}".`);
  const view = await PostgresView.open(login);
  const rewriter = new Rewriter(environment.place);
  return {
    view,
    tables: () => view.schema.tables,
    rows: (table, ranges) => canonicalTable(environment, database, view, table, rewriter).rows(ranges),
    count: (table) => view.countRows(table),
    close: () => view.close(),
  };
}

/** The tables of a database that take part; what is to be said of the others goes into the notes. */
async function tablesToCompare(plan: ComparisonPlan, ends: DatabaseEnds, notes: Note[]): Promise<FoundTable[]> {
  const { name: database, login, view, source } = ends;
  const { destination } = plan;
  const { tables } = view.schema;
  const sourceTables = new Map(source.tables().map((table) => [fullName(table), table]));
  const [moment, sourceMoment] = plan.changes
    ? await Promise.all([view.moment(), source.view?.moment()])
    : [undefined, undefined];
  const found: FoundTable[] = [];
  for (const shape of tables) {
    const other = sourceTables.get(fullName(shape));
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
  const added: TableShape[] = [];
  for (const table of sourceTables.values()) {
    if (tables.some((shape) => fullName(shape) === fullName(table))) continue;
    const label = profileName(table);
    const { class: of } = rulesForTable(destination.profile, database, label, []);
    if (of === 'unclassified' && plan.direction === 'up') {
      const rows = await source.count(table);
      if (rows > 0) notes.push({ type: 'unclassified', database, table: label, rows });
    }
    if (of !== 'authored') continue;
    if (!ends.schema) notes.push({ type: 'schema', table: label, message: `only the source has the table ${label}` });
    else if (plan.takes.has(`schema:${label}`)) {
      added.push(table);
      found.push(addedTable(plan, ends, table));
    }
  }
  return describeUses(destination, database, login, [...tables, ...added], found, new Set(added.map(fullName)));
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
  const canonical = canonicalTable(destination, database, view, own, new Rewriter(destination.place));
  const { shape, rules } = canonical;
  const label = profileName(shape);
  const stored = (side: 'source' | 'destination') =>
    baseline?.[side].databases
      .find((one) => one.name === database)
      ?.tables.find((one) => fullName(one) === fullName(shape));
  const isCollected = rules.class === 'collected' && !rules.hasRowGroups;
  if (isCollected && direction === 'up') {
    const rows = await view.countRows(shape);
    const more = baseline ? Math.max(0, rows - (stored('destination')?.rows ?? 0)) : 0;
    notes.push({ type: 'collected', table: label, rows, more });
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
  const differences = schema?.differences.filter((one) => one.table === fullName(shape)) ?? [];
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
    database,
    view.schema,
    columns.join('\n') === canonical.columns.join('\n')
      ? canonical
      : { shape, columns, rules: rulesForTable(destination.profile, database, label, columns) },
    isKnown,
  );
  const fill = (column: string): ByteString | null => schema?.fill(fullName(shape), column) ?? null;
  const into = (from: readonly string[]) => projection(from, columns, fill);
  const imageColumns = (image: TableManifest | undefined): string[] =>
    (image?.columns ?? []).filter((column) => !column.generated).map((column) => column.name);
  if ([images.source, images.destination].some((one) => one && into(imageColumns(one))))
    reshaped.push({
      ...shapeOf(shape, other, columns),
      database,
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
    differences.filter((one) => one.what === 'column' && one.is === 'unlike').map((one) => one.name),
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
  const rules = rulesForTable(destination.profile, ends.name, profileName(shape), columns);
  const table = mergeTable(
    destination,
    ends.name,
    ends.source.view?.schema ?? ends.view.schema,
    { shape, columns, rules },
    plan.baseline !== undefined,
  );
  ends.reshaped.push({ ...shape, columns: readable(shape), database: ends.name });
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

async function compareRoot(plan: ComparisonPlan, root: string): Promise<FileOutcome[]> {
  const { destination, source, baseline } = plan;
  const areas = areasOf(destination.profile);
  // Uploads of visitors come down with the rows that name them.
  const classes: ReadonlySet<DataClass> = new Set(plan.direction === 'down' ? ['authored', 'collected'] : ['authored']);
  const stored = async (manifest: SnapshotManifest) => {
    const tree = manifest.roots.find((one) => one.name === root);
    return tree ? readListing(plan.library.store, tree) : new Map();
  };
  const listed = (environment: Environment, memory: HashMemory | undefined) =>
    listFiles(environment, root, new Rewriter(environment.place), memory, plan.profileVersion, classes);
  const isLeftOut = (path: ByteString): boolean => {
    const below = (folder: string): boolean => path === toBytes(folder) || path.startsWith(`${toBytes(folder)}/`);
    const { paths, areas: names }: LeftOut = baseline?.leftOut ?? { tables: [], paths: [], areas: [] };
    return paths.some(below) || areas.some((area) => names.includes(area.name) && below(area.path));
  };
  const treeOf = (manifest: SnapshotManifest) => manifest.roots.find((one) => one.name === root)?.tree;
  const isOneTree = baseline && treeOf(baseline.source) === treeOf(baseline.destination);
  const [ofDestination, ofSource, before] = await Promise.all([
    listed(destination, plan.memories.destination),
    'snapshot' in source ? stored(source.snapshot) : listed(source.environment, plan.memories.source),
    baseline && stored(baseline.source),
  ]);
  const outcomes = compareFiles(
    root,
    areas,
    {
      destination: ofDestination,
      source: ofSource,
      baseline: baseline &&
        before && { source: before, destination: isOneTree ? before : await stored(baseline.destination) },
    },
    { method: plan.method, classes },
    isLeftOut,
  );
  // A push from a snapshot replaces, and merges nothing.
  return 'snapshot' in source ? outcomes : mergeTexts(plan.library.store, source.environment, destination, outcomes);
}
