import {
  type ByteString,
  compareFilesForReplace,
  compareForReplace,
  type FileDifference,
  type Profile,
  Rewriter,
  type RowDelete,
  type RowDifference,
  rulesForTable,
  type SnapshotManifest,
  toBytes,
} from '@tessarion/core';
import { connectTo } from '../database/connect.js';
import { quoteName } from '../database/describe.js';
import { PostgresView } from '../database/postgres-view.js';
import {
  type DatabaseLogin,
  type DatabaseView,
  fullName,
  profileName,
  type SchemaShape,
  type TableShape,
} from '../database/site-database.js';
import { type CanonicalTable, canonicalTable } from '../environment/canonical-rows.js';
import { areasOf, type Environment } from '../environment/environment.js';
import { type HashMemory, type ListedFile, listAuthored } from '../environment/list-root.js';
import type { SnapshotLibrary } from '../snapshot/library.js';
import { readListing } from '../snapshot/read-tree.js';
import { readRowImage } from '../snapshot/row-image.js';
import type { LeftOut } from './build-copy.js';

/** What two environments had when they last had things in common. */
export interface Baseline {
  readonly source: SnapshotManifest;
  readonly destination: SnapshotManifest;
  readonly leftOut: LeftOut;
}

/** Either side of a comparison: a running environment, or (as a source) one of its snapshots. */
export type PushSource =
  | { readonly environment: Environment }
  | { readonly snapshot: SnapshotManifest; readonly of: Environment };

export interface PushComparison {
  readonly source: PushSource;
  readonly destination: Environment;
  readonly baseline: Baseline | undefined;
  readonly library: SnapshotLibrary;
  readonly memories: { readonly source: HashMemory | undefined; readonly destination: HashMemory | undefined };
  readonly profileVersion: string;
}

/** What a comparison finds, one after the other. */
export type PushFinding =
  | { readonly type: 'row'; readonly difference: RowDifference }
  | { readonly type: 'file'; readonly difference: FileDifference }
  /** A row that the source lacks, and that stays because others refer to it. */
  | {
      readonly type: 'kept';
      readonly table: string;
      readonly row: Readonly<Record<string, ByteString | null>>;
      readonly key: readonly (ByteString | null)[];
      readonly referredBy: string;
      readonly referrers: number;
    }
  /** Rows of a collected table that the destination holds more than at the baseline. */
  | { readonly type: 'collected'; readonly table: string; readonly rows: number; readonly more: number }
  | { readonly type: 'never-moves'; readonly table: string; readonly rows: number; readonly because: string }
  | { readonly type: 'unclassified'; readonly table: string; readonly rows: number }
  | { readonly type: 'schema'; readonly table: string; readonly message: string };

/** Compares for a push by replace, table by table and then root by root. Holds one batch of rows a side. */
export async function* comparePush(plan: PushComparison): AsyncGenerator<PushFinding> {
  const { destination } = plan;
  const destinationRewriter = new Rewriter(destination.place);
  for (const { name, login } of destination.databases) {
    const view = await PostgresView.open(login);
    try {
      yield* await compareDatabase(plan, name, login, view, destinationRewriter);
    } finally {
      await view.close();
    }
  }
  for (const root of destination.place.roots) yield* compareRoot(plan, root.name, destinationRewriter);
}

interface SourceSide {
  tables(): readonly TableShape[];
  rows(table: TableShape): AsyncIterable<ByteString>;
  count(table: TableShape): Promise<number>;
  close(): Promise<void>;
}

async function openSource(plan: PushComparison, database: string): Promise<SourceSide> {
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

async function* compareDatabase(
  plan: PushComparison,
  database: string,
  login: DatabaseLogin,
  view: DatabaseView,
  rewriter: Rewriter,
): AsyncGenerator<PushFinding> {
  const source = await openSource(plan, database);
  try {
    const sourceTables = new Map(source.tables().map((table) => [fullName(table), table]));
    for (const shape of view.schema.tables) {
      const table = canonicalTable(plan.destination, database, view, shape, rewriter);
      const other = sourceTables.get(fullName(shape));
      yield* compareOneTable(plan, database, login, view, table, other, source);
    }
    const here = new Set(view.schema.tables.map(fullName));
    for (const table of sourceTables.values()) {
      if (here.has(fullName(table))) continue;
      const rules = rulesForTable(plan.destination.profile, database, profileName(table), []);
      if (rules.class === 'authored')
        yield {
          type: 'schema',
          table: profileName(table),
          message: `only the source has the table ${profileName(table)}`,
        };
    }
  } finally {
    await source.close();
  }
}

async function* compareOneTable(
  plan: PushComparison,
  database: string,
  login: DatabaseLogin,
  view: DatabaseView,
  table: CanonicalTable,
  other: TableShape | undefined,
  source: SourceSide,
): AsyncGenerator<PushFinding> {
  const { shape, rules } = table;
  const label = profileName(shape);
  const stored = (side: 'source' | 'destination') =>
    plan.baseline?.[side].databases
      .find((one) => one.name === database)
      ?.tables.find((one) => fullName(one) === fullName(shape));
  const isAuthored = rules.class === 'authored' || rules.hasRowGroups;

  if (rules.class === 'collected') {
    const rows = await view.countRows(shape);
    yield {
      type: 'collected',
      table: label,
      rows,
      more: plan.baseline ? Math.max(0, rows - (stored('destination')?.rows ?? 0)) : 0,
    };
  }
  if (rules.class === 'unclassified') {
    const rows = other ? await source.count(other) : 0;
    const before = stored('source');
    if (rows > 0 && rows !== (before?.contents === 'rows' ? before.rows : 0))
      yield { type: 'unclassified', table: label, rows };
  }
  if (!isAuthored) {
    if (rules.class !== 'collected') yield { type: 'never-moves', table: label, rows: 0, because: rules.class };
    return;
  }
  if (plan.baseline?.leftOut.tables.includes(label)) {
    yield { type: 'never-moves', table: label, rows: 0, because: 'left out of the copy' };
    return;
  }
  if (!other) {
    yield { type: 'schema', table: label, message: `only the destination has the table ${label}` };
    return;
  }
  const names = (one: TableShape): string => one.columns.map((column) => `${column.name} ${column.type}`).join(', ');
  if (names(other) !== names(shape)) {
    yield { type: 'schema', table: label, message: `the columns of ${label} differ` };
    return;
  }

  const images = { source: stored('source'), destination: stored('destination') };
  const baseline =
    images.source?.contents === 'rows' && images.destination?.contents === 'rows'
      ? {
          source: readRowImage(plan.library.store, images.source),
          destination: readRowImage(plan.library.store, images.destination),
        }
      : undefined;
  const differences = compareForReplace(
    { database, table: fullName(shape), columns: table.columns, key: shape.key, keyOrders: shape.keyOrders },
    rules,
    { source: source.rows(other), destination: table.rows(), baseline },
  );
  let deletions: RowDifference[] = [];
  for await (const difference of differences) {
    if (difference.change.op !== 'delete') {
      yield { type: 'row', difference };
      continue;
    }
    deletions.push(difference);
    if (deletions.length >= 1000) {
      yield* settleDeletions(plan, login, view, shape, deletions);
      deletions = [];
    }
  }
  yield* settleDeletions(plan, login, view, shape, deletions);
}

/** A row that collected rows refer to is never deleted: an order line keeps the product that it sold. */
async function* settleDeletions(
  plan: PushComparison,
  login: DatabaseLogin,
  view: DatabaseView,
  shape: TableShape,
  deletions: readonly RowDifference[],
): AsyncGenerator<PushFinding> {
  if (deletions.length === 0) return;
  const referred = new Map<string, { table: string; count: number }>();
  const references = protectingReferences(plan.destination.profile, view.schema, shape);
  if (references.length > 0) {
    const keys = deletions
      .map((one) => (one.change as RowDelete).key[0] ?? '')
      .map((key) => Buffer.from(key, 'latin1').toString());
    const client = await connectTo(login, 'read', 'compare');
    try {
      for (const reference of references) {
        const quoted = reference.table.split('.').map(quoteName).join('.');
        const rows = await client.query<{ key: string; count: string }>(
          `SELECT ${quoteName(reference.column)}::text AS key, count(*)::text AS count FROM ${quoted} WHERE ${quoteName(reference.column)}::text = ANY($1) GROUP BY 1`,
          [keys],
        );
        for (const row of rows.rows)
          referred.set(toBytes(row.key), { table: reference.table, count: Number(row.count) });
      }
    } finally {
      await client.end();
    }
  }
  for (const difference of deletions) {
    const key = (difference.change as RowDelete).key;
    const by = referred.get(key[0] ?? '');
    if (by)
      yield {
        type: 'kept',
        table: fullName(shape),
        row: difference.row,
        key,
        referredBy: by.table,
        referrers: by.count,
      };
    else yield { type: 'row', difference };
  }
}

/** Columns of tables that are not authored, and that refer to a table's single key column; declared, or in the profile. */
export function protectingReferences(
  profile: Profile | undefined,
  schema: SchemaShape,
  shape: TableShape,
): { table: string; column: string }[] {
  const [key, ...more] = shape.key;
  if (key === undefined || more.length > 0) return [];
  const found = new Map<string, { table: string; column: string }>();
  for (const table of schema.tables) {
    const isAuthored = Object.keys(profile?.databases ?? {}).some(
      (database) => rulesForTable(profile, database, profileName(table), []).class === 'authored',
    );
    if (isAuthored) continue;
    const declared = table.references
      .filter((one) => one.table === fullName(shape) && one.targetColumns.length === 1 && one.targetColumns[0] === key)
      .map((one) => one.columns[0] as string);
    const profiled = (profile?.references ?? [])
      .filter((one) => one.to === `${profileName(shape)}.${key}` && one.from.split('.')[0] === profileName(table))
      .map((one) => one.from.split('.')[1] as string);
    for (const column of [...declared, ...profiled])
      found.set(`${fullName(table)}.${column}`, { table: fullName(table), column });
  }
  return [...found.values()];
}

async function* compareRoot(plan: PushComparison, root: string, rewriter: Rewriter): AsyncGenerator<PushFinding> {
  const { destination, source, baseline } = plan;
  const areas = areasOf(destination.profile);
  const states = (files: Map<ByteString, ListedFile>) => new Map([...files].map(([path, file]) => [path, file.state]));
  const stored = async (manifest: SnapshotManifest | undefined) => {
    const tree = manifest?.roots.find((one) => one.name === root);
    return tree ? readListing(plan.library.store, tree) : undefined;
  };
  const there = states(await listAuthored(destination, root, rewriter, plan.memories.destination, plan.profileVersion));
  const here =
    'snapshot' in source
      ? ((await stored(source.snapshot)) ?? new Map())
      : states(
          await listAuthored(
            source.environment,
            root,
            new Rewriter(source.environment.place),
            plan.memories.source,
            plan.profileVersion,
          ),
        );
  const leftOut = baseline?.leftOut;
  const differences = compareFilesForReplace(
    root,
    areas,
    { source: here, destination: there, baseline: await stored(baseline?.destination) },
    (path) => {
      const paths = leftOut?.paths ?? [];
      return (
        paths.some((one) => path === toBytes(one) || path.startsWith(`${toBytes(one)}/`)) ||
        areas.some(
          (area) =>
            (leftOut?.areas ?? []).includes(area.name) && (path === area.path || path.startsWith(`${area.path}/`)),
        )
      );
    },
  );
  for (const difference of differences) yield { type: 'file', difference };
}
