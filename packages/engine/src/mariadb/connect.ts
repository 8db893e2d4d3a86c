import { createHash } from 'node:crypto';
import type { Readable } from 'node:stream';
import type { Connection, QueryError, ResultSetHeader } from 'mysql2';
import { EngineError, messageOf } from '../ports/errors.js';
import type { DatabaseLogin } from '../ports/shapes.js';
import { quoteText } from './sql.js';

/** A row, each value in the bytes that the server keeps. */
export type Row = (Buffer | null)[];

/** What a session is opened for: a reading one cannot write, and only one that loads gives a server what it asks for. */
export type SessionUse = 'read' | 'write' | 'load';

/** What is exact whatever a server's own settings are (design, *MariaDB, Sessions*). */
const SETTINGS = `SET SESSION
  sql_mode='STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,NO_ENGINE_SUBSTITUTION,ERROR_FOR_DIVISION_BY_ZERO',
  time_zone='+00:00', character_set_results=NULL, net_write_timeout=3600, net_read_timeout=3600, max_statement_time=0,
  sql_select_limit=DEFAULT, sql_big_selects=1, group_concat_max_len=16777216`;

/** A writing session waits for nobody for long, and leaves no lock behind when its client stands still. */
const WRITE_SETTINGS = `SET SESSION idle_write_transaction_timeout=10, innodb_lock_wait_timeout=5, lock_wait_timeout=5,
  tx_isolation='READ-COMMITTED'`;

/** How long each try of a connection may take: a server that is busy, or a machine that stood still, gets another. */
const PATIENCE_MS = [5000, 10_000, 15_000];

/** The name of a lock that says for what a session was opened; names of locks are the whole server's. */
export const lockOf = (database: string, purpose: string): string =>
  `tsr.${createHash('sha256').update(`${database}\0${purpose}`).digest('hex').slice(0, 40)}`;

/** A session on a server. */
export class Session {
  readonly login: DatabaseLogin;
  readonly #connection: Connection;

  private constructor(login: DatabaseLogin, connection: Connection) {
    this.login = login;
    this.#connection = connection;
  }

  /**
   * Opens one. A server that stays silent is asked again; one that refuses is not.
   *
   * @param patience how long each try may take, in milliseconds
   * @throws {EngineError} `database-unreachable`, `database-refused`
   */
  static async open(
    login: DatabaseLogin,
    use: SessionUse,
    patience: readonly number[] = PATIENCE_MS,
  ): Promise<Session> {
    for (const [tried, wait] of patience.entries()) {
      try {
        return await Session.#once(login, use, wait);
      } catch (error) {
        if ((error as QueryError).code !== 'ETIMEDOUT' || tried === patience.length - 1)
          throw databaseError(error, login);
      }
    }
    throw new Error('Unreachable: the last try returns or throws.');
  }

  static async #once(login: DatabaseLogin, use: SessionUse, wait: number): Promise<Session> {
    const { createConnection } = await import('mysql2');
    const stream = login.by && (await login.by.dial(login.host, login.port));
    const connection = createConnection({
      host: login.host,
      port: login.port,
      user: login.user,
      password: login.password,
      charset: 'utf8mb4',
      connectTimeout: wait,
      // A server must not ask for files of ours; where rows are loaded, it gets those, whatever it asks for.
      flags: [use === 'load' ? '+LOCAL_FILES' : '-LOCAL_FILES'],
      ...(login.database === '' ? {} : { database: login.database }),
      ...(stream ? { stream } : {}),
    });
    connection.on('error', () => undefined);
    const session = new Session(login, connection);
    try {
      await new Promise<void>((resolve, reject) => {
        connection.connect((error) => (error ? reject(error) : resolve()));
      });
      await session.run(SETTINGS);
      if (use !== 'read') await session.run(WRITE_SETTINGS);
      return session;
    } catch (error) {
      connection.destroy();
      throw error;
    }
  }

  /** The server's number of this session. */
  get id(): number {
    return this.#connection.threadId as number;
  }

  /** All rows that a question gives. */
  rows(sql: string): Promise<Row[]> {
    return new Promise((resolve, reject) => {
      this.#connection.query({ sql, rowsAsArray: true, typeCast: false }, (error, rows) =>
        error ? reject(error) : resolve(rows as unknown as Row[]),
      );
    });
  }

  /** The rows as texts. */
  async texts(sql: string): Promise<(string | null)[][]> {
    return (await this.rows(sql)).map((row) => row.map((value) => (value === null ? null : value.toString())));
  }

  /** The only value of the only row. */
  async value(sql: string): Promise<string | null> {
    return (await this.texts(sql))[0]?.[0] ?? null;
  }

  /** @returns how many rows were written */
  run(sql: string): Promise<number> {
    return new Promise((resolve, reject) => {
      this.#connection.query({ sql }, (error, result) =>
        error ? reject(error) : resolve((result as ResultSetHeader).affectedRows ?? 0),
      );
    });
  }

  /** Rows as they come; whoever stops early ends the session with it. */
  async *stream(sql: string): AsyncGenerator<Row> {
    const rows = this.#connection.query({ sql, rowsAsArray: true, typeCast: false }).stream({ highWaterMark: 500 });
    let isOver = false;
    try {
      for await (const row of rows) yield row as Row;
      isOver = true;
    } finally {
      if (!isOver) this.destroy();
    }
  }

  /** Runs a LOAD DATA LOCAL. @returns how many rows were made, and how many values the server was not content with */
  load(sql: string, content: Readable): Promise<{ readonly rows: number; readonly warnings: number }> {
    return new Promise((resolve, reject) => {
      this.#connection.query({ sql, infileStreamFactory: () => content }, (error, result) => {
        if (error) return reject(error);
        const { affectedRows, warningStatus } = result as ResultSetHeader;
        resolve({ rows: affectedRows, warnings: warningStatus });
      });
    });
  }

  end(): Promise<void> {
    return new Promise((resolve) => {
      this.#connection.end(() => resolve());
    });
  }

  /** Ends it at once, with what it was doing. */
  destroy(): void {
    this.#connection.destroy();
  }
}

/** Says for what a session is open, so that others can end it by that. @throws {EngineError} `database-unreachable` where another one is at it */
export async function takeLock(session: Session, purpose: string, seconds: number): Promise<void> {
  const { database } = session.login;
  if ((await session.value(`SELECT GET_LOCK(${quoteText(lockOf(database, purpose))}, ${seconds})`)) === '1') return;
  throw new EngineError(
    'database-unreachable',
    `Another session writes to ${database} for the same purpose still.`,
    'Wait for it, then run it again.',
  );
}

/** Errors of the network, and of a server that starts or ends (MariaDB, *Error Codes*). */
const LOST = new Set([
  ...['ECONNREFUSED', 'ETIMEDOUT', 'ECONNRESET', 'EPIPE', 'PROTOCOL_CONNECTION_LOST'],
  ...['ER_SERVER_SHUTDOWN', 'ER_CONNECTION_KILLED', 'ER_QUERY_INTERRUPTED', 'ER_CON_COUNT_ERROR'],
]);
const REFUSED = new Set([
  ...['ER_ACCESS_DENIED_ERROR', 'ER_DBACCESS_DENIED_ERROR', 'ER_BAD_DB_ERROR', 'ER_TABLEACCESS_DENIED_ERROR'],
  ...['ER_SPECIFIC_ACCESS_DENIED_ERROR', 'ER_COLUMNACCESS_DENIED_ERROR', 'ER_ACCOUNT_HAS_BEEN_LOCKED'],
]);
/** Errors whose words hold a value between quotes, which is somebody's. */
const WITH_VALUE =
  /(?:Duplicate entry|Incorrect [\w ]+ value:|Truncated incorrect [\w ]+ value:) '[\s\S]*?'(?= for| at|$)/;

/** The server's words without the values that stand in them. */
export const withoutValue = (words: string): string => words.replace(WITH_VALUE, 'a value that is refused');

const wordsOf = (error: unknown): string => withoutValue(messageOf(error));

/** Whether a driver's error says that the server cannot be reached, or not any longer. */
export const isConnectionLost = (error: unknown): boolean =>
  LOST.has((error as QueryError).code ?? '') || /closed state|Connection lost/.test(messageOf(error));

/** An error as it may be kept as a cause, and so in logs. */
export function withoutValues(error: unknown): Error {
  const { code, errno } = error as QueryError & { errno?: number };
  const kept = new Error(wordsOf(error));
  return Object.assign(kept, { code, errno });
}

/** Gives an error of the driver's a plain reason, without values. */
export function databaseError(
  error: unknown,
  login: Pick<DatabaseLogin, 'host' | 'port' | 'database' | 'by'>,
): EngineError {
  if (error instanceof EngineError) return error;
  const { code = '', errno } = error as QueryError & { errno?: number };
  const where = `${login.database} on ${login.host}:${login.port}${login.by ? ` of ${login.by.called}` : ''}`;
  const [words, cause] = [wordsOf(error), withoutValues(error)];
  if (isConnectionLost(error))
    return new EngineError(
      'database-unreachable',
      `The database ${where} cannot be reached: ${words}.`,
      'See that the database server runs and accepts connections, then run it again.',
      { cause },
    );
  if (REFUSED.has(code))
    return new EngineError(
      'database-refused',
      `The database ${where} refused: ${words}.`,
      'Check the login that is recorded for this environment.',
      { cause },
    );
  if (code === 'ER_DATA_TOO_LONG')
    return new EngineError(
      'value-too-long',
      `A value does not fit once it holds this environment's address: ${words}.`,
      'Give the environment a shorter address, widen the column, or let the profile say "rewrite: never" for it.',
      { cause },
    );
  if (
    ['ER_DUP_ENTRY', 'ER_BAD_NULL_ERROR', 'ER_TRUNCATED_WRONG_VALUE_FOR_FIELD', 'ER_WARN_DATA_OUT_OF_RANGE'].includes(
      code,
    ) ||
    errno === 4025
  )
    return new EngineError(
      'value-refused',
      `The database refuses a value: ${words}.`,
      'Correct the row, or the profile where an address was rewritten that should stay; the table and its constraint say which.',
      { cause },
    );
  if (code === 'ER_TABLE_DEF_CHANGED')
    return new EngineError(
      'outdated',
      `A table of ${where} was changed while it was read.`,
      'Run it again when nobody changes tables.',
      { cause },
    );
  if (code === 'ER_RECORD_FILE_FULL' || code === 'ER_DISK_FULL')
    return new EngineError(
      'disk-full',
      `The database server of ${where} has no room left.`,
      'Free some space on the server and run it again.',
      { cause },
    );
  return new EngineError(
    'command-failed',
    `The database ${where} says: ${words}.`,
    "Look into the database server's own log, which has the values too.",
    { cause },
  );
}
