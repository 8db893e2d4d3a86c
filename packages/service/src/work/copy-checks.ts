import type { Check } from '@tessarion/contract';
import {
  type BrokenMask,
  calledIn,
  fitCheck,
  looksPersonal,
  type Misfit,
  maskCheck,
  personalPlaces,
  personalValues,
  rulesForTable,
  shapeConflicts,
} from '@tessarion/core';
import {
  EngineError,
  type Environment,
  type LeftOut,
  masksThatBreak,
  misfitsInCopy,
  readable,
  type SchemaShape,
  type SiteDatabase,
  sampleValues,
  type TableShape,
} from '@tessarion/engine';
import { missingPaths, nearestWords, tablesOf } from '../fleet/known-names.js';
import { getSnapshot } from '../stored/snapshots.js';
import type { Origin } from '../transfers/inputs.js';
import type { TransferContext } from './context.js';
import type { CopyWishes } from './copying.js';
import { measure } from './measure.js';

/** Of what a copy holds, for indexes and what is written beside. */
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
  if (!source.profile)
    checks.push({
      name: 'profile',
      state: 'failed',
      message: `${source.site} has no profile, so nobody has said what may be copied.`,
      remedy: `Give it one when you bring it in: tessarion site adopt --profile NAME`,
    });
  const conflicts = shapeConflicts(source.place, destination.place);
  checks.push({
    name: 'addresses',
    state: conflicts.length === 0 ? 'passed' : 'failed',
    message: conflicts[0] ?? 'Every address of the source has its counterpart.',
  });
  checks.push(...(await leftOutChecks(context, source, origin, wishes.leftOut)));
  checks.push(await checkRoom(context, source, destination, origin));
  if ('from' in origin) checks.push(...(await checkDatabases(context, source, destination, wishes)));
  return checks;
}

/** Whoever misspells what is to be left out would get it, and read that it was left out. */
async function leftOutChecks(
  context: TransferContext,
  source: Environment,
  origin: Origin,
  { tables, paths }: LeftOut,
): Promise<Check[]> {
  const there =
    'snapshot' in origin
      ? (await context.library().load(origin.snapshot)).databases.flatMap(({ name, tables: all }) =>
          all.map((one) => calledIn(source.profile, { ...one, database: name })),
        )
      : (await tablesOf(source)).map((one) => calledIn(source.profile, one));
  const checks = tables
    .filter((table) => !there.includes(table))
    .map((table): Check => {
      const message = `There is no table "${table}" to leave out. ${nearestWords(table, there)}`;
      return { name: 'left out', state: 'failed', message, remedy: 'Correct the name, or do not leave it out.' };
    });
  // What a snapshot has is not looked through for a path.
  const missing = 'snapshot' in origin ? [] : await missingPaths(source, paths);
  for (const path of missing)
    checks.push({
      name: 'left out',
      state: 'failed',
      message: `There is no path "${path}" in ${source.path} to leave out.`,
      remedy: 'Correct it, or do not leave it out.',
    });
  return checks;
}

/** PostgreSQL lets every login into every database, until somebody says otherwise. */
const entryCheck = (database: string, isOpen: boolean): Check =>
  isOpen
    ? {
        name: 'logins',
        state: 'failed',
        message: `Every login of the server may enter the database ${database}: the copy’s would, too.`,
        remedy: `Say on the server: REVOKE CONNECT ON DATABASE ${database} FROM PUBLIC; its owner stays in, and other logins that need it get it by GRANT CONNECT.`,
      }
    : { name: 'logins', state: 'passed', message: `The database ${database} lets in nobody whom it does not know.` };

/** Records the checks, and stops when one failed. @returns how many passed, in words */
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

async function checkRoom(
  context: TransferContext,
  source: Environment,
  destination: Environment,
  origin: Origin,
): Promise<Check> {
  const size = 'snapshot' in origin ? await snapshotSize(context, origin.snapshot) : await measure(source);
  context.totalBytes = size.fileBytes + size.databaseBytes;
  const needed = Math.ceil(context.totalBytes * ROOM_MARGIN);
  const free = await destination.server.freeBytes(destination.folder.split('/').slice(0, -1).join('/'));
  if (free >= needed)
    return { name: 'room', state: 'passed', message: `${gigabytes(free)} free, ${gigabytes(needed)} needed.` };
  return {
    name: 'room',
    state: 'failed',
    message: `The server has ${gigabytes(free)} free; this copy needs ${gigabytes(needed)}.`,
    remedy: 'Free some space, or leave areas or tables out.',
  };
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

/** What is found in the tables of a source's databases, all of them together. */
interface Found {
  readonly personal: string[];
  readonly unclassified: string[];
  readonly broken: BrokenMask[];
  readonly misfits: Misfit[];
  untried: number;
}

async function checkDatabases(
  context: TransferContext,
  source: Environment,
  destination: Environment,
  wishes: CopyWishes,
): Promise<Check[]> {
  const { records, servers } = context.installation;
  const { server } = await context.environmentRecord(destination.path);
  const record = await servers.get(records, server);
  const admin = servers.admin(record);
  const offers = await admin.offers();
  const open = await admin.openToAll();
  const checks: Check[] = source.databases
    // On another server nobody knows the copy's login.
    .filter(({ login }) => servers.holds(record, login))
    .map(({ login }) => entryCheck(login.database, open.includes(login.database)));
  const found: Found = { personal: [], unclassified: [], broken: [], misfits: [], untried: 0 };
  for (const database of source.databases) {
    const view = await database.system.view(database);
    try {
      const { schema } = view;
      checks.push(...serverChecks(schema, offers));
      found.broken.push(...masksThatBreak(schema, source.profile));
      const undecided = lookAtClasses(schema, source, wishes.leftOut, found);
      found.personal.push(...(await personalByValues(source, database, undecided)));
      const misfits = await misfitsInCopy(database, schema.tables, source, destination, wishes.leftOut);
      found.misfits.push(...misfits.found);
      found.untried += misfits.untried;
    } finally {
      await view.close();
    }
  }
  checks.push(personalCheck(found.personal, wishes.acceptPersonal));
  if (found.broken.length > 0) checks.push(maskCheck(found.broken));
  if (found.unclassified.length > 0)
    checks.push({
      name: 'unclassified tables',
      state: 'warning',
      message: `Made empty, since nobody has classified them: ${found.unclassified.join(', ')}.`,
      remedy: 'Classify them in the profile.',
    });
  checks.push(copyFitCheck(found));
  return checks;
}

/** Whether the server can hold a copy of a database. */
function serverChecks(
  schema: SchemaShape,
  { version, extensions }: { readonly version: string; readonly extensions: ReadonlySet<string> },
): Check[] {
  const missing = schema.extensions.map((one) => one.name).filter((name) => !extensions.has(name));
  return [
    ...(missing.length === 0
      ? []
      : [
          {
            name: 'extensions',
            state: 'failed' as const,
            message: `The database server lacks ${missing.join(', ')}.`,
            remedy: 'Install them on the database server.',
          },
        ]),
    schema.server === version
      ? { name: 'versions', state: 'passed', message: `Both ends run ${version}.` }
      : {
          name: 'versions',
          state: 'warning',
          message: `The source runs ${schema.server}, the copy will run ${version}.`,
        },
  ];
}

/** A column that is copied as it is, and of which no name tells whether it is personal. */
interface Undecided {
  readonly table: TableShape;
  readonly column: string;
  readonly isOfVisitors: boolean;
}

/**
 * Notes the columns whose names look personal, and the tables, about which nobody has decided.
 *
 * @returns the other columns of text about which nobody has decided
 */
function lookAtClasses(schema: SchemaShape, { profile }: Environment, leftOut: LeftOut, found: Found): Undecided[] {
  const undecided: Undecided[] = [];
  for (const table of schema.tables) {
    const label = calledIn(profile, table);
    const columns = readable(table).map((column) => column.name);
    const rules = rulesForTable(profile, table, columns);
    if (rules.class === 'unclassified') found.unclassified.push(label);
    if (!['authored', 'collected'].includes(rules.class) || leftOut.tables.includes(label)) continue;
    for (const column of rules.columns) {
      if (column.mask !== undefined) continue;
      if (looksPersonal(column.name)) found.personal.push(`${label}.${column.name}`);
      else if (table.columns.some((one) => one.name === column.name && (one.isText || /^jsonb?$/.test(one.type))))
        undecided.push({ table, column: column.name, isOfVisitors: rules.class === 'collected' });
    }
  }
  return undecided;
}

/** Looks at samples of what columns hold, since a name may stand in one that is called anything. */
async function personalByValues(
  { profile }: Environment,
  database: SiteDatabase,
  undecided: readonly Undecided[],
): Promise<string[]> {
  const samples = await sampleValues(database, [...new Set(undecided.map((one) => one.table))]);
  return undecided.flatMap(({ table, column, isOfVisitors }) => {
    const values = samples.get(table)?.get(column) ?? [];
    const name = `${calledIn(profile, table)}.${column}`;
    const looks = personalValues(values, isOfVisitors);
    if (looks !== undefined) return [`${name} (its values look like ${looks})`];
    const places = personalPlaces(values, isOfVisitors);
    return places.map((one) => `${name} (what stands at ${one.path} in it looks like ${one.looks})`);
  });
}

/** @param reason why columns are copied about which nobody has decided */
function personalCheck(personal: readonly string[], reason: string | undefined): Check {
  if (personal.length === 0)
    return { name: 'personal data', state: 'passed', message: 'Every column that looks personal is classified.' };
  if (reason !== undefined)
    return {
      name: 'personal data',
      state: 'warning',
      message: `Copied as they are: ${personal.join(', ')} (${reason}).`,
    };
  return {
    name: 'personal data',
    state: 'failed',
    message: `Nobody has said whether these are personal: ${personal.join(', ')}.`,
    remedy: 'Say it in the profile ("personal: keep" where they are not), or accept it with a reason.',
  };
}

/** Whether what holds an address fits once it is rewritten. */
function copyFitCheck({ misfits, untried }: Found): Check {
  if (misfits.length === 0 && untried > 0)
    return {
      name: 'values',
      state: 'warning',
      message: 'There are too many values that hold an address to try them all beforehand.',
      remedy: 'If one does not fit, the copy stops while it is loaded, and nothing of it is left.',
    };
  return fitCheck(
    misfits,
    'Every value fits once it holds the address of the copy.',
    'Give the copy a shorter address, widen the column, or let the profile say "rewrite: never" for it.',
  );
}
