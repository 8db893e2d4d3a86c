import {
  type ByteString,
  counted,
  type FileChange,
  type RowChange,
  readTableId,
  readTablePath,
  rulesForTable,
  tablePath,
} from '@tessarion/core';
import {
  type AppliedRows,
  carryOver,
  changesByPrograms,
  checkInPlace,
  EngineError,
  type Environment,
  isInPlace,
  layout,
  type Remain,
  RowApplication,
  readBackChanges,
  rewriterOf,
  type StagedTree,
  showPath,
  stageTree,
  storeContents,
  switchTrees,
  treeInUse,
  writeInPlace,
} from '@tessarion/engine';
import { readBackOf } from '../stored/read-back.js';
import type { TransferContext } from './context.js';
import { heldWords, hold, mustBeHeld, release } from './hold.js';
import { type ChangeSet, filesOf, ownOf, rowsOf } from './recorded-changes.js';
import { committedDatabases, endSessions, purposeOf, transactionsOf, type Writing } from './recovery.js';

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

/** The files of a change set: those that lie in a root's tree, and those that are written where they lie. */
async function placedFiles(
  context: TransferContext,
  environment: Environment,
  set: ChangeSet,
): Promise<{ readonly inTrees: FileChange[]; readonly inPlace: FileChange[] }> {
  const also = set.alsoFiles === undefined ? [] : await filesOf(context, set.alsoFiles, set.file);
  const all = [...(await filesOf(context, set.id, set.file)), ...also];
  return {
    inTrees: all.filter((change) => !isInPlace(environment, change)),
    inPlace: all.filter((change) => isInPlace(environment, change)),
  };
}

const treeFiles = async (...of: Parameters<typeof placedFiles>): Promise<FileChange[]> =>
  (await placedFiles(...of)).inTrees;

/** The change set of what tasks wrote into the new trees, where they wrote anything. */
export const writtenByTasks = ({ record, data }: TransferContext): { alsoFiles?: string } =>
  data.tasksWrote === true ? { alsoFiles: `${record.id}-tasks` } : {};

/** Notes what tasks wrote into the new trees, so that it can be put back with everything else. */
export async function noteTaskFiles(context: TransferContext, environment: Environment, set: ChangeSet): Promise<void> {
  const own = await treeFiles(context, environment, set);
  const made: FileChange[] = [];
  for (const tree of workOf(context).trees) {
    const written = new Set(own.filter((change) => change.root === tree.root).map((change) => change.path));
    made.push(...(await changesByPrograms(environment, tree, written)));
  }
  if (made.length === 0) return;
  const library = context.library();
  await library.store.write((writer) => storeContents(environment, made, 'before', writer));
  await library.saveChanges(`${context.record.id}-tasks`, made);
  await context.remember({ tasksWrote: true });
}

/** The new tree of an environment's first root, where one was staged. */
export function stagedTreeOf(
  context: TransferContext,
  { folder, place }: Environment,
  set: ChangeSet,
): ByteString | undefined {
  const roots = context.data.roots ?? [];
  const [first] = place.roots;
  return first && roots.some(({ root }) => root === first.name)
    ? layout.tree(folder, first.name, set.treeId)
    : undefined;
}

interface StagingWishes {
  /** Whether the new trees have files of their own, in which programs may write. */
  readonly ownFiles?: boolean;
  /** Those whose rows are written; all of them unless others have them already. */
  readonly databases?: Environment['databases'];
}

/** Prepares everything beside what is in use: new trees, and rows in temporary tables. Nothing that visitors see changes. */
export async function stageChanges(
  context: TransferContext,
  environment: Environment,
  set: ChangeSet,
  { ownFiles = false, databases = environment.databases }: StagingWishes = {},
): Promise<string> {
  const state = workOf(context);
  state.trees = [];
  await context.raiseFence(environment);
  const { inTrees: files, inPlace } = await placedFiles(context, environment, set);
  if (set.mode === 'strict') await checkInPlace(environment, inPlace);
  for (const root of environment.place.roots) {
    const changes = files.filter((change) => change.root === root.name);
    if (changes.length === 0) continue;
    const memory = await context.memory(environment.path);
    const known = memory.filesOf(root.name, await context.edition(environment.site));
    const { store } = context.library();
    const staged = await stageTree(environment, root.name, set.treeId, changes, {
      store,
      mode: set.mode,
      work: context.work,
      known,
      ownFiles,
    });
    memory.save();
    state.trees.push(staged);
    await rememberRemains(context, staged.remains);
  }
  // What the roots will lead to is on the disk before they do.
  if (state.trees.length > 0) await environment.server.flush(environment.folder);
  await context.remember({
    roots: state.trees.map(({ root, from, ownSince }) => ({
      root,
      from,
      ...(ownSince === undefined ? {} : { ownSince: ownSince.toString() }),
    })),
  });

  const rows = await stageRows(context, environment, set, databases);
  return `${counted(rows, 'row')}, ${counted(files.length + inPlace.length, 'file')}`;
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
  for (const database of databases) {
    const { name } = database;
    const application = await RowApplication.open(database, environment, purposeOf(context), set.mode);
    workOf(context).applications.push({ database: name, rows: application });
    const counted = async function* (): AsyncGenerator<RowChange> {
      for await (const change of rowsOf(context, set, name)) {
        rows++;
        yield change;
      }
    };
    await application.stage(counted(), rewriter, (table, columns) => {
      const rules = rulesForTable(environment.profile, { database: name, ...readTablePath(table) }, columns);
      return new Set(rules.columns.filter((column) => column.class === 'authored').map((column) => column.name));
    });
  }
  return rows;
}

/**
 * Carries over late files, then lets the front hold visitors back.
 *
 * @param moreMs by what the hold may be longer than it takes to write
 */
export async function holdVisitors(
  context: TransferContext,
  environment: Environment,
  set: ChangeSet,
  moreMs = 0,
): Promise<string> {
  await carryLateFiles(context, environment, set);
  return `waited ${await hold(context, environment.path, moreMs)} ms for requests to end`;
}

async function carryLateFiles(context: TransferContext, environment: Environment, set: ChangeSet): Promise<void> {
  const roots = context.data.roots ?? [];
  if (roots.length === 0) return;
  const files = await treeFiles(context, environment, set);
  for (const { root, from, ownSince } of roots) {
    const own = new Set(files.filter((change) => change.root === root).map((change) => change.path));
    const staged = workOf(context).trees.find((one) => one.root === root);
    const since = ownSince === undefined ? {} : { ownSince: BigInt(ownSince) };
    const trees = staged ?? { from, to: layout.tree(environment.folder, root, set.treeId), ...since };
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
  if (written.size === 0) return commitRows(context, environment, set);
  const left = environment.databases.filter((one) => !written.has(one.name));
  if (left.length === 0) return 'already written';
  await closeSessions(context);
  await stageRows(context, environment, set, left);
  await holdVisitors(context, environment, set);
  return commitRows(context, environment, set);
}

/** Writes all staged rows and commits; the transactions' ids are recorded before the commit. */
async function commitRows(context: TransferContext, environment: Environment, set: ChangeSet): Promise<string> {
  const { applications } = workOf(context);
  const applied: AppliedRows[] = [];
  const writing: Writing = set.undoes ? 'transactionsBack' : 'transactions';
  const transactions = [...transactionsOf(context, writing)];
  const edited = context.data.editedTables ?? [];
  const read = [...(await readBackOf(context.library(), ownOf(context))).values()];
  for (const { database, rows } of applications) {
    const own = edited.map(readTableId).filter((one) => one.database === database);
    const written = await rows.write(new Set(own.map(tablePath)));
    applied.push(written.applied);
    transactions.push({ database, id: written.mark });
    read.push(...readBackChanges(environment, written.read));
  }
  // What was taken back is of no use to anybody.
  if (read.length > 0 && !set.undoes) {
    await context.library().saveChanges(`${context.record.id}-read-back`, read);
    await context.remember({ isReadBack: true }, 'soon');
  }
  // From these a recovery knows what was written; all that is noted up to the release hangs on them alone.
  await context.remember({ [writing]: transactions });
  await mustBeHeld(context, environment.path);
  await context.checkFence(environment);
  for (const { rows } of applications) await rows.commit();
  await context.remember({ pastSwitch: true }, applications.length > 0 ? 'soon' : 'forced');
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
  const roots = context.data.roots ?? [];
  const { inPlace } = await placedFiles(context, environment, set);
  if (roots.length + inPlace.length === 0) return undefined;
  await context.checkFence(environment);
  if (context.data.pastSwitch !== true) await context.remember({ pastSwitch: true });
  const place = {
    ...environment.place,
    roots: environment.place.roots.filter((root) => roots.some((one) => one.root === root.name)),
  };
  await switchTrees({ ...environment, place }, set.treeId, context.epoch);
  const { store } = context.library();
  await rememberRemains(context, await writeInPlace(environment, inPlace, store, set.mode, context.work));
  return [
    counted(roots.length, 'root'),
    ...(inPlace.length > 0 ? [`${counted(inPlace.length, 'file')} in place`] : []),
  ].join(', ');
}

/** Lets visitors through again and brings in what was still written to the former trees. */
export async function releaseVisitors(
  context: TransferContext,
  environment: Environment,
  set: ChangeSet,
): Promise<string | undefined> {
  const detail = heldWords(context, await release(context));
  await closeSessions(context);
  await carryLateFiles(context, environment, set);
  return detail;
}

async function closeSessions(context: TransferContext): Promise<void> {
  for (const { rows } of workOf(context).applications.splice(0)) await rows.close();
}

/** Removes everything staged; visitors are let through. */
export async function discardStaged(context: TransferContext, environment: Environment, set: ChangeSet): Promise<void> {
  await closeSessions(context);
  await release(context);
  await endSessions(context, environment).catch((error: unknown) => {
    if (!(error instanceof EngineError && error.code === 'database-unreachable')) throw error;
  });
  for (const root of environment.place.roots) {
    if (root.isPlain) continue;
    const staged = layout.tree(environment.folder, root.name, set.treeId);
    const inUse = await treeInUse(environment, root.name);
    if (inUse !== staged) await environment.server.remove(staged);
  }
}

/** Stages, writes and switches where nobody is there to be held back, as onto a copy that is not at its address yet. */
export async function applyAlone(context: TransferContext, environment: Environment, set: ChangeSet): Promise<string> {
  try {
    const staged = await stageChanges(context, environment, set);
    await commitRows(context, environment, set);
    await switchFiles(context, environment, set);
    return staged;
  } finally {
    await closeSessions(context);
  }
}

/**
 * Takes a transfer back: stages, holds, writes, switches and releases in one go. Rows are taken back in the databases in
 * which they were written, and only once, however often it is tried.
 */
export async function applyBack(context: TransferContext, environment: Environment, set: ChangeSet): Promise<void> {
  const written = await committedDatabases(context, environment);
  const isBack = await committedDatabases(context, environment, 'transactionsBack');
  const databases = environment.databases.filter(({ name }) => written.has(name) && !isBack.has(name));
  await stageChanges(context, environment, set, { databases });
  await holdVisitors(context, environment, set);
  try {
    await commitRows(context, environment, set);
    await switchFiles(context, environment, set);
  } finally {
    await releaseVisitors(context, environment, set);
  }
}

async function rememberRemains(context: TransferContext, remains: readonly Remain[]): Promise<void> {
  if (remains.length === 0) return;
  const known = context.data.remains ?? [];
  const found = remains.map((one) => `${one.table} ${one.key}: ${one.what}`);
  // What is tried again finds the same things again.
  await context.remember({ remains: [...new Set([...known, ...found])] });
}
