import pg from 'pg';
import { EngineError, messageOf } from '../errors.js';
import type { DatabaseLogin } from './site-database.js';

/** Fixes how the server writes values as text, so that the same value always has the same bytes. */
const TEXT_SETTINGS = [
  "SET TimeZone = 'UTC'",
  "SET DateStyle = 'ISO, YMD'",
  "SET IntervalStyle = 'postgres'",
  'SET extra_float_digits = 1',
  "SET bytea_output = 'hex'",
  "SET client_encoding = 'UTF8'",
  "SET xmloption = 'content'",
  "SET search_path = ''",
].join('; ');

export type SessionUse = 'read' | 'write';

/** Writing sessions end soon after their client is gone, so that visitors wait on no lock of a dead worker. */
const WRITE_SETTINGS =
  "SET client_connection_check_interval = '500ms'; SET lock_timeout = '5s'; SET idle_in_transaction_session_timeout = '10s'";

/** Statements that make a session as every reading or writing one is. */
export const settingsFor = (use: SessionUse): string =>
  use === 'write' ? `${TEXT_SETTINGS}; ${WRITE_SETTINGS}` : TEXT_SETTINGS;

export const applicationName = (purpose: string): string => `tessarion ${purpose}`.slice(0, 63);

/** How long each try of a connection may take: a server that is busy, or a machine that stood still, gets another. */
const PATIENCE_MS = [5000, 10_000, 15_000];

/**
 * Opens a session on a site's database, of which nobody knows yet whether it answers. A server that stays silent is asked
 * again; one that refuses is not. What asks a known database again and again borrows sessions instead (`sessions.ts`).
 *
 * @param patience how long each try may take, in milliseconds
 * @throws {EngineError} `database-unreachable`, `database-refused`
 */
export async function connectTo(
  login: DatabaseLogin,
  use: SessionUse,
  purpose: string,
  patience: readonly number[] = PATIENCE_MS,
): Promise<pg.Client> {
  for (const [tried, wait] of patience.entries()) {
    try {
      return await session(login, use, purpose, wait);
    } catch (error) {
      if (!stayedSilent(error) || tried === patience.length - 1) throw databaseError(error, login);
    }
  }
  throw new Error('Unreachable: the last try returns or throws.');
}

async function session(login: DatabaseLogin, use: SessionUse, purpose: string, wait: number): Promise<pg.Client> {
  const client = new pg.Client({
    host: login.host,
    port: login.port,
    database: login.database,
    user: login.user,
    password: login.password,
    application_name: applicationName(purpose),
    connectionTimeoutMillis: wait,
    keepAlive: true,
  });
  client.on('error', () => undefined);
  try {
    await client.connect();
    await client.query(settingsFor(use));
    return client;
  } catch (error) {
    await client.end().catch(() => undefined);
    throw error;
  }
}

/** `pg` has no code for the end of `connectionTimeoutMillis`. */
const stayedSilent = (error: unknown): boolean =>
  (error as { code?: string }).code === 'ETIMEDOUT' || /timeout expired/.test(messageOf(error));

/** Gives a database error a plain reason. */
export function databaseError(error: unknown, login: Pick<DatabaseLogin, 'host' | 'port' | 'database'>): EngineError {
  if (error instanceof EngineError) return error;
  const code = (error as { code?: string }).code ?? '';
  const where = `${login.database} on ${login.host}:${login.port}`;
  if (
    ['ECONNREFUSED', 'ENOENT', 'ETIMEDOUT', 'ECONNRESET', 'EPIPE', '57P01', '57P02', '57P03'].includes(code) ||
    /Connection terminated|timeout expired/.test(messageOf(error))
  ) {
    return new EngineError(
      'database-unreachable',
      `The database ${where} cannot be reached: ${messageOf(error)}.`,
      'See that the database server runs and accepts connections, then run it again.',
      { cause: error },
    );
  }
  if (['28P01', '28000', '3D000', '53300', '42501'].includes(code)) {
    return new EngineError(
      'database-refused',
      `The database ${where} refused: ${messageOf(error)}.`,
      'Check the login that is recorded for this environment.',
      { cause: error },
    );
  }
  if (code === '22001') {
    const { table, column, where: place } = error as { table?: string; column?: string; where?: string };
    const cell =
      /COPY [^,]+, line \d+, column [^:]+/.exec(place ?? '')?.[0] ?? [table, column].filter(Boolean).join('.');
    return new EngineError(
      'value-too-long',
      `A value does not fit once it holds this environment's address: ${messageOf(error)}${cell === '' ? '' : ` (${cell})`}.`,
      'Give the environment a shorter address, widen the column, or let the profile say "rewrite: never" for it.',
      { cause: error },
    );
  }
  if (['23502', '23505', '23514', '23P01'].includes(code))
    return valueRefused(messageOf(error), (error as { detail?: string }).detail, error);
  if (code === '53100') {
    return new EngineError(
      'disk-full',
      `The database server of ${where} has no room left.`,
      'Free some space on the server and run it again.',
      { cause: error },
    );
  }
  return new EngineError(
    'command-failed',
    `The database ${where} says: ${messageOf(error)}.`,
    'Look at the statement in the log and at the data that it names.',
    { cause: error },
  );
}

/** A value breaks a constraint: the server's words name the row. */
export const valueRefused = (message: string, detail: string | undefined, cause: unknown): EngineError =>
  new EngineError(
    'value-refused',
    `The database refuses a value: ${message}${detail === undefined ? '' : ` (${detail})`}.`,
    "Correct the row, or the profile where an address was rewritten that should stay; see the copy's own address too.",
    { cause },
  );
