import type { Administration, DatabaseLikeness } from '../ports/database.js';
import { EngineError } from '../ports/errors.js';
import type { DatabaseLogin, ExtensionShape } from '../ports/shapes.js';
import { connectTo, databaseError } from './connect.js';
import { EXTENSIONS, quoteLiteral, quoteName } from './describe.js';
import { storedPassword } from './stored-password.js';

/** SQLSTATE of PostgreSQL: insufficient_privilege. */
const NO_PRIVILEGE = '42501';

type Query = (sql: string, values?: unknown[]) => Promise<Record<string, string>[]>;

async function dropWith(query: Query, { database, user }: Pick<DatabaseLogin, 'database' | 'user'>): Promise<void> {
  await query(`DROP DATABASE IF EXISTS ${quoteName(database)} WITH (FORCE)`);
  await query(`DROP ROLE IF EXISTS ${quoteName(user)}`);
}

/** How a database is made, apart from what is in it. */
export interface PostgresLikeness extends DatabaseLikeness {
  readonly system: 'postgresql';
  readonly extensions: readonly ExtensionShape[];
  /** Clauses of CREATE DATABASE that give it the encoding and the order of texts (PostgreSQL, *Locale Support*). */
  readonly locale: string;
  /** What is set for all sessions on it: names, and values as SQL. */
  readonly settings: readonly { readonly name: string; readonly value: string }[];
}

/** A database as any other is made, without extensions. */
export const PLAIN_DATABASE: PostgresLikeness = {
  system: 'postgresql',
  extensions: [],
  locale: "ENCODING 'UTF8'",
  settings: [],
};

/** Only what each session may set for itself: the rest is the server's, and needs a superuser. */
const SETTINGS = `SELECT split_part(one, '=', 1) AS name, substr(one, strpos(one, '=') + 1) AS value
  FROM pg_db_role_setting s CROSS JOIN unnest(s.setconfig) one JOIN pg_database d ON d.oid = s.setdatabase
  WHERE d.datname = current_database() AND s.setrole IN (0, (SELECT oid FROM pg_roles WHERE rolname = current_user))
    AND coalesce((SELECT context FROM pg_settings WHERE name = split_part(one, '=', 1)), 'user') = 'user'
  ORDER BY s.setrole`;

/** Lists of names, which each stand for themselves (PostgreSQL, `GUC_LIST_QUOTE`). */
const LISTS = new Set(['search_path', 'temp_tablespaces']);

/** What a site's database has, so that another one can be made like it. @throws {EngineError} */
export async function likenessOf(login: DatabaseLogin): Promise<PostgresLikeness> {
  const client = await connectTo(login, 'read', 'extensions');
  try {
    const { rows: extensions } = await client.query<ExtensionShape>(EXTENSIONS);
    const { rows: made } = await client.query<{ row: Record<string, string | null>; encoding: string }>(
      "SELECT to_jsonb(d) - 'datacl' AS row, pg_encoding_to_char(encoding) AS encoding FROM pg_database d WHERE datname = current_database()",
    );
    const { rows: settings } = await client.query<{ name: string; value: string }>(SETTINGS);
    const [{ row, encoding }] = made as [(typeof made)[0]];
    return { system: 'postgresql', extensions, locale: localeClauses(row, encoding), settings: settings.map(asSql) };
  } catch (error) {
    throw databaseError(error, login);
  } finally {
    await client.end();
  }
}

/** @param row of `pg_database`; PostgreSQL 17 calls `datlocale` what was `daticulocale` before */
function localeClauses(row: Readonly<Record<string, string | null>>, encoding: string): string {
  const clause = (words: string, value: string | null | undefined): string[] =>
    value ? [`${words} ${quoteLiteral(value)}`] : [];
  const own = row.datlocale ?? row.daticulocale;
  const provided =
    row.datlocprovider === 'i'
      ? ['LOCALE_PROVIDER icu', ...clause('ICU_LOCALE', own), ...clause('ICU_RULES', row.daticurules)]
      : row.datlocprovider === 'b'
        ? ['LOCALE_PROVIDER builtin', ...clause('BUILTIN_LOCALE', own)]
        : [];
  return [
    ...clause('ENCODING', encoding),
    ...clause('LC_COLLATE', row.datcollate),
    ...clause('LC_CTYPE', row.datctype),
    ...provided,
  ].join(' ');
}

/** Names of settings may have a part before a dot, which stands for itself. */
const quoteSetting = (name: string): string => name.split('.').map(quoteName).join('.');

function asSql({ name, value }: { readonly name: string; readonly value: string }): { name: string; value: string } {
  if (!LISTS.has(name)) return { name, value: quoteLiteral(value) };
  const names = [...value.matchAll(/"((?:[^"]|"")*)"|([^\s,"]+)/g)];
  const own = names.map(([, quoted, plain]) =>
    quoteName(quoted === undefined ? (plain ?? '') : quoted.replaceAll('""', '"')),
  );
  return { name, value: own.length === 0 ? "''" : own.join(', ') };
}

const isOfPostgres = (like: DatabaseLikeness): like is PostgresLikeness => like.system === 'postgresql';

/** Makes and removes the databases and logins of environments on one PostgreSQL server. */
export class PostgresAdmin implements Administration {
  readonly #login: DatabaseLogin;

  /** @param login a role with CREATEDB and CREATEROLE, or a superuser */
  constructor(login: DatabaseLogin) {
    this.#login = login;
  }

  async #with<T>(act: (query: Query) => Promise<T>, database?: string): Promise<T> {
    const login = database === undefined ? this.#login : { ...this.#login, database };
    const client = await connectTo(login, 'read', 'provision');
    try {
      return await act(async (sql, values) => (await client.query(sql, values)).rows as Record<string, string>[]);
    } catch (error) {
      throw databaseError(error, login);
    } finally {
      await client.end();
    }
  }

  async mayProvision(): Promise<boolean> {
    const [row] = await this.#with((query) =>
      query(
        'SELECT (rolsuper OR (rolcreatedb AND rolcreaterole))::text AS may FROM pg_roles WHERE rolname = current_user',
      ),
    ).catch((error: unknown) => {
      // A site's login, which may not even open this database.
      if (error instanceof EngineError && (error.cause as { code?: string })?.code === NO_PRIVILEGE) return [];
      throw error;
    });
    return row?.may === 'true';
  }

  async openToAll(): Promise<string[]> {
    const rows = await this.#with((query) =>
      query(
        `SELECT datname FROM pg_database WHERE datallowconn AND (datacl IS NULL OR EXISTS (
           SELECT FROM aclexplode(datacl) WHERE grantee = 0 AND privilege_type = 'CONNECT')) ORDER BY datname`,
      ),
    );
    return rows.map((row) => row.datname as string);
  }

  async create(
    login: DatabaseLogin,
    like: DatabaseLikeness = PLAIN_DATABASE,
    { connectionLimit = 40, mark }: { readonly connectionLimit?: number; readonly mark?: string } = {},
  ): Promise<void> {
    if (!isOfPostgres(like)) throw new Error(`A database of ${like.system} cannot be made here.`);
    const { extensions, locale, settings } = like;
    const [user, database] = [quoteName(login.user), quoteName(login.database)];
    await this.#with(async (query) => {
      await dropWith(query, login);
      const [encryption] = await query('SHOW password_encryption');
      const stored = storedPassword(login.user, login.password, encryption?.password_encryption as string);
      await query(`CREATE ROLE ${user} LOGIN PASSWORD ${quoteLiteral(stored)} CONNECTION LIMIT ${connectionLimit}`);
      await query(`GRANT ${user} TO CURRENT_USER`);
      if (mark !== undefined) await query(`COMMENT ON ROLE ${user} IS ${quoteLiteral(mark)}`);
      await query(`CREATE DATABASE ${database} OWNER ${user} TEMPLATE template0 ${locale}`);
      if (mark !== undefined) await query(`COMMENT ON DATABASE ${database} IS ${quoteLiteral(mark)}`);
      for (const { name, value } of settings)
        await query(`ALTER DATABASE ${database} SET ${quoteSetting(name)} TO ${value}`);
      await query(`REVOKE ALL ON DATABASE ${database} FROM PUBLIC`);
    });
    if (extensions.length === 0) return;
    await this.#with(async (query) => {
      for (const { name, schema } of extensions) {
        await query(`CREATE SCHEMA IF NOT EXISTS ${quoteName(schema)} AUTHORIZATION ${user}`);
        await query(`CREATE EXTENSION IF NOT EXISTS ${quoteName(name)} WITH SCHEMA ${quoteName(schema)}`);
      }
    }, login.database);
  }

  async drop(...gone: readonly Pick<DatabaseLogin, 'database' | 'user'>[]): Promise<void> {
    await this.#with(async (query) => {
      for (const one of gone) await dropWith(query, one);
    });
  }

  async marked(mark: string): Promise<string[]> {
    const rows = await this.#with((query) =>
      query(
        `SELECT datname AS name FROM pg_database WHERE shobj_description(oid, 'pg_database') = $1
         UNION SELECT rolname FROM pg_roles WHERE shobj_description(oid, 'pg_authid') = $1 ORDER BY 1`,
        [mark],
      ),
    );
    return rows.map((row) => row.name as string);
  }

  async hasDatabase(database: string): Promise<boolean> {
    return this.#with(
      async (query) => (await query('SELECT 1 AS one FROM pg_database WHERE datname = $1', [database])).length > 0,
    );
  }

  async offers(): Promise<{ readonly version: string; readonly extensions: ReadonlySet<string> }> {
    return this.#with(async (query) => {
      const [server] = await query('SHOW server_version');
      const available = await query('SELECT name FROM pg_available_extensions');
      return {
        version: `PostgreSQL ${server?.server_version?.split(' ')[0]}`,
        extensions: new Set(available.map((row) => row.name as string)),
      };
    });
  }

  async endSessions(database: string, purposePrefix: string): Promise<void> {
    await this.#with(async (query) => {
      await query(
        `SELECT pg_terminate_backend(pid, 5000) FROM pg_stat_activity WHERE datname = $1 AND application_name LIKE $2 || '%'`,
        [database, purposePrefix],
      );
    });
  }
}
