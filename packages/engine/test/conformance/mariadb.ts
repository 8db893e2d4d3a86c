import { quoteName, quoteText } from '../../src/mariadb/sql.js';
import { mariadb } from '../../src/mariadb/system.js';
import type { SiteDatabase } from '../../src/ports/database.js';
import type { Carrier } from '../../src/ports/shapes.js';
import { onMaria, startMaria } from '../support/mariadb.js';
import type { KindUnderTest, PlainTable } from './databases.js';

function tableSql({ name, columns, key, draws, uniques = [], references = [] }: PlainTable): string {
  const own = columns.map((column) => {
    const isKey = key.includes(column.name);
    const text = column.length ? `varchar(${column.length})` : isKey ? 'varchar(100)' : 'text';
    const type = column.type === 'number' ? 'int' : `${text}${isKey ? ' COLLATE utf8mb4_nopad_bin' : ''}`;
    const counter = draws && key[0] === column.name ? ' AUTO_INCREMENT' : '';
    return `${quoteName(column.name)} ${type}${column.isRequired ? ' NOT NULL' : ''}${counter}`;
  });
  const list = (names: readonly string[]): string => names.map(quoteName).join(', ');
  return `CREATE TABLE ${quoteName(name)} (${[
    ...own,
    ...(key.length > 0 ? [`PRIMARY KEY (${list(key)})`] : []),
    ...uniques.map((one) => `UNIQUE KEY (${list(one)})`),
    ...references.map(
      (one) => `FOREIGN KEY (${quoteName(one.column)}) REFERENCES ${quoteName(one.table)} (${quoteName(one.target)})`,
    ),
  ].join(', ')}) ENGINE=InnoDB`;
}

/** MariaDB, on a server of the test's own. @param by where it is reached by way of another machine */
export async function mariaKind(by?: Carrier): Promise<KindUnderTest> {
  const server = await startMaria();
  const admin = mariadb.administration({ ...server.login, by });
  let number = 0;
  const run = ({ login }: SiteDatabase, sql: string): Promise<number> =>
    onMaria(server.login, login.database, (session) => session.run(sql));
  const value = (one: string | null): string => (one === null ? 'NULL' : quoteText(one));
  return {
    system: mariadb,
    async fresh() {
      const name = `kind_${number++}`;
      const { host, port } = server.login;
      const login = { host, port, database: name, user: name, password: 'secret-word', by };
      await admin.create(login);
      return { name: 'main', login, system: mariadb };
    },
    async make(database, tables) {
      for (const table of tables) await run(database, tableSql(table));
    },
    async put(database, table, rows) {
      for (const row of rows)
        await run(database, `INSERT INTO ${quoteName(table)} VALUES (${row.map(value).join(', ')})`);
    },
    change: async (database, table, [name, is], column, to) =>
      void (await run(
        database,
        `UPDATE ${quoteName(table)} SET ${quoteName(column)} = ${value(to)} WHERE ${quoteName(name)} = ${value(is)}`,
      )),
    remove: async (database, table, [name, is]) =>
      void (await run(database, `DELETE FROM ${quoteName(table)} WHERE ${quoteName(name)} = ${value(is)}`)),
    close: () => server.stop(),
  };
}
