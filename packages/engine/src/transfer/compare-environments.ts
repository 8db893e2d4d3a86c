import {
  type ByteString,
  type Comparison,
  compareFiles,
  compareTables,
  type DataClass,
  type DestinationFacts,
  type FileOutcome,
  itemForTable,
  type KeyPair,
  type KeyUse,
  keyUses,
  type MergeRules,
  type MergeTable,
  type Profile,
  Rewriter,
  rulesForTable,
  type SnapshotManifest,
  type TableRows,
  type TableToCompare,
  tableId,
  toBytes,
} from '@tessarion/core';
import { connectTo } from '../database/connect.js';
import { PostgresView } from '../database/postgres-view.js';
import {
  type DatabaseLogin,
  type DatabaseView,
  fullName,
  profileName,
  type SchemaShape,
  type TableShape,
} from '../database/site-database.js';
import { canonicalTable } from '../environment/canonical-rows.js';
import { areasOf, type Environment } from '../environment/environment.js';
import { type HashMemory, type ListedFile, listFiles } from '../environment/list-root.js';
import type { SnapshotLibrary } from '../snapshot/library.js';
import { readListing } from '../snapshot/read-tree.js';
import { readRowImage } from '../snapshot/row-image.js';
import type { LeftOut } from './build-copy.js';
import { askDestination } from './destination-facts.js';
import { mergeTexts } from './merge-texts.js';
import { readAhead } from './read-ahead.js';
import { uniqueIndexes } from './unique-values.js';

/** What two environments had when they last had things in common. */
export interface Baseline {
  readonly source: SnapshotManifest;
  readonly destination: SnapshotManifest;
  readonly leftOut: LeftOut;
  /** Rows that the two know by different keys. */
  readonly keys: readonly KeyPair[];
  /** Taken over from another environment, whose masked values are not the source's. */
  readonly isDerived: boolean;
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
  readonly profileVersion: string;
  readonly method: MergeRules['method'];
  readonly direction: MergeRules['direction'];
  readonly mask: MergeRules['mask'];
}

/** What a comparison says beside what changed. */
export type Note =
  /** Rows of a collected table that the destination holds, and how many more than at the baseline. */
  | { readonly type: 'collected'; readonly table: string; readonly rows: number; readonly more: number }
  | { readonly type: 'never-moves'; readonly table: string; readonly because: string }
  | { readonly type: 'unclassified'; readonly table: string; readonly rows: number }
  | { readonly type: 'schema'; readonly table: string; readonly message: string };

/** Everything that two environments differ in. */
export interface EnvironmentComparison {
  readonly merge: MergeRules;
  readonly rows: Comparison;
  readonly files: readonly FileOutcome[];
  readonly notes: readonly Note[];
  readonly facts: DestinationFacts;
}

/** Compares two environments three ways: database by database, then root by root. Read only. */
export async function compareEnvironments(plan: ComparisonPlan): Promise<EnvironmentComparison> {
  const { method, direction, mask, destination } = plan;
  const merge: MergeRules = { method, direction, mask, keepsMasked: plan.baseline?.isDerived === true };
  const notes: Note[] = [];
  const tables: TableToCompare[] = [];
  const open: { close(): Promise<void> }[] = [];
  const schemas = new Map<string, SchemaShape>();
  try {
    for (const { name, login } of destination.databases) {
      const view = await PostgresView.open(login);
      open.push(view);
      schemas.set(name, view.schema);
      const source = await openSource(plan, name);
      open.push(source);
      tables.push(...(await tablesToCompare(plan, name, login, view, source, notes)));
    }
    const rows = await compareTables(tables, merge, plan.baseline?.keys ?? []);
    const files: FileOutcome[] = [];
    for (const root of destination.place.roots) files.push(...(await compareRoot(plan, root.name)));
    return { merge, rows, files, notes, facts: askDestination(destination, schemas, direction) };
  } finally {
    for (const one of open) await one.close();
  }
}

interface SourceSide {
  tables(): readonly TableShape[];
  rows(table: TableShape): AsyncIterable<ByteString>;
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
    tables: () => view.schema.tables,
    rows: (table) => canonicalTable(environment, database, view, table, rewriter).rows(),
    count: (table) => view.countRows(table),
    close: () => view.close(),
  };
}

/** The tables of a database that take part; what is to be said of the others goes into the notes. */
async function tablesToCompare(
  plan: ComparisonPlan,
  database: string,
  login: DatabaseLogin,
  view: DatabaseView,
  source: SourceSide,
  notes: Note[],
): Promise<TableToCompare[]> {
  const { destination } = plan;
  const { tables } = view.schema;
  const sourceTables = new Map(source.tables().map((table) => [fullName(table), table]));
  const uses = keyUses(
    database,
    tables.map((shape) => ({
      table: fullName(shape),
      label: profileName(shape),
      columns: shape.columns.filter((column) => !column.generated).map((column) => column.name),
      key: shape.key,
      references: shape.references,
    })),
    destination.profile,
  );
  const found: TableToCompare[] = [];
  for (const shape of tables) {
    const one = await tableToCompare(plan, database, view, shape, sourceTables.get(fullName(shape)), source, notes);
    if (one) found.push(one);
  }
  for (const table of sourceTables.values()) {
    if (tables.some((shape) => fullName(shape) === fullName(table))) continue;
    const label = profileName(table);
    if (rulesForTable(destination.profile, database, label, []).class === 'authored')
      notes.push({ type: 'schema', table: label, message: `only the source has the table ${label}` });
  }
  const client = await connectTo(login, 'read', 'compare');
  try {
    const described: TableToCompare[] = [];
    for (const { table, open } of found) {
      const shape = tables.find((one) => fullName(one) === table.table) as TableShape;
      const indexes = shape.key.length > 0 ? await uniqueIndexes(client, shape) : [];
      const uniques = indexes
        .map((index) => index.columns.map((name) => table.columns.indexOf(name)))
        .filter((columns) => !columns.includes(-1));
      const own: readonly KeyUse[] = uses.get(table.table) ?? [];
      described.push({ table: { ...table, uses: own, uniques }, open });
    }
    return described;
  } finally {
    await client.end();
  }
}

async function tableToCompare(
  plan: ComparisonPlan,
  database: string,
  view: DatabaseView,
  own: TableShape,
  other: TableShape | undefined,
  source: SourceSide,
  notes: Note[],
): Promise<TableToCompare | undefined> {
  const { destination, baseline, direction, library } = plan;
  const canonical = canonicalTable(destination, database, view, own, new Rewriter(destination.place));
  const { shape, rules, columns } = canonical;
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
      notes.push({ type: 'unclassified', table: label, rows });
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
    notes.push({ type: 'schema', table: label, message: `only the destination has the table ${label}` });
    return undefined;
  }
  const names = (one: TableShape): string => one.columns.map((column) => `${column.name} ${column.type}`).join(', ');
  if (names(other) !== names(shape)) {
    notes.push({ type: 'schema', table: label, message: `the columns of ${label} differ` });
    return undefined;
  }
  const images = { source: stored('source'), destination: stored('destination') };
  const isKnown = images.source?.contents === 'rows' && images.destination?.contents === 'rows';
  const table: MergeTable = {
    id: tableId(database, fullName(shape)),
    database,
    table: fullName(shape),
    columns,
    key: shape.key,
    keyOrders: shape.keyOrders,
    rules,
    uses: [],
    naturalKey: positions(columns, rules.naturalKey ?? []),
    drawsKeys: isDrawn(view.schema, shape),
    hasBaseline: isKnown,
    stamps: stampsOf(destination.profile, label, columns),
    uniques: [],
  };
  const image = (side: 'source' | 'destination'): AsyncIterable<ByteString> => ({
    [Symbol.asyncIterator]: () => readAhead(readRowImage(library.store, images[side])),
  });
  const open = (): TableRows => {
    const ofSource = image('source');
    const isOne = images.source?.blocks === images.destination?.blocks;
    return {
      source: { [Symbol.asyncIterator]: () => readAhead(source.rows(other)[Symbol.asyncIterator]()) },
      destination: { [Symbol.asyncIterator]: () => readAhead(canonical.rows()) },
      baseline: isKnown ? { source: ofSource, destination: isOne ? ofSource : image('destination') } : undefined,
    };
  };
  return { table, open };
}

/** Columns of an item's own table that say when and by whom it was changed. */
function stampsOf(profile: Profile | undefined, label: string, columns: readonly string[]): number[] {
  const changed = itemForTable(profile, label)?.changed;
  return [changed?.at, changed?.by].map((name) => columns.indexOf(name ?? '')).filter((at) => at !== -1);
}

/** Where columns stand; none when one of them is not there. */
function positions(columns: readonly string[], names: readonly string[]): number[] {
  const found = names.map((name) => columns.indexOf(name));
  return found.includes(-1) ? [] : found;
}

/** Whether a table's key is one column that draws its values from a counter. */
function isDrawn(schema: SchemaShape, shape: TableShape): boolean {
  const [column] = shape.key;
  return (
    shape.key.length === 1 &&
    schema.sequences.some((one) => one.ownedBy?.table === fullName(shape) && one.ownedBy.column === column)
  );
}

async function compareRoot(plan: ComparisonPlan, root: string): Promise<FileOutcome[]> {
  const { destination, source, baseline } = plan;
  const areas = areasOf(destination.profile);
  // Uploads of visitors come down with the rows that name them.
  const classes: ReadonlySet<DataClass> = new Set(plan.direction === 'down' ? ['authored', 'collected'] : ['authored']);
  const states = (files: Map<ByteString, ListedFile>) => new Map([...files].map(([path, file]) => [path, file.state]));
  const stored = async (manifest: SnapshotManifest) => {
    const tree = manifest.roots.find((one) => one.name === root);
    return tree ? readListing(plan.library.store, tree) : new Map();
  };
  const listed = async (environment: Environment, memory: HashMemory | undefined) =>
    states(await listFiles(environment, root, new Rewriter(environment.place), memory, plan.profileVersion, classes));
  const isLeftOut = (path: ByteString): boolean => {
    const below = (folder: string): boolean => path === toBytes(folder) || path.startsWith(`${toBytes(folder)}/`);
    const { paths, areas: names }: LeftOut = baseline?.leftOut ?? { tables: [], paths: [], areas: [] };
    return paths.some(below) || areas.some((area) => names.includes(area.name) && below(area.path));
  };
  const outcomes = compareFiles(
    root,
    areas,
    {
      destination: await listed(destination, plan.memories.destination),
      source:
        'snapshot' in source ? await stored(source.snapshot) : await listed(source.environment, plan.memories.source),
      baseline: baseline && {
        source: await stored(baseline.source),
        destination: await stored(baseline.destination),
      },
    },
    { method: plan.method, classes },
    isLeftOut,
  );
  return mergeTexts(plan, outcomes);
}
