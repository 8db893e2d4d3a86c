import type { ByteString, TableMake, TableName } from '@tessarion/core';
import type {
  Administration,
  DatabaseLikeness,
  DatabaseSystem,
  DatabaseView,
  Loader,
  Questions,
  RowWriter,
  ServerLogin,
  SiteDatabase,
} from '../ports/database.js';
import type { Mode } from '../ports/rows.js';
import type { DatabaseLogin, TableShape } from '../ports/shapes.js';
import { likenessOf, PostgresAdmin } from './administration.js';
import { runSchemaChange } from './change-schema.js';
import { applicationName, connectTo, databaseError } from './connect.js';
import { PostgresLoader, refreshStatistics } from './loader.js';
import { postgresMaking } from './making.js';
import { drawKeys } from './questions/draw-keys.js';
import { PostgresQuestions } from './questions/session.js';
import { borrowSession } from './sessions.js';
import { describeMakes } from './table-makes.js';
import { PostgresView } from './view.js';
import { PostgresWriter } from './write/apply-rows.js';

const STRONG = `SELECT rolsuper OR rolcreaterole OR rolbypassrls OR rolreplication OR EXISTS (
    SELECT FROM pg_catalog.pg_roles p WHERE p.rolname IN ('pg_read_server_files', 'pg_write_server_files',
      'pg_execute_server_program') AND pg_catalog.pg_has_role(r.oid, p.oid, 'MEMBER')) AS "isStrong"
  FROM pg_catalog.pg_roles r WHERE rolname = current_user`;

/** PostgreSQL, from version 13 on. */
export const postgresql: DatabaseSystem = {
  name: 'postgresql',
  can: { transactionalDdl: true, parallelReaders: true, toldSince: true, schemas: true },
  making: postgresMaking,

  async reach(login: DatabaseLogin, patienceMs?: readonly number[]): Promise<void> {
    await (await connectTo(login, 'read', 'reach', patienceMs)).end();
  },

  urlOf: ({ user, password, host, port, database }: DatabaseLogin): string =>
    `postgresql://${user}:${password}@${host}:${port}/${database}`,

  async isStrong(login: DatabaseLogin): Promise<boolean> {
    const client = await connectTo(login, 'read', 'adopt');
    try {
      const { rows } = await client.query<{ isStrong: boolean }>(STRONG);
      return rows[0]?.isStrong === true;
    } catch (error) {
      throw databaseError(error, login);
    } finally {
      await client.end();
    }
  },

  view: (database: SiteDatabase): Promise<DatabaseView> => PostgresView.open(database),

  ask: (database: SiteDatabase, purpose: string): Promise<Questions> => PostgresQuestions.open(database, purpose),

  write: (database: SiteDatabase, purpose: string, mode: Mode): Promise<RowWriter> =>
    PostgresWriter.open(database, purpose, mode),

  load: (login: DatabaseLogin): Promise<Loader> => PostgresLoader.open(login),

  drawKeys: (
    database: SiteDatabase,
    table: TableName,
    column: string,
    many: number,
    avoid: ReadonlySet<string>,
  ): Promise<ByteString[]> => drawKeys(database, table, column, many, avoid),

  async makes(
    { login }: SiteDatabase,
    tables: readonly TableShape[],
    called: (table: TableShape) => string,
  ): Promise<ReadonlyMap<string, TableMake>> {
    const client = await borrowSession(login, 'read', 'compare');
    try {
      return await describeMakes(client, tables, called);
    } catch (error) {
      throw databaseError(error, login);
    } finally {
      await client.giveBack();
    }
  },

  changeTables: (login: DatabaseLogin, statements: readonly string[], isBeside: boolean, purpose: string) =>
    runSchemaChange(login, statements, isBeside, purpose),

  refreshStatistics,

  async fateOf(login: DatabaseLogin, mark: string): Promise<'committed' | 'open' | 'gone'> {
    const client = await connectTo(login, 'read', 'recovery');
    try {
      const { rows } = await client.query<{ status: string | null }>('SELECT pg_xact_status($1::xid8) AS status', [
        mark,
      ]);
      const status = rows[0]?.status;
      return status === 'committed' ? 'committed' : status === 'in progress' ? 'open' : 'gone';
    } catch (error) {
      throw databaseError(error, login);
    } finally {
      await client.end();
    }
  },

  async endSessions(login: DatabaseLogin, purpose: string): Promise<void> {
    const client = await connectTo(login, 'read', 'recovery');
    try {
      await client.query(
        'SELECT pg_catalog.pg_terminate_backend(pid, 3000) FROM pg_catalog.pg_stat_activity WHERE usename = current_user AND application_name = $1',
        [applicationName(purpose)],
      );
    } catch (error) {
      throw databaseError(error, login);
    } finally {
      await client.end();
    }
  },

  administration: (server: ServerLogin): Administration => new PostgresAdmin({ ...server, database: 'postgres' }),

  likeness: (login: DatabaseLogin): Promise<DatabaseLikeness> => likenessOf(login),
};
