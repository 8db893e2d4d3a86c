import { createHash } from 'node:crypto';
import type { Administration, DatabaseLikeness, ServerLogin } from '../ports/database.js';
import type { DatabaseLogin } from '../ports/shapes.js';
import { databaseError, Session } from './connect.js';
import { quoteName, quoteText } from './sql.js';

/** How a database is made, apart from what is in it. */
export interface MariaLikeness extends DatabaseLikeness {
  readonly system: 'mariadb';
  readonly charset: string;
  readonly collation: string;
}

const PLAIN: MariaLikeness = { system: 'mariadb', charset: 'utf8mb4', collation: 'utf8mb4_general_ci' };

/** A password as the server keeps it, so that none stands in its logs (MariaDB, *mysql_native_password*). */
export function storedPassword(password: string): string {
  const once = createHash('sha1').update(password).digest();
  return `*${createHash('sha1').update(once).digest('hex').toUpperCase()}`;
}

/** Any host: how a site's program reaches its database is not ours to say. */
const accountOf = (user: string): string => `${quoteText(user)}@'%'`;

/** A database's name in a grant, where `_` and `%` would stand for others. */
const granted = (database: string): string => quoteName(database.replace(/[_%\\]/g, '\\$&'));

/** What a site's database is like. @throws {EngineError} */
export async function likenessOf(login: DatabaseLogin): Promise<MariaLikeness> {
  const session = await Session.open(login, 'read');
  try {
    const [[charset, collation] = []] = await session.texts(
      'SELECT DEFAULT_CHARACTER_SET_NAME, DEFAULT_COLLATION_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = DATABASE()',
    );
    return { system: 'mariadb', charset: charset as string, collation: collation as string };
  } catch (error) {
    throw databaseError(error, login);
  } finally {
    await session.end();
  }
}

/** Makes and removes databases and logins on a MariaDB server. */
export class MariaAdmin implements Administration {
  readonly #login: DatabaseLogin;

  constructor(login: ServerLogin) {
    this.#login = { ...login, database: '' };
  }

  async #with<T>(work: (session: Session) => Promise<T>): Promise<T> {
    const session = await Session.open(this.#login, 'read');
    try {
      return await work(session);
    } catch (error) {
      throw databaseError(error, this.#login);
    } finally {
      await session.end();
    }
  }

  mayProvision(): Promise<boolean> {
    return this.#with(async (session) => {
      const grants = (await session.texts('SHOW GRANTS')).map(([one]) => one as string);
      return grants.some(
        (one) =>
          / ON \*\.\* /.test(one) &&
          (/^GRANT ALL PRIVILEGES/.test(one) || (/\bCREATE USER\b/.test(one) && /\bCREATE\b/.test(one))) &&
          /WITH GRANT OPTION/.test(one),
      );
    });
  }

  /** Databases that the anonymous login or everybody may enter. */
  openToAll(): Promise<string[]> {
    return this.#with(async (session) => {
      const rows = await session.texts("SELECT DISTINCT Db FROM mysql.db WHERE User IN ('', 'PUBLIC') ORDER BY 1");
      const names = (await session.texts('SHOW DATABASES')).map(([name]) => name as string);
      const patterns = rows.map(([pattern]) => likePattern(pattern as string));
      return names.filter((name) => patterns.some((one) => one.test(name)));
    });
  }

  create(
    { database, user, password }: DatabaseLogin,
    like: DatabaseLikeness = PLAIN,
    { connectionLimit, mark }: { readonly connectionLimit?: number; readonly mark?: string } = {},
  ): Promise<void> {
    const { charset, collation } = like.system === 'mariadb' ? (like as MariaLikeness) : PLAIN;
    return this.#with(async (session) => {
      await dropWith(session, { database, user });
      const comment = mark === undefined ? '' : ` COMMENT ${quoteText(mark)}`;
      await session.run(
        `CREATE DATABASE ${quoteName(database)} CHARACTER SET ${charset} COLLATE ${collation}${comment}`,
      );
      const limit = connectionLimit === undefined ? '' : ` WITH MAX_USER_CONNECTIONS ${connectionLimit}`;
      await session.run(`CREATE USER ${accountOf(user)} IDENTIFIED BY PASSWORD '${storedPassword(password)}'${limit}`);
      await session.run(`GRANT ALL PRIVILEGES ON ${granted(database)}.* TO ${accountOf(user)}`);
    });
  }

  drop(...gone: readonly Pick<DatabaseLogin, 'database' | 'user'>[]): Promise<void> {
    return this.#with(async (session) => {
      for (const one of gone) await dropWith(session, one);
    });
  }

  marked(mark: string): Promise<string[]> {
    return this.#with(async (session) => {
      const rows = await session.texts(
        `SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_COMMENT = ${quoteText(mark)} ORDER BY 1`,
      );
      return rows.map(([name]) => name as string);
    });
  }

  hasDatabase(database: string): Promise<boolean> {
    return this.#with(
      async (session) =>
        (await session.value(
          `SELECT 1 FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ${quoteText(database)}`,
        )) !== null,
    );
  }

  offers(): Promise<{ readonly version: string; readonly extensions: ReadonlySet<string> }> {
    return this.#with(async (session) => ({
      version: `MariaDB ${(await session.value('SELECT VERSION()'))?.split('-')[0]}`,
      extensions: new Set<string>(),
    }));
  }

  /** Sessions of ours say nowhere for what they are open but by locks; all of the database's login are ended. */
  endSessions(database: string): Promise<void> {
    return this.#with(async (session) => {
      const rows = await session.texts(
        `SELECT ID FROM information_schema.PROCESSLIST WHERE DB = ${quoteText(database)} AND ID <> CONNECTION_ID()`,
      );
      for (const [id] of rows) await session.run(`KILL ${id}`).catch(() => undefined);
    });
  }
}

/** A pattern of a grant, in which `_` and `%` stand for others unless a backslash is before them. */
const likePattern = (pattern: string): RegExp =>
  new RegExp(
    `^${pattern.replace(/\\([_%\\])|([_%])|[^\w]/g, (one, escaped: string | undefined, wild: string | undefined) =>
      escaped !== undefined ? escaped.replace(/\W/g, '\\$&') : wild === '_' ? '.' : wild === '%' ? '.*' : `\\${one}`,
    )}$`,
  );

async function dropWith(session: Session, { database, user }: Pick<DatabaseLogin, 'database' | 'user'>): Promise<void> {
  await session.run(`DROP USER IF EXISTS ${accountOf(user)}`);
  // A login that is gone keeps the sessions that it has.
  const rows = await session.texts(
    `SELECT ID FROM information_schema.PROCESSLIST WHERE (USER = ${quoteText(user)} OR DB = ${quoteText(database)}) AND ID <> CONNECTION_ID()`,
  );
  for (const [id] of rows) await session.run(`KILL ${id}`).catch(() => undefined);
  await session.run(`DROP DATABASE IF EXISTS ${quoteName(database)}`);
}
