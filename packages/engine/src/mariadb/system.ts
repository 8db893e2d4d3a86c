import { type ByteString, type TableMake, type TableName, toText } from '@tessarion/core';
import type { Administration, DatabaseSystem, ServerLogin, SiteDatabase } from '../ports/database.js';
import { EngineError } from '../ports/errors.js';
import type { Mode } from '../ports/rows.js';
import type { DatabaseLogin, TableShape } from '../ports/shapes.js';
import { likenessOf, MariaAdmin } from './administration.js';
import { databaseError, lockOf, Session, takeLock, withoutValues } from './connect.js';
import { describe } from './describe.js';
import { MariaLoader } from './loader.js';
import { describeMakes, mariaMaking } from './making.js';
import { MariaQuestions } from './questions.js';
import { quoteName, quoteText } from './sql.js';
import { MariaView } from './view.js';
import { MARKS, MariaWriter } from './writer.js';

/** How long a session that was ended may take to put back what it wrote, in seconds. */
const PUT_BACK_SECONDS = 300;
/** Keys that the site's own program may draw while ours are drawn. */
const HEADROOM = 50n;
const MOST_DRAWS = 200;
/** MariaDB, *Error Codes*: somebody else has a lock. */
const LOCKED = 1205;

async function withSession<T>(
  login: DatabaseLogin,
  use: 'read' | 'write',
  work: (session: Session) => Promise<T>,
): Promise<T> {
  const session = await Session.open(login, use);
  try {
    return await work(session);
  } catch (error) {
    throw databaseError(error, login);
  } finally {
    await session.end();
  }
}

/** Databases of MariaDB (10.6 and newer). */
export const mariadb: DatabaseSystem = {
  name: 'mariadb',
  can: { transactionalDdl: false, parallelReaders: true, toldSince: false, schemas: false },

  async reach(login: DatabaseLogin, patienceMs?: readonly number[]): Promise<void> {
    await (await Session.open(login, 'read', patienceMs)).end();
  },

  urlOf: ({ host, port, database, user, password }) =>
    `mysql://${[user, password].map(encodeURIComponent).join(':')}@${host}:${port}/${encodeURIComponent(database)}`,

  isStrong: (login) =>
    withSession(login, 'read', async (session) => {
      const own = login.database.replace(/[_%\\]/g, '\\$&');
      const grants = (await session.texts('SHOW GRANTS')).map(([one]) => one as string);
      return grants.some((one) => {
        if (/^GRANT USAGE ON \*\.\* /.test(one)) return false;
        const on = / ON (?:TABLE |FUNCTION |PROCEDURE )?(\*|`(?:[^`]|``)*`)\./.exec(one)?.[1];
        return on === undefined || ![quoteName(own), quoteName(login.database)].includes(on.replaceAll('\\\\', '\\'));
      });
    }),

  view: (database) => MariaView.open(database),
  ask: (database) => MariaQuestions.open(database),
  write: (database: SiteDatabase, purpose: string, mode: Mode) => MariaWriter.open(database, purpose, mode),
  load: (login) => MariaLoader.open(login),

  drawKeys: ({ login, name }, table, column, many, avoid) =>
    withSession(login, 'write', (session) => drawn(session, name, table, column, many, avoid)),

  makes: (
    { login },
    tables: readonly TableShape[],
    called: (table: TableShape) => string,
  ): Promise<ReadonlyMap<string, TableMake>> =>
    withSession(login, 'read', (session) => describeMakes(session, tables, called)),

  making: mariaMaking,

  changeTables: (login, statements) =>
    withSession(login, 'write', async (session) => {
      for (const statement of statements)
        await session.run(statement).catch((error: unknown) => {
          throw new EngineError(
            'schema-unsupported',
            `The database refuses to change a table: ${withoutValues(error).message}.`,
            'Look at the statement and the table; what was changed before it stays.',
            { cause: withoutValues(error) },
          );
        });
    }),

  refreshStatistics: (login) =>
    withSession(login, 'write', async (session) => {
      const { schema } = await describe(session, '');
      for (const { name } of schema.tables) await session.rows(`ANALYZE TABLE ${quoteName(name)}`);
    }),

  fateOf: (login, mark) =>
    withSession(login, 'read', async (session) => {
      const isThere = async (): Promise<boolean> =>
        (await session.value(`SHOW TABLES LIKE ${quoteText(MARKS.replace(/_/g, '\\_'))}`)) !== null &&
        (await session.value(`SELECT 1 FROM ${MARKS} WHERE mark = ${quoteText(mark)}`)) !== null;
      if (await isThere()) return 'committed';
      const lock = quoteText(lockOf(login.database, mark));
      if ((await session.value(`SELECT IS_USED_LOCK(${lock})`)) !== null) return 'open';
      // Whoever has let go of the lock has ended its transaction before.
      return (await isThere()) ? 'committed' : 'gone';
    }),

  endSessions: (login, purpose) =>
    withSession(login, 'write', async (session) => {
      const id = await session.value(`SELECT IS_USED_LOCK(${quoteText(lockOf(login.database, purpose))})`);
      if (id === null) return;
      await session.run(`KILL ${id}`).catch(() => undefined);
      // Once its lock is free, what it wrote has been put back (design, *MariaDB, Fence and recovery*).
      await takeLock(session, purpose, PUT_BACK_SECONDS);
    }),

  administration: (server: ServerLogin): Administration => new MariaAdmin(server),

  likeness: likenessOf,
};

/** Draws keys by moving the table's counter on, and then sees that nobody took one of them meanwhile. */
async function drawn(
  session: Session,
  database: string,
  table: TableName,
  column: string,
  many: number,
  avoid: ReadonlySet<string>,
): Promise<ByteString[]> {
  const name = quoteName(table.name);
  for (let tries = 0; tries < MOST_DRAWS; tries++) {
    const { schema } = await describe(session, database);
    const counter = schema.sequences.find((one) => one.name === table.name && one.ownedBy?.column === column);
    if (!counter) throw new EngineError('outdated', `${table.name} draws no keys any more.`, 'Make a new forecast.');
    const from = BigInt(counter.last) + HEADROOM;
    const keys: string[] = [];
    for (let key = from; keys.length < many; key++) if (!avoid.has(String(key))) keys.push(String(key));
    const last = BigInt(keys.at(-1) ?? from);
    try {
      await session.run(`ALTER TABLE ${name} NOWAIT AUTO_INCREMENT = ${last + 1n}`);
    } catch (error) {
      if ((error as { errno?: number }).errno !== LOCKED) throw error;
      await new Promise((resolve) => setTimeout(resolve, 5 + Math.random() * 20));
      continue;
    }
    const taken = await session.value(
      `SELECT COUNT(*) FROM ${name} WHERE ${quoteName(column)} BETWEEN ${from} AND ${last}`,
    );
    if (taken === '0') return keys;
  }
  throw new EngineError(
    'database-unreachable',
    `No keys could be drawn for ${toText(table.name)}: its rows are written all the time.`,
    'Run it again when fewer visitors are there.',
  );
}
