import { counted, type FileChange, isSame, type RowChange, rulesForTable } from '@tessarion/core';
import {
  type AppliedRows,
  asReadBack,
  carryOver,
  connectTo,
  EngineError,
  type Environment,
  isKept,
  keepingIdentities,
  layout,
  type Mode,
  profileName,
  type Remain,
  RowApplication,
  readBackChanges,
  rewriterOf,
  type SnapshotLibrary,
  type StagedTree,
  showPath,
  stageTree,
  switchTrees,
  treeInUse,
  writeKept,
} from '@tessarion/engine';
import type { TransferRecord } from '../records/transfers.js';
import type { TransferContext } from './context.js';

/** What is open between staging and commit; lives in the worker's memory only. */
interface OpenWork {
  readonly applications: { readonly database: string; readonly rows: RowApplication }[];
  trees: StagedTree[];
}

const open = new WeakMap<TransferContext, OpenWork>();

function workOf(context: TransferContext): OpenWork {
  const known = open.get(context) ?? { applications: [], trees: [] };
  open.set(context, known);
  return known;
}

const LEASE_MS = 8000;
const DRAIN_MS = 2000;

const purposeOf = (context: TransferContext): string => `transfer ${context.record.id}`;

async function* rowsOf(context: TransferContext, set: ChangeSet, database: string): AsyncGenerator<RowChange> {
  const found = set.undoes ? await readBackOf(context.library(), ownOf(context)) : new Map<string, RowChange>();
  for await (const change of context.library().readChanges(set.id))
    if (change.part === 'row' && change.database === database)
      yield set.row(asReadBack(change, found.get(nameOfRow(change))));
}

/** A transfer and what its steps remember of it now. */
export const ownOf = ({ record, data }: TransferContext): Pick<TransferRecord, 'id' | 'data'> => ({
  id: record.id,
  data,
});

/** What triggers and types made of the rows that a transfer wrote, by {@link nameOfRow}. */
export async function readBackOf(
  library: SnapshotLibrary,
  { id, data }: Pick<TransferRecord, 'id' | 'data'>,
): Promise<Map<string, RowChange>> {
  const found = new Map<string, RowChange>();
  if (data.isReadBack !== true) return found;
  for await (const change of library.readChanges(`${id}-read-back`))
    if (change.part === 'row') found.set(nameOfRow(change), change);
  for await (const change of library.readChanges(id)) {
    const read = change.part === 'row' && found.get(nameOfRow(change));
    if (read) found.set(nameOfRow(change), unlike(read, change));
  }
  return found;
}

/** What was read back of a row, without what is as it was to be written. */
function unlike(read: RowChange, meant: RowChange): RowChange {
  if (read.op !== 'update' || meant.op === 'delete') return read;
  const cells = Object.entries(read.cells).filter(([name, cell]) => {
    const value = meant.op === 'insert' ? meant.row[name] : meant.cells[name]?.after;
    return value === undefined || !isSame(value, cell.after);
  });
  return { ...read, cells: Object.fromEntries(cells) };
}

export const nameOfRow = ({ database, table, key }: RowChange): string => JSON.stringify([database, table, key]);

/** File changes of change sets that a transfer has read, by the name of the set: they are asked for at most steps. */
const readFiles = new WeakMap<TransferContext, Map<string, readonly FileChange[]>>();

export async function filesOf(
  context: TransferContext,
  changes: string,
  turn: (change: FileChange) => FileChange,
): Promise<FileChange[]> {
  const sets = readFiles.get(context) ?? new Map<string, readonly FileChange[]>();
  readFiles.set(context, sets);
  let files = sets.get(changes);
  if (!files) {
    const found: FileChange[] = [];
    for await (const change of context.library().readChanges(changes)) if (change.part === 'file') found.push(change);
    files = found;
    sets.set(changes, files);
  }
  return files.map(turn);
}

/** The files of a change set that lie in a root's tree, rather than in areas kept beside it. */
const treeFiles = async (context: TransferContext, { profile }: Environment, set: ChangeSet): Promise<FileChange[]> =>
  (await filesOf(context, set.id, set.file)).filter((change) => !isKept(profile, change.path));

/** A change set and the direction in which it is applied. */
export interface ChangeSet {
  readonly id: string;
  readonly row: (change: RowChange) => RowChange;
  readonly file: (change: FileChange) => FileChange;
  readonly mode: Mode;
  /** It is taken back: what was written is as it was read back then. */
  readonly undoes: boolean;
  /** Name of the new trees: `trees/ROOT-ID`. */
  readonly treeId: string;
}

/** Prepares everything beside what is in use: new trees, and rows in temporary tables. Nothing that visitors see changes. */
export async function stageChanges(
  context: TransferContext,
  environment: Environment,
  set: ChangeSet,
): Promise<string> {
  const state = workOf(context);
  state.trees = [];
  await context.raiseFence(environment);
  const files = await treeFiles(context, environment, set);
  for (const root of environment.place.roots) {
    const changes = files.filter((change) => change.root === root.name);
    if (changes.length === 0) continue;
    const memory = await context.memory(environment.path);
    const known = memory.filesOf(root.name, await context.edition(environment.site));
    const { store } = context.library();
    const staged = await stageTree(environment, root.name, set.treeId, changes, store, set.mode, context.work, known);
    await memory.save();
    state.trees.push(staged);
    await rememberRemains(context, staged.remains);
  }
  await context.remember({ roots: state.trees.map(({ root, from }) => ({ root, from })) });

  const rows = await stageRows(context, environment, set, environment.databases);
  return `${counted(rows, 'row')}, ${counted(files.length, 'file')}`;
}

/** Puts the rows of some databases into temporary tables. @returns how many */
async function stageRows(
  context: TransferContext,
  environment: Environment,
  set: ChangeSet,
  databases: Environment['databases'],
): Promise<number> {
  const rewriter = rewriterOf(environment);
  let rows = 0;
  for (const { name, login } of databases) {
    const application = await RowApplication.open(login, purposeOf(context), set.mode, environment.profile);
    workOf(context).applications.push({ database: name, rows: application });
    const counted = async function* (): AsyncGenerator<RowChange> {
      for await (const change of rowsOf(context, set, name)) {
        rows++;
        yield change;
      }
    };
    await application.stage(counted(), rewriter, (table, columns) => {
      const [schema, ...rest] = table.split('.');
      const rules = rulesForTable(
        environment.profile,
        name,
        profileName({ schema: schema as string, name: rest.join('.') }),
        columns,
      );
      return new Set(rules.columns.filter((column) => column.class === 'authored').map((column) => column.name));
    });
  }
  return rows;
}

/** Carries over late files, then lets the front hold visitors back. */
export async function holdVisitors(
  context: TransferContext,
  environment: Environment,
  set: ChangeSet,
): Promise<string> {
  await carryLateFiles(context, environment, set);
  const { lease, waitedMs } = await context.installation.gateway.hold(environment.path, LEASE_MS, DRAIN_MS);
  await context.remember({ lease });
  return `waited ${waitedMs} ms for requests to end`;
}

async function carryLateFiles(context: TransferContext, environment: Environment, set: ChangeSet): Promise<void> {
  const roots = (context.data.roots as { root: string; from: string }[] | undefined) ?? [];
  if (roots.length === 0) return;
  const files = await treeFiles(context, environment, set);
  for (const { root, from } of roots) {
    const own = new Set(files.filter((change) => change.root === root).map((change) => change.path));
    const staged = workOf(context).trees.find((one) => one.root === root);
    const trees = staged ?? { from, to: layout.tree(environment.folder, root, set.treeId) };
    const carried = await carryOver(environment, trees, own);
    for (const path of carried) await context.say(`${showPath(path)} was written meanwhile and is carried over.`);
  }
}

/**
 * Writes the rows of every database that does not have them yet: of several, a worker may have died between their
 * commits.
 */
export async function writeRows(context: TransferContext, environment: Environment, set: ChangeSet): Promise<string> {
  const written = await committedDatabases(context, environment);
  if (written.size === 0) return commitRows(context, environment);
  const left = environment.databases.filter((one) => !written.has(one.name));
  if (left.length === 0) return 'already written';
  await stageRows(context, environment, set, left);
  await holdVisitors(context, environment, set);
  return commitRows(context, environment);
}

/** Writes all staged rows and commits; the transactions' ids are recorded before the commit. */
async function commitRows(context: TransferContext, environment: Environment): Promise<string> {
  const { applications } = workOf(context);
  const applied: AppliedRows[] = [];
  const transactions = [...transactionsOf(context)];
  const unsure = new Set(context.data.editedTables as string[] | undefined);
  const read = [...(await readBackOf(context.library(), ownOf(context))).values()];
  for (const { database, rows } of applications) {
    const written = await rows.write(unsure);
    applied.push(written.applied);
    transactions.push({ database, id: written.transaction });
    read.push(...readBackChanges(environment, database, written.read));
  }
  if (read.length > 0) {
    await context.library().saveChanges(`${context.record.id}-read-back`, read);
    await context.remember({ isReadBack: true });
  }
  await context.remember({ transactions });
  await context.checkFence(environment);
  for (const { rows } of applications) await rows.commit();
  await context.remember({ pastSwitch: true });
  await rememberRemains(
    context,
    applied.flatMap((one) => one.remains),
  );
  const sum = (pick: (one: AppliedRows) => number): number => applied.reduce((total, one) => total + pick(one), 0);
  const counts = {
    inserted: sum((one) => one.inserted),
    updated: sum((one) => one.updated),
    deleted: sum((one) => one.deleted),
  };
  context.work.count({ rows: counts.inserted + counts.updated + counts.deleted });
  return `${counts.inserted} inserted, ${counts.updated} updated, ${counts.deleted} deleted`;
}

/** Lets the roots lead to the new trees. */
export async function switchFiles(
  context: TransferContext,
  environment: Environment,
  set: ChangeSet,
): Promise<string | undefined> {
  const roots = (context.data.roots as { root: string }[] | undefined) ?? [];
  const kept = (await filesOf(context, set.id, set.file)).filter((change) => isKept(environment.profile, change.path));
  if (roots.length + kept.length === 0) return undefined;
  await context.checkFence(environment);
  await context.remember({ pastSwitch: true });
  const place = {
    ...environment.place,
    roots: environment.place.roots.filter((root) => roots.some((one) => one.root === root.name)),
  };
  await switchTrees({ ...environment, place }, set.treeId, context.epoch);
  await writeKept(environment, kept, context.library().store, set.mode, context.work);
  return counted(roots.length, 'root');
}

/** Lets visitors through again and brings in what was still written to the former trees. */
export async function releaseVisitors(
  context: TransferContext,
  environment: Environment,
  set: ChangeSet,
): Promise<string | undefined> {
  const heldMs = await releaseLease(context);
  await closeSessions(context);
  const detail = heldMs === undefined ? undefined : `visitors waited at most ${heldMs} ms`;
  await carryLateFiles(context, environment, set);
  return detail;
}

/** Ends the hold, which may be one that a dead worker asked for. @returns how long it lasted */
async function releaseLease(context: TransferContext): Promise<number | undefined> {
  const lease = context.data.lease as string | undefined;
  if (lease === undefined) return undefined;
  const { heldMs } = await context.installation.gateway.release(lease);
  await context.remember({ lease: undefined, heldMs });
  return heldMs;
}

interface RecordedTransaction {
  readonly database: string;
  readonly id: string;
}

const transactionsOf = (context: TransferContext): readonly RecordedTransaction[] =>
  (context.data.transactions as RecordedTransaction[] | undefined) ?? [];

/**
 * The databases in which the transfer's rows stand. Before that, what is left of a dead worker's sessions is ended.
 */
export async function committedDatabases(
  context: TransferContext,
  environment: Environment,
): Promise<ReadonlySet<string>> {
  const committed = new Set<string>();
  const transactions = transactionsOf(context);
  if (transactions.length === 0) return committed;
  await endSessions(context, environment);
  for (const { database, id } of transactions) {
    const login = environment.databases.find((one) => one.name === database)?.login;
    if (!login) continue;
    const client = await connectTo(login, 'read', 'recovery');
    try {
      for (;;) {
        const row = await client.query<{ status: string | null }>('SELECT pg_xact_status($1::xid8) AS status', [id]);
        const status = row.rows[0]?.status;
        if (status === 'committed') committed.add(database);
        if (status !== 'in progress') break;
        await new Promise((resolve) => setTimeout(resolve, 50));
      }
    } finally {
      await client.end();
    }
  }
  return committed;
}

/** Ends the sessions that this transfer (in any worker) still has on the environment's databases. */
async function endSessions(context: TransferContext, environment: Environment): Promise<void> {
  for (const { login } of environment.databases) {
    const client = await connectTo(login, 'read', 'recovery');
    try {
      await client.query(
        'SELECT pg_catalog.pg_terminate_backend(pid, 3000) FROM pg_catalog.pg_stat_activity WHERE usename = current_user AND application_name = $1',
        [`tessarion ${purposeOf(context)}`.slice(0, 63)],
      );
    } finally {
      await client.end();
    }
  }
}

async function closeSessions(context: TransferContext): Promise<void> {
  for (const { rows } of workOf(context).applications.splice(0)) await rows.close();
}

/** Removes everything staged; visitors are let through. */
export async function discardStaged(context: TransferContext, environment: Environment, set: ChangeSet): Promise<void> {
  await closeSessions(context);
  await releaseLease(context);
  await endSessions(context, environment).catch((error: unknown) => {
    if (!(error instanceof EngineError && error.code === 'database-unreachable')) throw error;
  });
  for (const root of environment.place.roots) {
    const staged = layout.tree(environment.folder, root.name, set.treeId);
    const inUse = await treeInUse(environment, root.name);
    if (inUse !== staged) await environment.server.remove(staged);
  }
}

/** Stages, writes and switches where nobody is there to be held back, as onto a copy that is not at its address yet. */
export async function applyAlone(context: TransferContext, environment: Environment, set: ChangeSet): Promise<string> {
  try {
    const staged = await stageChanges(context, environment, set);
    await commitRows(context, environment);
    await switchFiles(context, environment, set);
    return staged;
  } finally {
    await closeSessions(context);
  }
}

/** Stages, holds, writes, switches and releases in one go, as the taking back of a failed transfer does. */
export async function applyChanges(context: TransferContext, environment: Environment, set: ChangeSet): Promise<void> {
  await stageChanges(context, environment, set);
  await holdVisitors(context, environment, set);
  try {
    await commitRows(context, environment);
    await switchFiles(context, environment, set);
  } finally {
    await releaseVisitors(context, environment, set);
  }
}

async function rememberRemains(context: TransferContext, remains: readonly Remain[]): Promise<void> {
  if (remains.length === 0) return;
  const known = (context.data.remains as string[] | undefined) ?? [];
  await context.remember({
    remains: [...known, ...remains.map((one) => `${one.table.replace(/^public\./, '')} ${one.key}: ${one.what}`)],
  });
}

const KEPT_TREES = 3;

/** Former trees are kept for a while, so that a late writer or a person can still reach them. */
export async function removeOldTrees(context: TransferContext, environment: Environment): Promise<void> {
  for (const root of environment.place.roots) {
    const inUse = await treeInUse(environment, root.name);
    const trees: { path: string; at: bigint }[] = [];
    for await (const node of environment.server.listFolder(layout.trees(environment.folder))) {
      if (node.type === 'folder' && node.path.startsWith(`${root.name}-`))
        trees.push({ path: `${layout.trees(environment.folder)}/${node.path}`, at: node.changedAtNs });
    }
    const old = trees.filter((tree) => tree.path !== inUse).sort((a, b) => (a.at < b.at ? 1 : -1));
    const gone = old.slice(KEPT_TREES);
    if (gone.length === 0) continue;
    const memory = await context.memory(environment.path);
    const known = memory.filesOf(root.name, await context.edition(environment.site));
    await keepingIdentities(environment, root.name, known, async () => {
      for (const tree of gone) await environment.server.remove(tree.path);
    });
    await memory.save();
  }
}
