import { createHmac } from 'node:crypto';
import * as fs from 'node:fs/promises';
import type { Check } from '@tessarion/contract';
import { counted, looksPersonal, rulesForTable, shapeConflicts } from '@tessarion/core';
import {
  type BrokenMask,
  buildCopy,
  type CopySource,
  connectTo,
  EngineError,
  type Environment,
  type LeftOut,
  LiveSource,
  type Misfit,
  masksThatBreak,
  misfitsInCopy,
  PostgresView,
  profileName,
  readable,
  SnapshotSource,
  TRACE_WORDS,
  TraceFinder,
} from '@tessarion/engine';
import { enqueue } from '../records/queue.js';
import { findBaseline, getSnapshot, saveBaseline } from '../records/snapshots.js';
import type { TransferContext } from './context.js';
import { fitCheck } from './forecast-checks.js';
import { maskCheck } from './mask-check.js';
import { measure } from './measure.js';
import { lowerOf } from './pair.js';

/** Where a copy's content comes from. */
export type Origin = { readonly from: string } | { readonly snapshot: string };

export interface CopyWishes {
  readonly leftOut: LeftOut;
  readonly acceptTraces: readonly string[];
  /** Reason for copying columns that look personal and are not classified. */
  readonly acceptPersonal: string | undefined;
}

export const NOTHING_LEFT_OUT: LeftOut = { tables: [], areas: [], paths: [] };

const ROOM_MARGIN = 1.2;

/** Checks made before anything is written; all of them, so that a person sees everything at once. */
export async function checkCopy(
  context: TransferContext,
  source: Environment,
  destination: Environment,
  origin: Origin,
  wishes: CopyWishes,
): Promise<Check[]> {
  const checks: Check[] = [];
  const add = (name: string, state: Check['state'], message: string, remedy?: string): void => {
    checks.push({ name, state, message, ...(remedy === undefined ? {} : { remedy }) });
  };
  if (!source.profile)
    add(
      'profile',
      'failed',
      `${source.site} has no profile, so nobody has said what may be copied.`,
      `Give it one when you bring it in: tessarion site adopt --profile NAME`,
    );

  const conflicts = shapeConflicts(source.place, destination.place);
  add(
    'addresses',
    conflicts.length === 0 ? 'passed' : 'failed',
    conflicts[0] ?? 'Every address of the source has its counterpart.',
  );

  const size = 'snapshot' in origin ? await snapshotSize(context, origin.snapshot) : await measure(source);
  context.totalBytes = size.fileBytes + size.databaseBytes;
  const needed = Math.ceil((size.fileBytes + size.databaseBytes) * ROOM_MARGIN);
  const parent = destination.folder.split('/').slice(0, -1).join('/');
  const free = await destination.server.freeBytes(parent);
  if (free < needed)
    add(
      'room',
      'failed',
      `The server has ${gigabytes(free)} free; this copy needs ${gigabytes(needed)}.`,
      'Free some space, or leave areas or tables out.',
    );
  else add('room', 'passed', `${gigabytes(free)} free, ${gigabytes(needed)} needed.`);

  if ('from' in origin) {
    await checkTables(context, source, wishes, add);
    checks.push(await checkFit(source, destination, wishes.leftOut));
  }
  return checks;
}

async function checkTables(
  context: TransferContext,
  source: Environment,
  wishes: CopyWishes,
  add: (name: string, state: Check['state'], message: string, remedy?: string) => void,
): Promise<void> {
  const admin = context.installation.servers.admin(
    await context.installation.servers.get(
      context.installation.records,
      (await context.environmentRecord(source.path)).server,
    ),
  );
  const available = await admin.extensions();
  const version = await admin.serverVersion();
  const personal: string[] = [];
  const unclassified: string[] = [];
  const broken: BrokenMask[] = [];
  for (const { name, login } of source.databases) {
    const view = await PostgresView.open(login);
    try {
      const missing = view.schema.extensions.map((one) => one.name).filter((name) => !available.has(name));
      if (missing.length > 0)
        add(
          'extensions',
          'failed',
          `The database server lacks ${missing.join(', ')}.`,
          'Install them on the database server.',
        );
      if (view.schema.server !== version)
        add('versions', 'warning', `The source runs ${view.schema.server}, the copy will run ${version}.`);
      else add('versions', 'passed', `Both ends run ${version}.`);
      broken.push(...(await masksThatBreak(login, view.schema, source.profile, name)));
      for (const table of view.schema.tables) {
        const columns = readable(table).map((column) => column.name);
        const rules = rulesForTable(source.profile, name, profileName(table), columns);
        if (rules.class === 'unclassified') unclassified.push(profileName(table));
        if (!['authored', 'collected'].includes(rules.class) || wishes.leftOut.tables.includes(profileName(table)))
          continue;
        for (const column of rules.columns)
          if (column.mask === undefined && looksPersonal(column.name))
            personal.push(`${profileName(table)}.${column.name}`);
      }
    } finally {
      await view.close();
    }
  }
  if (personal.length > 0 && wishes.acceptPersonal === undefined)
    add(
      'personal data',
      'failed',
      `Nobody has said whether these are personal: ${personal.join(', ')}.`,
      'Say it in the profile ("personal: keep" where they are not), or accept it with a reason.',
    );
  else
    add(
      'personal data',
      personal.length > 0 ? 'warning' : 'passed',
      personal.length > 0
        ? `Copied as they are: ${personal.join(', ')} (${wishes.acceptPersonal}).`
        : 'Every column that looks personal is classified.',
    );
  if (broken.length > 0) {
    const { name, state, message, remedy } = maskCheck(broken);
    add(name, state, message, remedy);
  }
  if (unclassified.length > 0)
    add(
      'unclassified tables',
      'warning',
      `Made empty, since nobody has classified them: ${unclassified.join(', ')}.`,
      'Classify them in the profile.',
    );
}

/** Tries what holds an address against the columns that cannot hold everything. */
async function checkFit(source: Environment, destination: Environment, leftOut: LeftOut): Promise<Check> {
  const found: Misfit[] = [];
  let untried = 0;
  for (const { name, login } of source.databases) {
    const misfits = await misfitsInCopy(name, login, source, destination, leftOut);
    found.push(...misfits.found);
    untried += misfits.untried;
  }
  if (found.length === 0 && untried > 0)
    return {
      name: 'values',
      state: 'warning',
      message: 'There are too many values that hold an address to try them all beforehand.',
      remedy: 'If one does not fit, the copy stops while it is loaded, and nothing of it is left.',
    };
  return fitCheck(
    found,
    'Every value fits once it holds the address of the copy.',
    'Give the copy a shorter address, widen the column, or let the profile say "rewrite: never" for it.',
  );
}

async function snapshotSize(
  context: TransferContext,
  id: string,
): Promise<{ fileBytes: number; databaseBytes: number }> {
  const record = await getSnapshot(context.installation.records, id);
  return { fileBytes: record.bytes, databaseBytes: 0 };
}

const gigabytes = (bytes: number): string =>
  bytes >= 1e9 ? `${(bytes / 1e9).toFixed(1)} GB` : `${(bytes / 1e6).toFixed(1)} MB`;

/** Records the checks, and stops when one failed. */
export async function settleChecks(context: TransferContext, checks: readonly Check[]): Promise<string> {
  await context.installation.transfers.update(context.installation.records, context.record.id, { checks: [...checks] });
  const failed = checks.filter((check) => check.state === 'failed');
  if (failed[0])
    throw new EngineError(
      'stopped',
      failed.map((check) => check.message).join(' '),
      failed[0].remedy ?? 'Look at the checks of this transfer.',
    );
  return `${checks.filter((check) => check.state === 'passed').length} passed, ${checks.filter((check) => check.state === 'warning').length} warnings`;
}

/** Makes the empty databases of a copy, each with its own login and the extensions of its source. */
export async function makeDatabases(
  context: TransferContext,
  source: Environment,
  destination: Environment,
): Promise<void> {
  const { records, servers } = context.installation;
  const { server } = await context.environmentRecord(destination.path);
  const admin = servers.admin(await servers.get(records, server));
  for (const { name, login } of destination.databases) {
    const from = source.databases.find((one) => one.name === name)?.login;
    if (!from)
      throw new EngineError(
        'schema-unsupported',
        `${source.path} has no database "${name}".`,
        'Look at its databases: tessarion env show',
      );
    const view = await PostgresView.open(from);
    await view.close();
    await admin.create(login, view.schema.extensions);
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
  await buildCopy(
    {
      source: from,
      destination,
      leftOut: wishes.leftOut,
      exact,
      hash: (value) => createHmac('sha256', key).update(value, 'latin1').digest(),
      traces,
      guarded: exact ? undefined : source,
      treeId: context.record.id,
      spools: remembers ? { folder: spoolFolder, key: library.location.key } : undefined,
    },
    context.work,
  );
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
    const entered = await connectTo(
      { ...other.login, user: own.login.user, password: own.login.password },
      'read',
      'proof',
    ).then(
      (client) => client.end().then(() => true),
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
        profile,
      },
      left_out: { tables: [...leftOut.tables], areas: [...leftOut.areas], paths: [...leftOut.paths] },
      created_at: installation.now(),
      derived: false,
    });
    await enqueue(trx, 'pack', record.id);
  });
}
