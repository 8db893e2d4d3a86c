import { execFile } from 'node:child_process';
import { promisify } from 'node:util';
import { type ByteString, Rewriter, type RowChange, readLine, tablePath } from '@tessarion/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { mariadb } from '../src/mariadb/system.js';
import type { SiteDatabase } from '../src/ports/database.js';
import { readable } from '../src/ports/shapes.js';
import { type MariaServer, onMaria, startMaria } from './support/mariadb.js';

let server: MariaServer;
let number = 0;
beforeAll(async () => {
  server = await startMaria(['--event-scheduler=OFF', '--log-bin-trust-function-creators=1']);
});
afterAll(() => server?.stop());

async function fresh(): Promise<SiteDatabase> {
  const database = `values_${number++}`;
  const { host, port } = server.login;
  const login = { host, port, database, user: database, password: 'secret-word' };
  await mariadb.administration(server.login).create(login);
  return { name: 'main', login, system: mariadb };
}

/** Runs statements as a site's program would, with its own settings. */
const asSite = (database: SiteDatabase, ...statements: string[]): Promise<void> =>
  onMaria(database.login, database.login.database, async (session) => {
    for (const one of statements) await session.run(one);
  });

/** Copies all of a database into a fresh one, as a copy is made. */
async function copied(from: SiteDatabase): Promise<SiteDatabase> {
  const onto = await fresh();
  const view = await mariadb.view(from);
  const loader = await mariadb.load(onto.login);
  await loader.runSchema(await view.dumpSchema('before'));
  for (const table of view.schema.tables)
    await loader.loadRows(
      table,
      readable(table).map((one) => one.name),
      view.readRows(table),
    );
  await loader.setSequences(view.schema.sequences);
  await loader.runSchema(await view.dumpSchema('after'));
  await loader.close();
  await view.close();
  return onto;
}

/** What the server's own program for backups says of a database, in bytes: nothing of ours reads there. */
async function dumped({ login }: SiteDatabase): Promise<string[]> {
  const { stdout } = await promisify(execFile)(
    '/usr/bin/mariadb-dump',
    [
      ...['--no-defaults', `--host=${login.host}`, `--port=${login.port}`, `--user=${server.login.user}`],
      ...[
        `--password=${server.login.password}`,
        '--hex-blob',
        '--skip-extended-insert',
        '--order-by-primary',
        '--skip-dump-date',
      ],
      ...[
        '--skip-comments',
        '--routines',
        '--triggers',
        '--events',
        '--single-transaction',
        '--complete-insert',
        '--skip-tz-utc',
      ],
      ...['--default-character-set=binary', login.database],
    ],
    { encoding: 'latin1', maxBuffer: 1 << 28 },
  );
  // Whoever made a thing is the copy's own login there.
  return stdout.replaceAll(/DEFINER=`[^`]*`@`[^`]*`/g, 'DEFINER').split('\n');
}

/** Each value's bits as the server itself tells them; numbers to the last digit. */
async function bitsOf(
  { login }: SiteDatabase,
  table: string,
  columns: readonly string[],
): Promise<(string | null)[][]> {
  const bits = (name: string): string => {
    const type = TYPES[Number(name.slice(1))]?.[0] ?? 'int';
    return /^(float|double)/.test(type)
      ? `HEX(CAST(CAST(${name} AS DOUBLE) AS BINARY))`
      : `HEX(CAST(${name} AS BINARY))`;
  };
  return onMaria(server.login, login.database, (session) =>
    session.texts(`SELECT ${columns.map(bits).join(', ')} FROM ${table} ORDER BY id`),
  );
}

const TYPES: readonly (readonly [string, readonly string[]])[] = [
  ['tinyint', ['-128', '127', 'NULL']],
  ['tinyint unsigned zerofill', ['0', '255', '7']],
  ['smallint', ['-32768', '32767', '0']],
  ['mediumint unsigned', ['16777215', '0', '1']],
  ['int(5) zerofill', ['42', '0', 'NULL']],
  ['bigint', ['-9223372036854775808', '9223372036854775807', '0']],
  ['bigint unsigned', ['18446744073709551615', '0', 'NULL']],
  [
    'decimal(65,30)',
    ["'12345678901234567890123456789012345.123456789012345678901234567890'", '-0.000000000000000000000000000001', '0'],
  ],
  ['float', ['16777216', '1e-45', '3.4028235e38']],
  ['float', ['0.1', '-123456.789', 'NULL']],
  ['double', ['0.1', '1.7976931348623157e308', '5e-324']],
  ['double', ['-2.2250738585072014e-308', '123456789.123456789', '1e22']],
  ['bit(1)', ["b'1'", "b'0'", 'NULL']],
  ['bit(64)', ["b'1111111111111111111111111111111111111111111111111111111111111111'", "b'0'", "b'101'"]],
  ['year', ['1901', '2155', '0']],
  ['date', ["'0000-00-00'", "'2024-02-31'", "'9999-12-31'"]],
  ['datetime(6)', ["'0000-00-00 00:00:00.000000'", "'1000-01-01 00:00:00.000001'", "'9999-12-31 23:59:59.999999'"]],
  ['timestamp(6) NULL', ["'1970-01-01 00:00:01.000000'", "'2038-01-19 03:14:07.999999'", 'NULL']],
  ['timestamp NULL', ["'2024-03-31 01:30:00'", "'2024-10-27 00:30:00'", "'0000-00-00 00:00:00'"]],
  ['time(6)', ["'-838:59:59.000000'", "'838:59:59.999999'", "'00:00:00.000001'"]],
  ['char(10) COLLATE utf8mb4_bin', ["'padded    '", "''", "'Ünïcode'"]],
  ['varchar(50)', ["'trailing   '", "'\\\\N'", "'tab\\tline\\nback\\\\slash\\r\\0nul'"]],
  ['varchar(50) CHARACTER SET latin1', ["'Grüße'", "'naïve €'", "''"]],
  ['varchar(50) CHARACTER SET latin2', ["'Łódź'", "'ě'", 'NULL']],
  ['varchar(50) CHARACTER SET cp1251', ["'Привет'", "'ё'", "''"]],
  ['varchar(50) CHARACTER SET sjis', ["'表示'", "'ソ'", "''"]],
  ['varchar(50) CHARACTER SET utf16', ["'🧵 thread'", "'a'", "''"]],
  ['varchar(50) CHARACTER SET ucs2', ["'ucs'", "'Ω'", "''"]],
  ['varchar(50) CHARACTER SET utf8mb3', ["'three bytes: €'", "''", 'NULL']],
  ['text CHARACTER SET ascii', ["'plain'", "''", "'\\b\\f\\v'"]],
  ['mediumtext', ["'emoji 🧵\u2028'", "REPEAT('long ', 60000)", 'NULL']],
  ['json', ['\'{"a": [1, 2.50, "é"]}\'', "'null'", 'NULL']],
  ["enum('', 'a', 'ü', 'with,comma', 'quote''d')", ["'ü'", "''", "'quote''d'"]],
  ["set('a', 'b', 'ü') CHARACTER SET latin1", ["'a,ü'", "''", "'b'"]],
  ['binary(5)', ["'a\\0'", "x'ff00fe'", 'NULL']],
  ['varbinary(300)', ["x'000102090a0d1a5c27225cff'", "''", "x'5c78'"]],
  ['blob', ["x'fffe00'", "'\\\\x41'", "''"]],
  ['longblob', ["REPEAT(x'00ff', 70000)", 'NULL', "x'00'"]],
  ['geometry', ["ST_GeomFromText('POINT(1 2)', 4326)", "ST_GeomFromText('POLYGON((0 0,1 0,1 1,0 0))')", 'NULL']],
  ['point', ['POINT(0.1, -0.2)', 'POINT(1e300, 0)', 'POINT(0, 0)']],
  ['uuid', ["'123e4567-e89b-12d3-a456-426655440000'", "'00000000-0000-0000-0000-000000000000'", 'NULL']],
  ['inet6', ["'2001:db8::ff00:42:8329'", "'::1'", 'NULL']],
  ['inet4', ["'192.0.2.1'", "'0.0.0.0'", 'NULL']],
];

describe('values of MariaDB', () => {
  const onServer = (sql: string): Promise<number> => onMaria(server.login, '', (session) => session.run(sql));

  it.each([
    ['as they come', 1],
    ['in statements, where the server takes nothing else', 0],
  ])(
    'are copied to the last bit, of every type and character set, with id 0, zero dates and what the server works out, %s',
    async (_how, isOn) => {
      const from = await fresh();
      await onServer(`SET GLOBAL local_infile = ${isOn}`);
      const names = TYPES.map((_type, i) => `c${i}`);
      await asSite(
        from,
        "SET SESSION sql_mode='NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES', time_zone='+02:00'",
        `CREATE TABLE hard (id int NOT NULL AUTO_INCREMENT PRIMARY KEY, ${TYPES.map(([type], i) => `c${i} ${type}`).join(', ')},
        twice varchar(110) GENERATED ALWAYS AS (CONCAT(c21, '!')) STORED, hidden int INVISIBLE DEFAULT 7) ENGINE=InnoDB`,
        ...[0, 1, 2].map(
          (row) =>
            `INSERT INTO hard (id, ${names.join(', ')}) VALUES (${row}, ${TYPES.map(([, values]) => values[row]).join(', ')})`,
        ),
        'UPDATE hard SET hidden = 8 WHERE id = 1',
      );
      const onto = await copied(from);
      const [theirs, ours] = [
        await bitsOf(from, 'hard', [...names, 'hidden', 'twice']),
        await bitsOf(onto, 'hard', [...names, 'hidden', 'twice']),
      ];
      const unlike = theirs.flatMap((row, n) =>
        row.flatMap((value, i) =>
          ours[n]?.[i] === value ? [] : [`row ${n}, ${TYPES[i]?.[0]}: ${value} is ${ours[n]?.[i]}`],
        ),
      );
      expect(unlike).toEqual([]);
      expect(theirs).toHaveLength(3);
      expect(await dumped(onto)).toEqual(await dumped(from));
      await onServer('SET GLOBAL local_infile = 1');
    },
  );

  it.each([
    ['too long', 'a text that is too long\n'],
    ['no number', 'Ingrid\tx\n'],
    ['cut', 'fits\n'],
    ['no UTF-8', '\xff\t1\n'],
  ])('are refused, and nothing of them is kept, where one is %s', async (_what, line) => {
    const onto = await fresh();
    await asSite(onto, 'CREATE TABLE small (title varchar(8), n int)');
    const loader = await mariadb.load(onto.login);
    async function* batches() {
      yield 'good\t1\n';
      yield line;
    }
    const error = await loader
      .loadRows({ schema: '', name: 'small' }, ['title', 'n'], batches())
      .catch((thrown) => thrown);
    await loader.close();
    expect(error).toMatchObject({ code: 'value-refused' });
    expect(error.message).not.toContain('Ingrid');
    expect(await onMaria(onto.login, onto.login.database, (session) => session.texts('SELECT * FROM small'))).toEqual(
      [],
    );
  });

  it('are written, read back and taken back as they were', async () => {
    const database = await fresh();
    const names = TYPES.map((_type, i) => `c${i}`);
    await asSite(
      database,
      "SET SESSION sql_mode='NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES'",
      `CREATE TABLE hard (id int NOT NULL AUTO_INCREMENT PRIMARY KEY, ${TYPES.map(([type], i) => `c${i} ${type}`).join(', ')}) ENGINE=InnoDB`,
      ...[0, 1, 2].map(
        (row) =>
          `INSERT INTO hard (id, ${names.join(', ')}) VALUES (${row}, ${TYPES.map(([, values]) => values[row]).join(', ')})`,
      ),
    );
    const before = await bitsOf(database, 'hard', names);
    const read = async (): Promise<ByteString[]> => {
      const questions = await mariadb.ask(database, 'test');
      const table = questions.schema.tables.find((one) => one.name === 'hard');
      const lines = table ? await questions.rowsWhere(table, ['id'], [['0'], ['1'], ['2']]) : '';
      await questions.close();
      return lines.split('\n').slice(0, -1);
    };
    const rows = await read();
    expect(rows).toHaveLength(3);
    // Each row gets what the next one has, and the first is made anew as the fourth.
    const values = rows.map(readLine);
    const path = tablePath({ schema: '', name: 'hard' });
    const cells = (n: number, m: number) =>
      Object.fromEntries(
        names.flatMap((name, i) => {
          const [own, next] = [values[n]?.[i + 1] ?? null, values[m]?.[i + 1] ?? null];
          return own === next ? [] : [[name, { before: own, after: next }]];
        }),
      );
    const change = async (turn: (n: number) => number, isBack: boolean): Promise<void> => {
      const writer = await mariadb.write(database, 'test', 'strict');
      async function* changes() {
        for (const n of [0, 1, 2]) {
          const [from, to] = isBack ? [turn(n), n] : [n, turn(n)];
          yield {
            part: 'row',
            database: 'main',
            table: path,
            key: [String(n)],
            op: 'update',
            cells: cells(from, to),
          } as const;
        }
      }
      await writer.stage(changes(), new Rewriter({ addresses: [], roots: [] }), (_table, columns) => new Set(columns));
      const { applied } = await writer.write(new Set(), () => []);
      expect(applied).toMatchObject({ updated: 3, remains: [] });
      await writer.commit();
      await writer.close();
    };
    const next = (n: number): number => (n + 1) % 3;
    await change(next, false);
    expect(await bitsOf(database, 'hard', names)).toEqual([before[1], before[2], before[0]]);
    await change(next, true);
    expect(await bitsOf(database, 'hard', names)).toEqual(before);
  });

  it('come with triggers, views, routines and events, which belong to the copy’s own login and do nothing by themselves', async () => {
    const from = await fresh();
    await asSite(
      from,
      "CREATE TABLE page (id int AUTO_INCREMENT PRIMARY KEY, title varchar(50), changed timestamp NOT NULL DEFAULT current_timestamp() ON UPDATE current_timestamp(), CHECK (title <> ''))",
      'CREATE TABLE seen (page_id int, FOREIGN KEY (page_id) REFERENCES page(id) ON DELETE CASCADE)',
      "CREATE FUNCTION shout(words varchar(50)) RETURNS varchar(60) DETERMINISTIC RETURN CONCAT(UPPER(words), '!')",
      'CREATE TRIGGER loud BEFORE INSERT ON page FOR EACH ROW BEGIN SET NEW.title = shout(NEW.title); END',
      'CREATE VIEW zz_titles AS SELECT id, title FROM page',
      'CREATE VIEW aa_first AS SELECT title FROM zz_titles WHERE id = 1',
      'CREATE PROCEDURE tidy() BEGIN DELETE FROM seen; END',
      'CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY ENABLE DO CALL tidy()',
      "INSERT INTO page (id, title) VALUES (1, 'home')",
      'INSERT INTO seen VALUES (1), (1)',
    );
    const onto = await copied(from);
    const now = (sql: string): Promise<(string | null)[][]> =>
      onMaria(onto.login, onto.login.database, (session) => session.texts(sql));
    expect(await now('SELECT title FROM aa_first'), 'triggers do not fire on what is copied').toEqual([['HOME!']]);
    expect(await now('SELECT COUNT(*) FROM seen')).toEqual([['2']]);
    expect(await now('SELECT DISTINCT DEFINER FROM information_schema.VIEWS WHERE TABLE_SCHEMA = DATABASE()')).toEqual([
      [`${onto.login.user}@%`],
    ]);
    expect(
      await now('SELECT EVENT_NAME, STATUS FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE()'),
    ).toEqual([['nightly', 'DISABLED']]);
    await asSite(onto, "INSERT INTO page (title) VALUES ('next')", 'CALL tidy()');
    expect(await now('SELECT id, title FROM page ORDER BY id')).toEqual([
      ['1', 'HOME!'],
      ['2', 'NEXT!'],
    ]);
    expect(await now('SELECT COUNT(*) FROM seen')).toEqual([['0']]);
  });
});

describe('what a write would do beside what is meant', () => {
  const on = (table: string, key: string) =>
    ({ part: 'row', database: 'main', table: tablePath({ schema: '', name: table }), key: [key] }) as const;

  async function written(database: SiteDatabase, changes: readonly RowChange[]) {
    const writer = await mariadb.write(database, 'test', 'strict');
    async function* each() {
      yield* changes;
    }
    try {
      await writer.stage(each(), new Rewriter({ addresses: [], roots: [] }), (_table, columns) => new Set(columns));
      const done = await writer.write(new Set(), () => []);
      await writer.commit();
      return done;
    } finally {
      await writer.close();
    }
  }

  it('stops it where a trigger writes elsewhere, and is read back where it changes the row itself', async () => {
    const database = await fresh();
    await asSite(
      database,
      'CREATE TABLE page (id int PRIMARY KEY, title varchar(50))',
      'CREATE TABLE trace (id int AUTO_INCREMENT PRIMARY KEY, words varchar(50))',
      'CREATE TRIGGER loud BEFORE UPDATE ON page FOR EACH ROW SET NEW.title = UPPER(NEW.title)',
      "INSERT INTO page VALUES (1, 'home'), (2, 'dye')",
    );
    const change: RowChange = {
      ...on('page', '1'),
      op: 'update',
      cells: { title: { before: 'home', after: 'start' } },
    };
    const { read } = await written(database, [change]);
    expect(read[0]?.lines.map(readLine)).toEqual([['1', 'START', 'update', '["title"]']]);
    await asSite(
      database,
      'CREATE TRIGGER told AFTER UPDATE ON page FOR EACH ROW INSERT INTO trace (words) VALUES (NEW.title)',
    );
    const again: RowChange = { ...on('page', '2'), op: 'update', cells: { title: { before: 'dye', after: 'inks' } } };
    await expect(written(database, [again])).rejects.toMatchObject({
      code: 'outdated',
      message: 'Writing would also change 1 row, by a trigger that the profile does not name.',
    });
    const now = await onMaria(database.login, database.login.database, (session) =>
      session.texts('SELECT title FROM page UNION ALL SELECT words FROM trace'),
    );
    expect(now.flat()).toEqual(['START', 'dye']);
  });

  it('stops it where rows would go with others that nobody meant, and lets them go where they are part of it', async () => {
    const database = await fresh();
    await asSite(
      database,
      'CREATE TABLE page (id int PRIMARY KEY)',
      'CREATE TABLE note (id int PRIMARY KEY, page_id int, FOREIGN KEY (page_id) REFERENCES page(id) ON DELETE CASCADE)',
      'INSERT INTO page VALUES (1), (2)',
      'INSERT INTO note VALUES (10, 1)',
    );
    const page: RowChange = { ...on('page', '1'), op: 'delete', row: { id: '1' } };
    await expect(written(database, [page])).rejects.toMatchObject({
      code: 'outdated',
      message: expect.stringContaining('Writing would also change rows of note'),
    });
    const note: RowChange = { ...on('note', '10'), op: 'delete', row: { id: '10', page_id: '1' } };
    expect((await written(database, [page, note])).applied).toMatchObject({ deleted: 2 });
  });

  it('is refused for a table that takes nothing back', async () => {
    const database = await fresh();
    await asSite(
      database,
      'CREATE TABLE old (id int PRIMARY KEY, title varchar(9)) ENGINE=Aria',
      "INSERT INTO old VALUES (1, 'a')",
    );
    const change: RowChange = { ...on('old', '1'), op: 'update', cells: { title: { before: 'a', after: 'b' } } };
    await expect(written(database, [change])).rejects.toMatchObject({
      code: 'schema-unsupported',
      message: expect.stringContaining('an engine without transactions'),
    });
  });
});
