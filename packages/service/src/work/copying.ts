import { createHmac } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { counted, lowerOf } from '@tessarion/core';
import {
  buildCopy,
  type CopySource,
  EngineError,
  type Environment,
  type LeftOut,
  LiveSource,
  layout,
  onOneMachine,
  SnapshotSource,
  TRACE_WORDS,
  TraceFinder,
} from '@tessarion/engine';
import { markOf } from '../fleet/mark.js';
import { enqueue } from '../ground/queue.js';
import { findBaseline, saveBaseline } from '../stored/snapshots.js';
import type { Origin } from '../transfers/inputs.js';
import type { TransferContext } from './context.js';

/** Makes a copy's own folder, of the owner that the source's has: programs of a site run as that user. */
export async function makeFolderLike(source: Environment, destination: Environment): Promise<void> {
  const { server, folder } = destination;
  const owner = onOneMachine(source.server, server) ? await source.server.nodeAt(source.folder) : undefined;
  await server.makeFolder(folder, undefined, owner);
  await server.makeFolder(layout.trees(folder));
}

/** What people asked of a copy. */
export interface CopyWishes {
  readonly leftOut: LeftOut;
  readonly acceptTraces: readonly string[];
  /** Reason for copying columns that look personal and are not classified. */
  readonly acceptPersonal: string | undefined;
}

/** Of a copy that is whole. */
export const NOTHING_LEFT_OUT: LeftOut = { tables: [], areas: [], paths: [] };

/** Makes the empty databases of a copy, each with its own login and the extensions of its source. */
export async function makeDatabases(
  context: TransferContext,
  source: Environment,
  destination: Environment,
): Promise<void> {
  const { records, servers } = context.installation;
  const { server } = await context.environmentRecord(destination.path);
  const admin = servers.admin(await servers.get(records, server));
  for (const { name, login, system } of destination.databases) {
    const from = source.databases.find((one) => one.name === name);
    if (!from)
      throw new EngineError(
        'schema-unsupported',
        `${source.path} has no database "${name}".`,
        'Look at its databases: tessarion env show',
      );
    if (from.system.name !== system.name)
      throw new EngineError(
        'schema-unsupported',
        `${source.path} keeps "${name}" in ${from.system.name}, and the databases of ${server} are ${system.name}.`,
        'Choose a server whose database server is of the same kind.',
      );
    await admin.create(login, await from.system.likeness(from.login), { mark: markOf(context.installation.folder) });
  }
}

/**
 * Fills a copy's empty databases and trees from its origin, and takes down what both then have in common.
 *
 * @param exact brings back an environment's own state as it was, instead of a copy that can do no harm
 * @param remembers whether the two will be compared later
 */
export async function fillCopy(
  context: TransferContext,
  origin: Origin,
  source: Environment,
  destination: Environment,
  wishes: CopyWishes,
  exact: boolean,
  remembers = sharesBaseline(source, destination),
): Promise<TraceFinder | undefined> {
  const library = context.library();
  const from: CopySource =
    'from' in origin
      ? new LiveSource(source)
      : new SnapshotSource(library, await library.load(origin.snapshot), source.profile);
  const traces = exact ? undefined : new TraceFinder(source);
  const key = context.maskKey;
  const spoolFolder = context.spoolFolder;
  if (remembers) await fs.mkdir(spoolFolder, { recursive: true, mode: 0o700 });
  const leftAlone = await buildCopy(
    {
      source: from,
      destination,
      leftOut: wishes.leftOut,
      exact,
      hash: (value) => createHmac('sha256', key).update(value, 'latin1').digest(),
      traces,
      guarded: exact ? undefined : source,
      treeId: context.record.id,
      like: exact ? destination : source,
      spools: remembers ? { folder: spoolFolder, key: library.key } : undefined,
    },
    context.work,
  );
  for (const { table, column, addresses } of leftAlone)
    await context.say(
      `${table}.${column}: ${addresses === 1 ? '1 address' : `${addresses} addresses`} of ${source.path} ${addresses === 1 ? 'stays' : 'stay'} as written, in values that look serialised and cannot be read.`,
    );
  await destination.server.flush(destination.folder);
  return traces;
}

/** Environments of one site are compared later; a copy that was started from another site's is not. */
function sharesBaseline(source: Environment, destination: Environment): boolean {
  return source.site === destination.site && source.path !== destination.path;
}

/** Proves that a copy cannot reach its source; what was found is named, and each may be accepted by name. */
export async function proveHarmless(
  context: TransferContext,
  source: Environment,
  destination: Environment,
  traces: TraceFinder | undefined,
  accepted: readonly string[],
): Promise<string> {
  const unsettled = traces?.unsettled(accepted) ?? [];
  if (unsettled[0]) {
    for (const trace of unsettled) await context.say(`${trace.where}: ${TRACE_WORDS[trace.what]} (${trace.name})`);
    const named = unsettled
      .slice(0, 5)
      .map((trace) => `${TRACE_WORDS[trace.what]} in ${trace.where}`)
      .join('; ');
    throw new EngineError(
      'trace-found',
      `The copy could still reach ${source.path}: ${named}${unsettled.length > 5 ? ` and ${unsettled.length - 5} more` : ''}.`,
      `Correct it at the source or in the profile, or accept each by name: --accept-trace ${unsettled[0].name}`,
    );
  }
  for (const own of destination.databases) {
    const other = source.databases.find((one) => one.name === own.name);
    if (!other) continue;
    const { user, password } = own.login;
    const entered = await other.system.reach({ ...other.login, user, password }).then(
      () => true,
      () => false,
    );
    if (entered)
      throw new EngineError(
        'trace-found',
        `The copy’s own login is let into the database of ${source.path}.`,
        'Revoke CONNECT on that database from PUBLIC, then make the copy again.',
      );
  }
  return `${counted(traces?.found.length ?? 0, 'trace')} accepted, the source refuses the copy’s login`;
}

/** Remembers what the two have in common; it is packed once the copy answers. */
export async function rememberBaseline(
  context: TransferContext,
  source: Environment,
  destination: Environment,
  origin: Origin,
  leftOut: LeftOut,
): Promise<void> {
  const { installation, record } = context;
  const isTakenDown = await fs.stat(context.spoolFolder).then(
    () => true,
    () => false,
  );
  // Run again after a crash, this may find that it has been packed already.
  if (!isTakenDown) return;
  const lower = lowerOf(source, destination);
  const upper = lower === source.path ? destination.path : source.path;
  const profile = await context.profileVersion(source.site);
  await installation.records.transaction(async (trx) => {
    // Noted by a worker that died over it: it may be packed in this moment, and its spool go at any other.
    const known = await findBaseline(trx, lower, upper);
    if (known && record.started_at && known.created_at >= record.started_at) {
      if (known.spool) await enqueue(trx, 'pack', record.id);
      return;
    }
    await saveBaseline(trx, {
      lower,
      upper,
      lower_manifest: null,
      upper_manifest: null,
      spool: {
        id: record.id,
        site: source.site,
        source: source.path,
        sourceKind: source.kind,
        copy: destination.path,
        copyKind: destination.kind,
        takenAt: installation.now().toISOString(),
        begunAt: 'from' in origin ? record.started_at?.toISOString() : undefined,
        profile,
      },
      left_out: { tables: [...leftOut.tables], areas: [...leftOut.areas], paths: [...leftOut.paths] },
      created_at: installation.now(),
      derived: false,
    });
    await enqueue(trx, 'pack', record.id);
  });
}
