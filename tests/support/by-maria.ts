import { execFile } from 'node:child_process';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { type Connection, createConnection } from 'mysql2/promise';
import { type MariaServer, startMaria } from '../../packages/engine/test/support/mariadb.js';
import { DataFolder } from '../../packages/service/src/ground/data-folder.js';
import type { Studio } from './start-studio.js';

type Query = (sql: string, values?: unknown[]) => Promise<Record<string, unknown>[]>;

type Login = MariaServer['login'];

/** Gives a studio's server databases of MariaDB from now on. */
export async function withMaria(studio: Studio): Promise<Studio> {
  const started = await startMaria();
  const { password, ...login } = started.login;
  const { keys } = await DataFolder.open(join(studio.data, 'tessarion'));
  await studio.records.query('UPDATE server SET database = $1, database_password = $2', [
    JSON.stringify({ system: 'mariadb', ...login }),
    keys.encrypt(password),
  ]);
  return {
    ...studio,
    maria: started.login,
    async stop() {
      await studio.stop();
      await started.stop();
    },
  };
}

/** What tests say to PostgreSQL, in MariaDB's words. */
function translated(sql: string, values: readonly unknown[]): { sql: string; values: unknown[] } {
  const own: unknown[] = [];
  const words = sql
    .replace(/::(?:int|text)\b/g, '')
    .replace(/^(INSERT )(INTO .*) ON CONFLICT DO NOTHING/s, '$1IGNORE $2')
    .replace(/ON CONFLICT \(\w+\) DO UPDATE SET (\w+) = excluded\.\w+/, 'ON DUPLICATE KEY UPDATE $1 = VALUES($1)')
    .replace(/WHERE ctid IN \(SELECT ctid FROM \w+ (WHERE .*) LIMIT 1\)/s, '$1 LIMIT 1')
    .replace(/\$(\d+)/g, (_all, n: string) => {
      own.push(values[Number(n) - 1] ?? null);
      return '?';
    });
  return { sql: words, values: own };
}

/** Runs statements on a database of MariaDB as its server's administrator. */
export async function onMariaDatabase<T>(
  login: Login,
  database: string,
  work: (query: Query) => Promise<T>,
): Promise<T> {
  const connection: Connection = await createConnection({ ...login, database, multipleStatements: true });
  try {
    return await work(async (sql, values = []) => {
      const asked = translated(sql, values);
      const [rows] = await connection.query(asked.sql, asked.values);
      return Array.isArray(rows) ? (rows as Record<string, unknown>[]) : [];
    });
  } finally {
    await connection.end();
  }
}

const access = ({ host, port, user, password }: Login): string[] => [
  ...['--no-defaults', `--host=${host}`, `--port=${port}`, `--user=${user}`, `--password=${password}`],
];

/** A database as statements that make it again. @param without a table of it that is passed over */
export async function dumpMaria(login: Login, database: string, without?: string): Promise<string> {
  const options = [
    '--single-transaction',
    '--routines',
    '--triggers',
    '--hex-blob',
    '--add-drop-database',
    '--databases',
  ];
  const { stdout } = await promisify(execFile)(
    '/usr/bin/mariadb-dump',
    [
      ...access(login),
      ...options,
      ...(without === undefined ? [] : [`--ignore-table=${database}.${without}`]),
      database,
    ],
    {
      maxBuffer: 1 << 28,
    },
  );
  return stdout;
}

/** Makes a database again. */
export async function loadMaria(login: Login, dump: string): Promise<void> {
  await new Promise<void>((resolve, reject) => {
    const child = execFile('/usr/bin/mariadb', access(login), (error) => (error ? reject(error) : resolve()));
    child.stdin?.end(dump);
  });
}
