import type { Socket } from 'node:net';
import type { Duplex } from 'node:stream';
import { tableLabel } from '@tessarion/core';
import pg from 'pg';
import { EngineError, messageOf } from '../ports/errors.js';
import type { DatabaseLogin } from '../ports/shapes.js';

/** Fixes how the server writes and reads values as text, whatever a database's own settings are. */
const TEXT_SETTINGS = [
  'SET standard_conforming_strings = on',
  "SET TimeZone = 'UTC'",
  "SET DateStyle = 'ISO, YMD'",
  "SET IntervalStyle = 'postgres'",
  'SET extra_float_digits = 1',
  "SET bytea_output = 'hex'",
  "SET client_encoding = 'UTF8'",
  "SET xmloption = 'content'",
  // Rows that a policy hides would be missing without a word; the server refuses instead.
  'SET row_security = off',
  "SET search_path = ''",
].join('; ');

/** What a session is opened for: a reading one cannot write. */
export type SessionUse = 'read' | 'write';

/** Writing sessions end soon after their client is gone, so that visitors wait on no lock of a dead worker. */
const WRITE_SETTINGS =
  "SET client_connection_check_interval = '500ms'; SET lock_timeout = '5s'; SET idle_in_transaction_session_timeout = '10s'";

/** Statements that make a session as every reading or writing one is. */
export const settingsFor = (use: SessionUse): string =>
  use === 'write' ? `${TEXT_SETTINGS}; ${WRITE_SETTINGS}` : TEXT_SETTINGS;

/** How a session names itself in `pg_stat_activity`; PostgreSQL keeps 63 bytes of it. */
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
  const channel = login.by && (await login.by.dial(login.host, login.port));
  const client = new pg.Client({
    // Beside another server's of the same address, this one is told apart by its name.
    host: login.by ? `${login.by.called} ${login.host}` : login.host,
    ...(channel ? { stream: () => asSocket(channel) } : {}),
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

/** A channel that is open already, with what the driver asks of a socket beside. */
const asSocket = (channel: Duplex): Socket => {
  const itself = (): unknown => channel;
  const connect = (): unknown => {
    setImmediate(() => channel.emit('connect'));
    return channel;
  };
  const socket = { connect, setNoDelay: itself, setKeepAlive: itself, setTimeout: itself, ref: itself, unref: itself };
  return Object.assign(channel, socket) as unknown as Socket;
};

/** `pg` has no code for the end of `connectionTimeoutMillis`. */
const stayedSilent = (error: unknown): boolean =>
  (error as { code?: string }).code === 'ETIMEDOUT' || /timeout expired/.test(messageOf(error));

/** What the server says of an error apart from its words: names of things, never what they hold. */
interface ServerError {
  readonly code?: string;
  readonly schema?: string;
  readonly table?: string;
  readonly column?: string;
  readonly constraint?: string;
  readonly dataType?: string;
  readonly where?: string;
}

/** Classes of errors whose words name things and no values (PostgreSQL, appendix A). */
const NAMES_ONLY = /^(?:0A|23|25|28|3D|3F|40|42|53|54|55|57|58)/;
/** Words of an error may end in a value, such as `invalid input syntax for type integer: "…"`. */
const VALUE = /:\s.*$/s;

/**
 * The server's words without values: those are somebody's, and words go into records, logs and to other programs. What a
 * site's own function says may be anything, and is left out.
 */
function wordsOf(error: unknown): string {
  const { code } = error as ServerError;
  if (code === undefined || !/^[\dA-Z]{5}$/.test(code)) return messageOf(error);
  if (code.startsWith('P0')) {
    const [, name] = /PL\/pgSQL function (\S+?)\(/.exec((error as ServerError).where ?? '') ?? [];
    return `a function of the site's own stops it (${name === undefined ? code : `${name}, ${code}`})`;
  }
  return NAMES_ONLY.test(code) ? messageOf(error) : messageOf(error).replace(VALUE, '');
}

/** Where an error arose, as far as the server names it. */
function placeOf(error: unknown): string {
  const { schema, table, column, where } = error as ServerError;
  const line = /COPY ([^,]+), line (\d+)(?:, column ([^:]+))?/.exec(where ?? '');
  if (line) return `${line[1]}${line[3] === undefined ? '' : `.${line[3]}`}, line ${line[2]} of what is loaded`;
  const label = table === undefined ? undefined : tableLabel({ schema: schema ?? '', name: table });
  return [label, column].filter(Boolean).join('.');
}

/** An error as it may be kept as a cause, and so in logs. */
export const withoutValues = (error: unknown): Error => {
  const { code, schema, table, column, constraint, dataType } = error as ServerError;
  const kept = new Error(wordsOf(error));
  if (error instanceof Error && error.stack !== undefined)
    kept.stack = `${kept.message}\n${error.stack
      .split('\n')
      .filter((line) => /^\s+at /.test(line))
      .join('\n')}`;
  return Object.assign(kept, { code, schema, table, column, constraint, dataType });
};

/** Refusals of a server that starts or ends, and what a network says (PostgreSQL, appendix A; errno). */
const CONNECTION_CODES: ReadonlySet<string> = new Set([
  ...['57P01', '57P02', '57P03', '08000', '08003', '08006'],
  ...['ECONNREFUSED', 'ETIMEDOUT', 'ECONNRESET', 'EPIPE'],
]);

/** Whether a driver's error says that the server cannot be reached, or not any longer. */
export const isConnectionLost = (error: unknown): boolean =>
  CONNECTION_CODES.has((error as ServerError).code ?? '') ||
  // A socket that is not there, rather than a file.
  ((error as NodeJS.ErrnoException).code === 'ENOENT' && (error as NodeJS.ErrnoException).syscall === 'connect') ||
  /Connection terminated|connection error and is not queryable|timeout expired/.test(messageOf(error));

/** Gives a database error a plain reason, without the values that the server may name with it. */
export function databaseError(
  error: unknown,
  login: Pick<DatabaseLogin, 'host' | 'port' | 'database' | 'by'>,
): EngineError {
  if (error instanceof EngineError) return error;
  const code = (error as ServerError).code ?? '';
  const where = `${login.database} on ${login.host}:${login.port}${login.by ? ` of ${login.by.called}` : ''}`;
  const [words, place, cause] = [wordsOf(error), placeOf(error), withoutValues(error)];
  const at = place === '' ? '' : ` (${place})`;
  if (isConnectionLost(error)) {
    return new EngineError(
      'database-unreachable',
      `The database ${where} cannot be reached: ${words}.`,
      'See that the database server runs and accepts connections, then run it again.',
      { cause },
    );
  }
  if (code === '42501' && words.includes('row-level security'))
    return new EngineError(
      'database-refused',
      `The database ${where} hides rows from its own login: ${words}.`,
      'Let the login pass by the policy (ALTER ROLE … BYPASSRLS), or take FORCE ROW LEVEL SECURITY off the table.',
      { cause },
    );
  if (['28P01', '28000', '3D000', '53300', '42501'].includes(code)) {
    return new EngineError(
      'database-refused',
      `The database ${where} refused: ${words}.`,
      'Check the login that is recorded for this environment.',
      { cause },
    );
  }
  if (code === '22001') {
    return new EngineError(
      'value-too-long',
      `A value does not fit once it holds this environment's address: ${words}${at}.`,
      'Give the environment a shorter address, widen the column, or let the profile say "rewrite: never" for it.',
      { cause },
    );
  }
  if (['23502', '23505', '23514', '23P01'].includes(code))
    return new EngineError(
      'value-refused',
      `The database refuses a value: ${words}${words.includes(place.split('.')[0] as string) ? '' : at}.`,
      'Correct the row, or the profile where an address was rewritten that should stay; the table and its constraint say which.',
      { cause },
    );
  if (code === '53100') {
    return new EngineError(
      'disk-full',
      `The database server of ${where} has no room left.`,
      'Free some space on the server and run it again.',
      { cause },
    );
  }
  return new EngineError(
    'command-failed',
    `The database ${where} says: ${words}${at}.`,
    "Look into the database server's own log, which has the values too.",
    { cause },
  );
}
