import { type ByteString, type Misfit, tableLabel, toBytes, toText } from '@tessarion/core';
import type {
  LimitedColumn,
  Mentioning,
  Questions,
  Referring,
  Samples,
  SiteDatabase,
  TableCounts,
} from '../ports/database.js';
import { misfitsInLength, nameOfRow, shownValue } from '../ports/misfits-in-length.js';
import { MOST_MISFITS, type WrittenRow } from '../ports/rows.js';
import {
  type ColumnShape,
  integerKey,
  plainUniques,
  readable,
  type SchemaShape,
  type TableShape,
} from '../ports/shapes.js';
import { databaseError, Session } from './connect.js';
import { type Described, describe } from './describe.js';
import { asRead, familyOf, literal, mine, N, quoteName, quoteText } from './sql.js';
import { lineOf, readsOf } from './view.js';

/** Values that one statement names. */
const AT_ONCE = 500;
/** A statement that takes longer tells too little for what it costs, in seconds. */
const STATEMENT_SECONDS = 20;
/** MariaDB, *Error Codes*: a statement took longer than it may. */
const TOO_LONG = 1969;

type Values = readonly (ByteString | null)[];

function* batches<T>(all: readonly T[]): Generator<{ readonly from: number; readonly some: readonly T[] }> {
  for (let from = 0; from < all.length; from += AT_ONCE) yield { from, some: all.slice(from, from + AT_ONCE) };
}

const columnOf = (table: TableShape, name: string): ColumnShape =>
  table.columns.find((one) => one.name === name) as ColumnShape;

/** A value that people wrote, as a literal of a column. */
const literalOf = (table: TableShape, name: string, value: string): string =>
  literal(toBytes(value), columnOf(table, name));

/** The values of some columns as a table `w`, under names that no site has. */
const wantedTable = (table: TableShape, columns: readonly string[], from: number, wanted: readonly Values[]): string =>
  `(${wanted
    .map(
      (values, i) =>
        `SELECT ${[
          `${from + i} AS ${N}`,
          ...columns.map((name, j) => `${literal(values[j] ?? null, columnOf(table, name))} AS ${mine(j)}`),
        ].join(', ')}`,
    )
    .join(' UNION ALL ')}) w`;

/** Questions to a MariaDB database, in one session. */
export class MariaQuestions implements Questions {
  readonly #session: Session;
  readonly #described: Described;

  private constructor(session: Session, described: Described) {
    this.#session = session;
    this.#described = described;
  }

  /** @throws {EngineError} */
  static async open({ name, login }: SiteDatabase): Promise<MariaQuestions> {
    const session = await Session.open(login, 'read');
    try {
      return new MariaQuestions(session, await describe(session, name));
    } catch (error) {
      session.destroy();
      throw databaseError(error, login);
    }
  }

  get schema(): SchemaShape {
    return this.#described.schema;
  }

  async #ask<T>(question: (session: Session) => Promise<T>): Promise<T> {
    try {
      return await question(this.#session);
    } catch (error) {
      throw databaseError(error, this.#session.login);
    }
  }

  /** Asks what may take too long; undefined where it does. */
  async #within<T>(question: (session: Session) => Promise<T>): Promise<T | undefined> {
    return this.#ask(async (session) => {
      await session.run(`SET SESSION max_statement_time=${STATEMENT_SECONDS}`);
      try {
        return await question(session);
      } catch (error) {
        if ((error as { errno?: number }).errno === TOO_LONG) return undefined;
        throw error;
      } finally {
        await session.run('SET SESSION max_statement_time=0').catch(() => undefined);
      }
    });
  }

  /** How values of a table's columns are read exactly. */
  #read(table: TableShape, name: string): string {
    return this.#described.reads.get(table.name)?.get(name) ?? quoteName(name);
  }

  async rowsWhere(table: TableShape, columns: readonly string[], wanted: readonly Values[]): Promise<ByteString> {
    const binary = readable(table).map(({ type }) => familyOf(type) === 'binary');
    const names = columns.map(quoteName).join(', ');
    let lines = '';
    for (const { some } of batches(wanted.filter((one) => !one.includes(null)))) {
      const list = some.map(
        (one) => `(${one.map((value, i) => literal(value, columnOf(table, columns[i] as string))).join(', ')})`,
      );
      const rows = await this.#ask((session) =>
        session.rows(
          `SELECT ${readsOf(this.#described, table).join(', ')} FROM ${quoteName(table.name)} WHERE (${names}) IN (${list.join(', ')})`,
        ),
      );
      for (const row of rows) lines += `${lineOf(row, binary)}\n`;
    }
    return lines;
  }

  async countReferring({
    table,
    column,
    keys,
    when = {},
    distinct,
    without = [],
  }: Referring): Promise<ReadonlyMap<ByteString, number>> {
    const found = new Map<ByteString, number>();
    const conditions = Object.entries(when).map(
      ([name, values]) => `t.${quoteName(name)} IN (${values.map((one) => literalOf(table, name, one)).join(', ')})`,
    );
    if (without.length > 0 && table.key.length > 0) {
      const passed = without.map(
        (key) => `(${table.key.map((name, i) => literal(key[i] ?? null, columnOf(table, name))).join(', ')})`,
      );
      conditions.push(`(${table.key.map((name) => `t.${quoteName(name)}`).join(', ')}) NOT IN (${passed.join(', ')})`);
    }
    const counted = distinct === undefined ? 'COUNT(*)' : `COUNT(DISTINCT t.${quoteName(distinct)})`;
    for (const { from, some } of batches(keys)) {
      const wanted = wantedTable(
        table,
        [column],
        from,
        some.map((key) => [key]),
      );
      const rows = await this.#ask((session) =>
        session.texts(
          `SELECT w.${N}, ${counted} FROM ${wanted} JOIN ${quoteName(table.name)} t ON t.${quoteName(column)} = w.${mine(0)}
            ${conditions.length > 0 ? `WHERE ${conditions.join(' AND ')}` : ''} GROUP BY w.${N} ORDER BY w.${N}`,
        ),
      );
      for (const [n, count] of rows) found.set(keys[Number(n)] as ByteString, Number(count));
    }
    return found;
  }

  async countMentioning({ table, searches, distinct }: Mentioning): Promise<ReadonlyMap<ByteString, number>> {
    const found = new Map<ByteString, number>();
    const texts = [...new Set(searches.flatMap((one) => one.texts))];
    for (const { some } of batches(texts)) {
      const counts = some.map((text) => {
        const holds = searches
          .filter((one) => one.texts.includes(text))
          .map(({ column }) =>
            column === undefined
              ? 'TRUE'
              : `LOCATE(${literal(text, { type: 'text' })}, ${this.#read(table, column)} COLLATE utf8mb4_bin) > 0`,
          )
          .join(' OR ');
        return distinct === undefined
          ? `COALESCE(SUM(${holds}), 0)`
          : `COUNT(DISTINCT IF(${holds}, ${quoteName(distinct)}, NULL))`;
      });
      const [row = []] = await this.#ask((session) =>
        session.texts(`SELECT ${counts.join(', ')} FROM ${quoteName(table.name)}`),
      );
      for (const [i, text] of some.entries()) if (Number(row[i] ?? 0) > 0) found.set(text, Number(row[i]));
    }
    return found;
  }

  async holders(table: TableShape, columns: readonly string[], values: readonly Values[]) {
    const found: { at: number; key: ByteString[] }[] = [];
    const match = columns.map((name, i) => `t.${quoteName(name)} = w.${mine(i)}`).join(' AND ');
    const keys = table.key.map((name) => `t.${quoteName(name)}`);
    const binary = table.key.map((name) => familyOf(columnOf(table, name).type) === 'binary');
    for (const { from, some } of batches(values)) {
      const rows = await this.#ask((session) =>
        session.rows(
          `SELECT ${[`w.${N}`, ...keys].join(', ')} FROM ${wantedTable(table, columns, from, some)} JOIN ${quoteName(table.name)} t ON ${match} ORDER BY w.${N}`,
        ),
      );
      for (const [n, ...key] of rows)
        found.push({
          at: Number(n),
          key: key.map((value, i) => asRead(value as Buffer, binary[i] as boolean) as ByteString),
        });
    }
    return found;
  }

  async valuesByKey(table: TableShape, column: string, keys: readonly ByteString[]) {
    const found = new Map<ByteString, ByteString>();
    const [key] = table.key as [string];
    const isBinary = familyOf(columnOf(table, column).type) === 'binary';
    for (const { from, some } of batches(keys)) {
      const wanted = wantedTable(
        table,
        [key],
        from,
        some.map((one) => [one]),
      );
      const rows = await this.#ask((session) =>
        session.rows(
          `SELECT w.${N}, ${this.#read(table, column)} FROM ${wanted} JOIN ${quoteName(table.name)} ON ${quoteName(key)} = w.${mine(0)}`,
        ),
      );
      for (const [n, value] of rows)
        if (value) found.set(keys[Number(n)] as ByteString, asRead(value, isBinary) as ByteString);
    }
    return found;
  }

  async cell(table: TableShape, row: Readonly<Record<string, string>>, column: string) {
    const where = Object.entries(row).map(([name, value]) => `${quoteName(name)} = ${literalOf(table, name, value)}`);
    const [found] = await this.#ask((session) =>
      session.rows(
        `SELECT ${this.#read(table, column)} FROM ${quoteName(table.name)} WHERE ${where.join(' AND ')} LIMIT 1`,
      ),
    );
    return found && asRead(found[0] ?? null, familyOf(columnOf(table, column).type) === 'binary');
  }

  async heldRows(table: TableShape, upTo?: string) {
    const key = integerKey(table);
    const name = quoteName(table.name);
    if (key === undefined)
      return { rows: Number(await this.#ask((session) => session.value(`SELECT COUNT(*) FROM ${name}`))), keys: null };
    const own =
      upTo === undefined ? quoteName(key) : `IF(${quoteName(key)} <= ${BigInt(upTo)}, ${quoteName(key)}, NULL)`;
    const [[rows, highest, sum] = []] = await this.#ask((session) =>
      session.texts(
        `SELECT COUNT(*), MAX(${own}), SUM(CAST(CONV(LEFT(MD5(${own}), 15), 16, 10) AS DECIMAL(30))) FROM ${name}`,
      ),
    );
    return { rows: Number(rows), keys: highest == null ? null : { highest, sum: sum as string } };
  }

  judgedColumns(table: TableShape): ReadonlySet<string> {
    const limited = table.columns.filter((one) => one.maxLength !== undefined).map((one) => one.name);
    return new Set([
      ...table.key,
      ...limited,
      ...plainUniques(table).flat(),
      ...table.checks.flatMap((one) => one.columns),
    ]);
  }

  async tryValues(table: TableShape, rows: readonly WrittenRow[]): Promise<Misfit[]> {
    const tooLong = misfitsInLength(table, rows);
    const found = [...tooLong.values()].flat();
    if (table.checks.length === 0 || table.key.length === 0) return found;
    const written = rows.filter((row, i) => row.op !== 'delete' && !tooLong.has(i));
    return [...found, ...(await this.#ask((session) => this.#tryChecks(session, table, written)))].slice(
      0,
      MOST_MISFITS,
    );
  }

  /** Lets a table of the same making judge rows as they would be: the server's own rules, and nobody's rows. */
  async #tryChecks(session: Session, table: TableShape, rows: readonly WrittenRow[]): Promise<Misfit[]> {
    const judged = new Set(table.checks.flatMap((one) => one.columns));
    const found: Misfit[] = [];
    await session.run(`CREATE OR REPLACE TEMPORARY TABLE tessarion_try LIKE ${quoteName(table.name)}`);
    try {
      const names = readable(table).map(({ name }) => name);
      for (const row of rows) {
        if (found.length >= MOST_MISFITS || !Object.keys(row.cells).some((name) => judged.has(name))) continue;
        const key = table.key.map((name, i) => `${quoteName(name)} = ${literalOf(table, name, row.key[i] ?? '')}`);
        const values = names.map((name) =>
          Object.hasOwn(row.cells, name)
            ? row.cells[name] == null
              ? 'NULL'
              : literalOf(table, name, row.cells[name] as string)
            : row.op === 'insert'
              ? 'DEFAULT'
              : quoteName(name),
        );
        const list = names.map(quoteName).join(', ');
        const sql =
          row.op === 'insert'
            ? `REPLACE INTO tessarion_try (${list}) VALUES (${values.join(', ')})`
            : `REPLACE INTO tessarion_try (${list}) SELECT ${values.join(', ')} FROM ${quoteName(table.name)} WHERE ${key.join(' AND ')}`;
        try {
          await session.run(sql);
        } catch (error) {
          const { errno, message } = error as { errno?: number; message: string };
          if (errno !== 4025) throw error;
          const name = /CONSTRAINT `([^`]*)`/.exec(message)?.[1] ?? '';
          const check = table.checks.find((one) => one.name === name.split('.').at(-1));
          found.push({
            table: tableLabel(table),
            key: nameOfRow(table, row.key),
            what: `breaks the constraint "${name}"${check ? `: ${check.expression}` : ''}`,
          });
        }
      }
    } finally {
      await session.run('DROP TEMPORARY TABLE IF EXISTS tessarion_try');
    }
    return found;
  }

  async tryRows(table: TableShape, rows: readonly WrittenRow[]): Promise<Misfit[]> {
    const found = await this.tryValues(table, rows);
    if (misfitsInLength(table, rows).size > 0 || table.key.length === 0) return found;
    for (const columns of plainUniques(table)) found.push(...(await this.#taken(table, columns, rows)));
    return found.slice(0, MOST_MISFITS);
  }

  /** Rows that want what another row has, and does not give away with the same transfer, or what another one wants too. */
  async #taken(table: TableShape, columns: readonly string[], rows: readonly WrittenRow[]): Promise<Misfit[]> {
    const writes = rows.filter((row) => row.op !== 'delete' && columns.some((name) => Object.hasOwn(row.cells, name)));
    if (writes.length === 0) return [];
    const idOf = (key: readonly (string | null)[]): string => JSON.stringify(key);
    const written = new Map(rows.map((row) => [idOf(row.key), row]));
    const wanted = await this.#wanted(table, columns, writes);
    const found: Misfit[] = [];
    const say = (row: WrittenRow, values: Values, holder: string, way: string): void =>
      void found.push({
        table: tableLabel(table),
        key: nameOfRow(table, row.key),
        what: `wants the ${columns.join(', ')} "${shownValue(values.map((one) => toText(one ?? '')).join(', '))}", which ${holder} ${way}`,
      });
    for (const { at, key } of await this.holders(table, columns, wanted)) {
      const holder = key.map(toText);
      const row = writes[at] as WrittenRow;
      const other = written.get(idOf(holder));
      const goes = other && (other.op === 'delete' || columns.some((name) => Object.hasOwn(other.cells, name)));
      if (idOf(row.key) !== idOf(holder) && !goes) say(row, wanted[at] as Values, holder.join(' '), 'has');
    }
    const first = new Map<string, WrittenRow>();
    for (const [i, values] of wanted.entries()) {
      if (values.includes(null)) continue;
      const row = writes[i] as WrittenRow;
      const holder = first.get(JSON.stringify(values));
      if (holder) say(holder, values, nameOfRow(table, row.key), 'wants too');
      else first.set(JSON.stringify(values), row);
    }
    return found;
  }

  /** What rows would hold in some columns: what is written to them, else what they hold. */
  async #wanted(table: TableShape, columns: readonly string[], rows: readonly WrittenRow[]): Promise<Values[]> {
    const held: (readonly (ByteString | null)[] | undefined)[] = [];
    const binary = columns.map((name) => familyOf(columnOf(table, name).type) === 'binary');
    for (const { from, some } of batches(rows)) {
      const keys = some.map((row) => row.key.map((one) => (one === null ? null : toBytes(one))));
      const match = table.key.map((name, i) => `${quoteName(name)} = w.${mine(i)}`).join(' AND ');
      const found = await this.#ask((session) =>
        session.rows(
          `SELECT w.${N}, ${columns.map((name) => this.#read(table, name)).join(', ')} FROM ${wantedTable(table, table.key, from, keys)} JOIN ${quoteName(table.name)} ON ${match}`,
        ),
      );
      for (const [n, ...values] of found)
        held[Number(n)] = values.map((value, i) => asRead(value as Buffer | null, binary[i] as boolean));
    }
    return rows.map((row, n) =>
      columns.map((name, i) => {
        if (!Object.hasOwn(row.cells, name)) return held[n]?.[i] ?? null;
        const value = row.cells[name];
        return value == null ? null : toBytes(value);
      }),
    );
  }

  async crowdedRows(
    table: TableShape,
    columns: readonly LimitedColumn[],
    words: readonly string[],
    growth: number,
    most: number,
  ): Promise<(string | null)[][]> {
    const conditions = columns.flatMap(({ name, maxLength }) =>
      words.map((word) => {
        const value = `LOWER(${this.#read(table, name)})`;
        const hits = `((CHAR_LENGTH(${value}) - CHAR_LENGTH(REPLACE(${value}, ${quoteText(word)}, ''))) DIV ${[...word].length})`;
        return `(${hits} > 0${maxLength === undefined ? '' : ` AND CHAR_LENGTH(${value}) + ${growth} * ${hits} > ${maxLength}`})`;
      }),
    );
    if (conditions.length === 0) return [];
    const binary = readable(table).map(({ type }) => familyOf(type) === 'binary');
    const rows = await this.#ask((session) =>
      session.rows(
        `SELECT ${readsOf(this.#described, table).join(', ')} FROM ${quoteName(table.name)} WHERE ${conditions.join(' OR ')} LIMIT ${most}`,
      ),
    );
    return rows.map((row) =>
      row.map((value, i) => {
        const read = asRead(value, binary[i] as boolean);
        return read === null ? null : toText(read);
      }),
    );
  }

  async samples(table: TableShape, most: number, length: number): Promise<Samples> {
    const columns = table.columns.filter(({ type }) => familyOf(type) !== 'binary');
    const values = new Map<string, string[]>(columns.map((column) => [column.name, []]));
    const order = table.key.length === 1 ? [`ORDER BY ${quoteName(table.key[0] as string)} DESC`, ''] : [''];
    let count = 0;
    for (const one of columns.length === 0 ? [] : order) {
      const picked = columns.map(({ name }) => `LEFT(${this.#read(table, name)}, ${length})`);
      const rows = await this.#within((session) =>
        session.texts(`SELECT ${picked.join(', ')} FROM ${quoteName(table.name)} ${one} LIMIT ${most}`),
      );
      count = Math.max(count, rows?.length ?? 0);
      for (const row of rows ?? [])
        for (const [i, { name }] of columns.entries()) if (row[i] != null) values.get(name)?.push(row[i]);
    }
    const nullable = table.columns.filter((one) => !one.isRequired).map((one) => one.name);
    return { rows: count, values, nullable: new Set(nullable) };
  }

  async differentValues(
    table: TableShape,
    column: string,
    when: { readonly column: string; readonly value: string } | undefined,
    most: number,
  ): Promise<readonly string[] | undefined> {
    const name = quoteName(column);
    const rows = await this.#within((session) =>
      session.texts(
        `SELECT DISTINCT CAST(${name} AS CHAR) FROM ${quoteName(table.name)}
          WHERE ${name} IS NOT NULL AND CAST(${name} AS CHAR) NOT IN ('', '0')
          ${when ? `AND CAST(${quoteName(when.column)} AS CHAR) = ${quoteText(when.value)}` : ''} LIMIT ${most}`,
      ),
    );
    return rows?.map(([value]) => value as string);
  }

  async countKeys(table: TableShape, values: readonly string[]): Promise<number | undefined> {
    const [key] = table.key;
    if (key === undefined || table.key.length !== 1) return undefined;
    if (values.length === 0) return 0;
    const list = values.map(quoteText).join(', ');
    return this.#within(async (session) =>
      Number(
        await session.value(
          `SELECT COUNT(*) FROM ${quoteName(table.name)} WHERE CAST(${quoteName(key)} AS CHAR) IN (${list})`,
        ),
      ),
    );
  }

  /** The server counts no writes by table. */
  async counts(): Promise<ReadonlyMap<string, TableCounts>> {
    return new Map();
  }

  async size(): Promise<{ rows: number; bytes: number }> {
    const [[rows, bytes] = []] = await this.#ask((session) =>
      session.texts(
        'SELECT COALESCE(SUM(TABLE_ROWS), 0), COALESCE(SUM(DATA_LENGTH + INDEX_LENGTH), 0) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE()',
      ),
    );
    return { rows: Number(rows), bytes: Number(bytes) };
  }

  close(): Promise<void> {
    return this.#session.end();
  }
}
