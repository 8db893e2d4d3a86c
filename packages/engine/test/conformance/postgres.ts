import pg from 'pg';
import type { SiteDatabase } from '../../src/ports/database.js';
import type { Carrier } from '../../src/ports/shapes.js';
import { quoteLiteral, quoteName } from '../../src/postgres/describe.js';
import { postgresql } from '../../src/postgres/system.js';
import { Yard } from '../support/pair.js';
import type { KindUnderTest, PlainTable } from './databases.js';

const TYPES = { number: 'integer', text: 'text' } as const;

function tableSql({ name, columns, key, draws, uniques = [], references = [] }: PlainTable): string {
  const own = columns.map((column) => {
    const type =
      draws && key[0] === column.name ? 'serial' : column.length ? `varchar(${column.length})` : TYPES[column.type];
    return `${quoteName(column.name)} ${type}${column.isRequired ? ' NOT NULL' : ''}`;
  });
  const list = (names: readonly string[]): string => names.map(quoteName).join(', ');
  return `CREATE TABLE ${quoteName(name)} (${[
    ...own,
    ...(key.length > 0 ? [`PRIMARY KEY (${list(key)})`] : []),
    ...uniques.map((one) => `UNIQUE (${list(one)})`),
    ...references.map(
      (one) => `FOREIGN KEY (${quoteName(one.column)}) REFERENCES ${quoteName(one.table)} (${quoteName(one.target)})`,
    ),
  ].join(', ')})`;
}

/** PostgreSQL, on a server of the test's own. @param by where it is reached by way of another machine */
export async function postgresKind(by?: Carrier): Promise<KindUnderTest> {
  const yard = await Yard.open();
  const admin = postgresql.administration({ ...yard.server, by });
  let number = 0;
  const run = async ({ login }: SiteDatabase, sql: string): Promise<void> => {
    const { by: _straight, ...own } = login;
    const client = new pg.Client(own);
    await client.connect();
    try {
      await client.query(sql);
    } finally {
      await client.end();
    }
  };
  const value = (one: string | null): string => (one === null ? 'NULL' : quoteLiteral(one));
  return {
    system: postgresql,
    async fresh() {
      const name = `kind_${number++}`;
      const { host, port } = yard.server;
      const login = { host, port, database: name, user: name, password: 'secret-word', by };
      await admin.create(login);
      return { name: 'main', login, system: postgresql };
    },
    async make(database, tables) {
      for (const table of tables) await run(database, tableSql(table));
    },
    async put(database, table, rows) {
      for (const row of rows)
        await run(database, `INSERT INTO ${quoteName(table)} VALUES (${row.map(value).join(', ')})`);
    },
    change: (database, table, [name, is], column, to) =>
      run(
        database,
        `UPDATE ${quoteName(table)} SET ${quoteName(column)} = ${value(to)} WHERE ${quoteName(name)} = ${value(is)}`,
      ),
    remove: (database, table, [name, is]) =>
      run(database, `DELETE FROM ${quoteName(table)} WHERE ${quoteName(name)} = ${value(is)}`),
    close: () => yard.close(),
  };
}
