import {
  type ByteString,
  compareKeys,
  type KeyRange,
  type Misfit,
  materialiseLines,
  type Rewriter,
  type RowChange,
  readLine,
  type TableMake,
  type TableName,
  tableLabel,
  tablePath,
  toBytes,
  toText,
  writeLine,
} from '@tessarion/core';
import type {
  Administration,
  DatabaseSystem,
  DatabaseView,
  Loader,
  Questions,
  RowWriter,
  SiteDatabase,
  Written,
} from '../../src/ports/database.js';
import { EngineError } from '../../src/ports/errors.js';
import type { Mode, Protection, ReadBack, Remain, WrittenRow } from '../../src/ports/rows.js';
import {
  type DatabaseLogin,
  integerKey,
  plainUniques,
  type SchemaShape,
  type TableShape,
} from '../../src/ports/shapes.js';
import type { KindUnderTest, PlainTable } from './databases.js';

type Row = readonly (ByteString | null)[];

interface Kept {
  shape: TableShape;
  rows: Row[];
  next: number;
}

interface Database {
  readonly login: DatabaseLogin;
  readonly tables: Map<string, Kept>;
}

const refused = (login: DatabaseLogin): EngineError =>
  new EngineError('database-refused', `The database ${login.database} refused: wrong password.`, 'Check the login.');

/** All that one made-up database server holds. */
class Server {
  readonly databases = new Map<string, Database>();
  readonly fates = new Map<string, 'committed' | 'open' | 'gone'>();
  readonly writers = new Set<MemoryWriter>();
  marks = 0;

  enter(login: DatabaseLogin): Database {
    if (login.port === 1)
      throw new EngineError('database-unreachable', `The database ${login.database} cannot be reached.`, 'Start it.');
    const found = this.databases.get(login.database);
    if (!found || found.login.user !== login.user || found.login.password !== login.password) throw refused(login);
    return found;
  }
}

const bytes = (value: string | null): ByteString | null => (value === null ? null : toBytes(value));

function shapeOf(
  { name, columns, key, draws, uniques = [], references = [] }: PlainTable,
  database: string,
): TableShape {
  const column = (one: string) => columns.find((each) => each.name === one) as PlainTable['columns'][0];
  return {
    database,
    schema: '',
    name,
    columns: columns.map((one) => ({
      name: one.name,
      type: one.type,
      generated: false,
      maxLength: one.length,
      isText: one.type === 'text',
      isRequired: one.isRequired === true,
      isFilled: draws === true && key[0] === one.name,
    })),
    key,
    keyOrders: key.map((one) => (column(one).type === 'number' ? 'integer' : 'bytes')),
    references: references.map((one) => ({
      columns: [one.column],
      table: { schema: '', name: one.table },
      targetColumns: [one.target],
    })),
    rowTriggers: [],
    uniques: uniques.map((names) =>
      names.map((one) => ({ name: one, type: column(one).type, isRange: false, nullable: true, length: 32 })),
    ),
    exclusions: [],
    checks: [],
    indexes: '',
    drawsKey: draws === true,
  };
}

const schemaOf = (database: Database, name: string): SchemaShape => ({
  server: 'Memory 1',
  tables: [...database.tables.values()]
    .map(({ shape }) => ({ ...shape, database: name }))
    .sort((a, b) => (a.name < b.name ? -1 : 1)),
  sequences: [...database.tables.values()].flatMap(({ shape, next }) =>
    shape.drawsKey
      ? [
          {
            schema: '',
            name: shape.name,
            ownedBy: { table: shape, column: shape.key[0] as string },
            last: String(next),
            called: false,
          },
        ]
      : [],
  ),
  extensions: [],
});

const at = (shape: TableShape, column: string): number => shape.columns.findIndex((one) => one.name === column);
const keyOf = (shape: TableShape, row: Row): Row => shape.key.map((name) => row[at(shape, name)] ?? null);
const isSameKey = (a: Row, b: Row): boolean => a.length === b.length && a.every((one, i) => one === b[i]);

class MemoryView implements DatabaseView {
  readonly schema: SchemaShape;
  readonly bytes = 1;
  readonly #rows: ReadonlyMap<string, readonly Row[]>;

  constructor(database: Database, name: string) {
    this.schema = schemaOf(database, name);
    this.#rows = new Map([...database.tables].map(([path, { rows }]) => [path, [...rows]]));
  }

  async *readRows(table: TableShape, ranges?: readonly KeyRange[]): AsyncGenerator<ByteString> {
    const number = (row: Row): bigint => BigInt(keyOf(table, row)[0] ?? 0);
    const isWithin = (row: Row): boolean =>
      ranges === undefined ||
      ranges.some(
        ({ from, to }) =>
          (from === undefined || number(row) >= BigInt(from)) && (to === undefined || number(row) < BigInt(to)),
      );
    const rows = (this.#rows.get(tablePath(table)) ?? []).filter(isWithin);
    rows.sort((a, b) => compareKeys(keyOf(table, a), keyOf(table, b), table.keyOrders));
    for (const row of rows) yield `${writeLine(row)}\n`;
  }

  async countRows(table: TableShape): Promise<number> {
    return this.#rows.get(tablePath(table))?.length ?? 0;
  }

  async moment(): Promise<undefined> {}

  writtenSince(): Promise<never> {
    throw new Error('Nobody has a moment of it.');
  }

  countStill(): Promise<never> {
    throw new Error('Nobody has a moment of it.');
  }

  heldKeys(): Promise<never> {
    throw new Error('Nobody has a moment of it.');
  }

  async dumpSchema(section: 'before' | 'after'): Promise<Buffer> {
    return Buffer.from(JSON.stringify(section === 'before' ? this.schema.tables : []));
  }

  async close(): Promise<void> {}
}

class MemoryQuestions implements Questions {
  readonly schema: SchemaShape;

  constructor(
    readonly database: Database,
    name: string,
  ) {
    this.schema = schemaOf(database, name);
  }

  #rows(table: TableShape): readonly Row[] {
    return this.database.tables.get(tablePath(table))?.rows ?? [];
  }

  async rowsWhere(table: TableShape, columns: readonly string[], wanted: readonly Row[]): Promise<ByteString> {
    const rows = this.#rows(table).filter((row) =>
      wanted.some((one) => !one.includes(null) && columns.every((name, i) => row[at(table, name)] === one[i])),
    );
    return rows.map((row) => `${writeLine(row)}\n`).join('');
  }

  async countReferring({
    table,
    column,
    keys,
    when = {},
    distinct,
    without = [],
  }: Parameters<Questions['countReferring']>[0]) {
    const found = new Map<ByteString, (ByteString | null)[]>();
    for (const row of this.#rows(table)) {
      const key = row[at(table, column)];
      if (key === null || key === undefined || !keys.includes(key)) continue;
      const holds = Object.entries(when).every(([name, values]) =>
        values.map(toBytes).includes(row[at(table, name)] ?? ''),
      );
      if (!holds || without.some((one) => isSameKey(one, keyOf(table, row)))) continue;
      found.set(key, [...(found.get(key) ?? []), distinct === undefined ? '' : (row[at(table, distinct)] ?? null)]);
    }
    return new Map(
      [...found].map(([key, all]) => [
        key,
        distinct === undefined ? all.length : new Set(all.filter((one) => one !== null)).size,
      ]),
    );
  }

  async countMentioning({ table, searches, distinct }: Parameters<Questions['countMentioning']>[0]) {
    const found = new Map<ByteString, Set<unknown>>();
    for (const row of this.#rows(table))
      for (const { column, texts } of searches)
        for (const one of texts)
          if (column === undefined || row[at(table, column)]?.includes(one))
            found.set(one, (found.get(one) ?? new Set()).add(distinct === undefined ? row : row[at(table, distinct)]));
    return new Map([...found].map(([one, things]) => [one, things.size]));
  }

  async holders(table: TableShape, columns: readonly string[], values: readonly Row[]) {
    return values.flatMap((one, i) =>
      this.#rows(table)
        .filter((row) => columns.every((name, j) => row[at(table, name)] === one[j] && one[j] !== null))
        .map((row) => ({ at: i, key: keyOf(table, row) as ByteString[] })),
    );
  }

  async valuesByKey(table: TableShape, column: string, keys: readonly ByteString[]) {
    const found = new Map<ByteString, ByteString>();
    for (const row of this.#rows(table)) {
      const [key, value] = [keyOf(table, row)[0] as ByteString, row[at(table, column)]];
      if (keys.includes(key) && value !== null && value !== undefined) found.set(key, value);
    }
    return found;
  }

  async cell(table: TableShape, where: Readonly<Record<string, string>>, column: string) {
    const row = this.#rows(table).find((one) =>
      Object.entries(where).every(([name, value]) => one[at(table, name)] === toBytes(value)),
    );
    return row && (row[at(table, column)] ?? null);
  }

  async heldRows(table: TableShape, upTo?: string) {
    const rows = this.#rows(table);
    if (integerKey(table) === undefined) return { rows: rows.length, keys: null };
    const keys = rows
      .map((row) => BigInt(keyOf(table, row)[0] ?? 0))
      .filter((key) => upTo === undefined || key <= BigInt(upTo));
    const sum = keys.reduce((total, key) => total + key ** 3n, 0n);
    const [highest] = keys.toSorted((a, b) => (a < b ? 1 : -1));
    return { rows: rows.length, keys: keys.length === 0 ? null : { highest: String(highest), sum: String(sum) } };
  }

  judgedColumns(table: TableShape): ReadonlySet<string> {
    const limited = table.columns.filter((one) => one.maxLength !== undefined).map((one) => one.name);
    return new Set([...table.key, ...limited, ...plainUniques(table).flat()]);
  }

  async tryValues(table: TableShape, rows: readonly WrittenRow[]): Promise<Misfit[]> {
    return rows.flatMap(({ key, cells }) =>
      table.columns.flatMap(({ name, maxLength }) => {
        const length = [...(cells[name] ?? '')].length;
        return maxLength === undefined || length <= maxLength
          ? []
          : [{ table: tableLabel(table), key: key.join(' '), what: `${name} would be ${length} characters long` }];
      }),
    );
  }

  async tryRows(table: TableShape, rows: readonly WrittenRow[]): Promise<Misfit[]> {
    const tooLong = await this.tryValues(table, rows);
    if (tooLong.length > 0) return tooLong;
    const written = new Map(rows.map((row) => [row.key.join(' '), row]));
    const after = new Map<string, (string | null)[]>();
    for (const row of this.#rows(table)) {
      const key = keyOf(table, row)
        .map((one) => toText(one ?? ''))
        .join(' ');
      const cells = written.get(key)?.cells ?? {};
      const values = table.columns.map(({ name }, i) =>
        name in cells ? (cells[name] ?? null) : row[i] === null ? null : toText(row[i] as string),
      );
      if (written.get(key)?.op !== 'delete') after.set(key, values);
    }
    for (const [key, { op, cells }] of written)
      if (op === 'insert')
        after.set(
          key,
          table.columns.map(({ name }) => cells[name] ?? null),
        );
    return plainUniques(table).flatMap((columns) => {
      const holders = new Map<string, string>();
      return [...after]
        .sort(([a], [b]) => Number(written.has(a)) - Number(written.has(b)))
        .flatMap(([key, values]) => {
          const own = columns.map((name) => values[at(table, name)] ?? null);
          if (own.includes(null)) return [];
          const holder = holders.get(own.join());
          holders.set(own.join(), key);
          return holder === undefined
            ? []
            : [
                {
                  table: tableLabel(table),
                  key,
                  what: `wants the ${columns.join(', ')} "${own.join()}", which ${holder} has`,
                },
              ];
        });
    });
  }

  async crowdedRows(
    table: TableShape,
    columns: readonly { name: string; maxLength: number | undefined }[],
    words: readonly string[],
    growth: number,
    most: number,
  ) {
    const shown = (row: Row) => row.map((one) => (one === null ? null : toText(one)));
    return this.#rows(table)
      .map(shown)
      .filter((row) =>
        columns.some(({ name, maxLength }) =>
          words.some((word) => {
            const value = row[at(table, name)]?.toLowerCase() ?? '';
            const hits = value.split(word).length - 1;
            return hits > 0 && (maxLength === undefined || value.length + growth * hits > maxLength);
          }),
        ),
      )
      .slice(0, most);
  }

  async samples(table: TableShape, most: number, length: number) {
    const rows = this.#rows(table).slice(0, most);
    const values = table.columns.map(
      ({ name }, i) =>
        [name, rows.flatMap((row) => (row[i] == null ? [] : [toText(row[i] as string).slice(0, length)]))] as const,
    );
    const nullable = table.columns.filter((one) => !one.isRequired).map((one) => one.name);
    return { rows: rows.length, values: new Map(values), nullable: new Set(nullable) };
  }

  async differentValues(
    table: TableShape,
    column: string,
    when: { column: string; value: string } | undefined,
    most: number,
  ) {
    const rows = this.#rows(table).filter((row) => !when || row[at(table, when.column)] === toBytes(when.value));
    const values = rows.map((row) => row[at(table, column)]).filter((one) => one != null && one !== '' && one !== '0');
    return [...new Set(values.map((one) => toText(one as string)))].slice(0, most);
  }

  async countKeys(table: TableShape, values: readonly string[]) {
    return this.#rows(table).filter((row) => values.includes(toText(keyOf(table, row)[0] ?? ''))).length;
  }

  async counts() {
    return new Map();
  }

  async size() {
    return { rows: [...this.database.tables.values()].reduce((sum, one) => sum + one.rows.length, 0), bytes: 1 };
  }

  async close(): Promise<void> {}
}

class MemoryWriter implements RowWriter {
  readonly schema: SchemaShape;
  readonly #changes: RowChange[] = [];
  #rewriter: Rewriter | undefined;
  #authored: (table: string, columns: readonly string[]) => ReadonlySet<string> = () => new Set();
  #after: Map<string, Row[]> | undefined;
  #mark = '';
  isEnded = false;

  constructor(
    readonly server: Server,
    readonly database: Database,
    name: string,
    readonly purpose: string,
    readonly mode: Mode,
  ) {
    this.schema = schemaOf(database, name);
    server.writers.add(this);
  }

  async stage(...[changes, rewriter, authored]: Parameters<RowWriter['stage']>): Promise<void> {
    this.#rewriter = rewriter;
    this.#authored = authored;
    for await (const change of changes) this.#changes.push(change);
  }

  #written(value: ByteString | null): ByteString | null {
    const line = materialiseLines(`${writeLine([value])}\n`, this.#rewriter as Rewriter);
    return readLine(line.slice(0, -1))[0] ?? null;
  }

  async write(unsure: ReadonlySet<string>, protects: (table: TableShape) => readonly Protection[]): Promise<Written> {
    const remains: Remain[] = [];
    const counts = { inserted: 0, updated: 0, deleted: 0 };
    const after = new Map([...this.database.tables].map(([path, { rows }]) => [path, [...rows]]));
    const written = new Map<string, string[]>();
    const stays = (table: TableShape, key: Row, what: string): void => {
      remains.push({ table: tableLabel(table), key: key.map((one) => toText(one ?? '')).join(' '), what });
    };
    for (const change of this.#changes) {
      const table = this.schema.tables.find((one) => tablePath(one) === change.table) as TableShape;
      const rows = after.get(change.table) as Row[];
      const key = change.key.map((one) => this.#written(one));
      const i = rows.findIndex((row) => isSameKey(keyOf(table, row), key));
      const row = rows[i];
      const judged = this.#authored(
        change.table,
        table.columns.map((one) => one.name),
      );
      const differing = (cells: Readonly<Record<string, ByteString | null>>): string[] =>
        this.mode === 'over' || !row
          ? []
          : Object.entries(cells).flatMap(([name, value]) =>
              row[at(table, name)] === this.#written(value) ? [] : [name],
            );
      if (change.op === 'insert') {
        if (row) stays(table, key, 'is there already');
        else {
          rows.push(table.columns.map(({ name }) => this.#written(change.row[name] ?? null)));
          counts.inserted++;
        }
      } else if (!row) stays(table, key, 'is gone');
      else if (change.op === 'delete') {
        const held = Object.fromEntries(Object.entries(change.row).filter(([name]) => judged.has(name)));
        const unlike = differing(held);
        const by = await this.#referrer(table, key, protects);
        if (unlike.length > 0) stays(table, key, `was changed meanwhile (${unlike.join(', ')})`);
        else if (by !== undefined) stays(table, key, `stays, since ${by} refers to it`);
        else {
          rows.splice(i, 1);
          counts.deleted++;
        }
      } else {
        const unlike = differing(
          Object.fromEntries(Object.entries(change.cells).map(([name, one]) => [name, one.before])),
        );
        if (unlike.length > 0) stays(table, key, `was changed meanwhile (${unlike.join(', ')})`);
        const taken = Object.entries(change.cells).filter(([name]) => !unlike.includes(name));
        if (taken.length === 0) continue;
        const next = [...row];
        for (const [name, cell] of taken) next[at(table, name)] = this.#written(cell.after);
        rows[i] = next;
        counts.updated++;
      }
      if (unsure.has(change.table) && change.op !== 'delete') {
        const now = rows.find((one) => isSameKey(keyOf(table, one), key)) as Row;
        const columns = change.op === 'update' ? JSON.stringify(Object.keys(change.cells)) : null;
        written.set(change.table, [...(written.get(change.table) ?? []), writeLine([...now, change.op, columns])]);
      }
    }
    const [first] = remains;
    if (first && this.mode !== 'lenient')
      throw new EngineError('outdated', `${first.table} ${first.key}: ${first.what}.`, 'Make a new forecast.');
    this.#after = after;
    this.#mark = String(++this.server.marks);
    this.server.fates.set(this.#mark, 'open');
    const read = [...written].map(([path, lines]): ReadBack => {
      const shape = this.schema.tables.find((one) => tablePath(one) === path) as TableShape;
      return { shape, columns: shape.columns.map((one) => one.name), lines };
    });
    return { mark: this.#mark, applied: { ...counts, remains }, read };
  }

  async #referrer(
    table: TableShape,
    key: Row,
    protects: (table: TableShape) => readonly Protection[],
  ): Promise<string | undefined> {
    for (const { by, called } of protects(table)) {
      const own = key[0] as ByteString;
      const refers =
        typeof by === 'function'
          ? (await by([toText(own)])).length > 0
          : (this.database.tables.get(tablePath(by.table))?.rows ?? []).some(
              (row) => row[at(by.table, by.column)] === own,
            );
      if (refers) return called;
    }
    return undefined;
  }

  async commit(): Promise<void> {
    if (this.isEnded || !this.#after)
      throw new EngineError('database-unreachable', 'The session was ended.', 'Run it again.');
    for (const [path, rows] of this.#after) {
      const table = this.database.tables.get(path) as Kept;
      table.rows = rows;
      for (const row of rows)
        if (table.shape.drawsKey) table.next = Math.max(table.next, Number(keyOf(table.shape, row)[0]) + 1);
    }
    this.server.fates.set(this.#mark, 'committed');
  }

  async close(): Promise<void> {
    this.isEnded = true;
    this.server.writers.delete(this);
    if (this.server.fates.get(this.#mark) === 'open') this.server.fates.set(this.#mark, 'gone');
  }
}

class MemoryLoader implements Loader {
  constructor(readonly database: Database) {}

  async runSchema(sql: Buffer): Promise<void> {
    for (const shape of JSON.parse(sql.toString()) as TableShape[])
      this.database.tables.set(tablePath(shape), { shape, rows: [], next: 1 });
  }

  async loadRows(
    table: Pick<TableName, 'schema' | 'name'>,
    columns: readonly string[],
    batches: AsyncIterable<ByteString>,
  ): Promise<number> {
    const kept = this.database.tables.get(tablePath(table)) as Kept;
    const before = kept.rows.length;
    for await (const lines of batches)
      for (const line of lines.split('\n').slice(0, -1)) {
        const values = readLine(line);
        kept.rows.push(kept.shape.columns.map(({ name }) => values[columns.indexOf(name)] ?? null));
      }
    return kept.rows.length - before;
  }

  async setSequences(sequences: Parameters<Loader['setSequences']>[0]): Promise<void> {
    for (const one of sequences) (this.database.tables.get(tablePath(one)) as Kept).next = Number(one.last);
  }

  async close(): Promise<void> {}
}

/** A kind of database that exists in tests only: what must hold for any kind, told without a server. */
export async function memoryKind(): Promise<KindUnderTest> {
  const server = new Server();
  const system = memorySystem(server);
  const tableOf = (database: SiteDatabase, name: string): Kept =>
    server.enter(database.login).tables.get(tablePath({ schema: '', name })) as Kept;
  let number = 0;
  return {
    system,
    async fresh() {
      const name = `memory_${number++}`;
      const login = { host: '127.0.0.1', port: 7, database: name, user: name, password: 'secret-word' };
      server.databases.set(name, { login, tables: new Map() });
      return { name: 'main', login, system };
    },
    async make(database, tables) {
      for (const table of tables)
        server.enter(database.login).tables.set(tablePath({ schema: '', name: table.name }), {
          shape: shapeOf(table, database.name),
          rows: [],
          next: 1,
        });
    },
    async put(database, table, rows) {
      tableOf(database, table).rows.push(...rows.map((row) => row.map(bytes)));
    },
    async change(database, table, [name, is], column, value) {
      const kept = tableOf(database, table);
      kept.rows = kept.rows.map((row) =>
        row[at(kept.shape, name)] === toBytes(is) ? row.with(at(kept.shape, column), bytes(value)) : row,
      );
    },
    async remove(database, table, [name, is]) {
      const kept = tableOf(database, table);
      kept.rows = kept.rows.filter((row) => row[at(kept.shape, name)] !== toBytes(is));
    },
    async close() {},
  };
}

/** A change of tables, as this kind's language has it. */
type Statement =
  | { readonly table: TableShape }
  | { readonly add: TableShape['columns'][0]; readonly to: string }
  | { readonly drop: string; readonly from: string };

function memorySystem(server: Server): DatabaseSystem {
  const system: DatabaseSystem = {
    name: 'memory',
    can: { transactionalDdl: false, parallelReaders: true, toldSince: false, schemas: false },
    reach: async (login) => void server.enter(login),
    isStrong: async () => false,
    urlOf: ({ user, database }) => `memory:${user}@${database}`,
    view: async ({ name, login }) => new MemoryView(server.enter(login), name),
    ask: async ({ name, login }) => new MemoryQuestions(server.enter(login), name),
    write: async ({ name, login }, purpose, mode) => new MemoryWriter(server, server.enter(login), name, purpose, mode),
    load: async (login) => new MemoryLoader(server.enter(login)),
    async drawKeys({ login }, table, column, many, avoid) {
      const kept = server.enter(login).tables.get(tablePath(table)) as Kept;
      const taken = new Set(kept.rows.map((row) => row[at(kept.shape, column)]));
      const drawn: ByteString[] = [];
      while (drawn.length < many) {
        const key = String(kept.next++);
        if (!taken.has(key) && !avoid.has(key)) drawn.push(key);
      }
      return drawn;
    },
    async makes(_database, tables, called) {
      return new Map(
        tables.map((table): [string, TableMake] => [
          tablePath(table),
          {
            quoted: JSON.stringify(table),
            label: called(table),
            columns: table.columns.map(({ name, type, isRequired }) => ({
              name,
              type,
              isRequired,
              default: null,
              fill: null,
              hasConstantDefault: false,
              counter: null,
              identity: null,
              generated: null,
            })),
            constraints: [],
            indexes: [],
          },
        ]),
      );
    },
    making: {
      isWrittenAlike: (type, other) => type === other,
      addColumn(source, { name }, destination) {
        const own = (JSON.parse(source.quoted) as TableShape).columns.find((one) => one.name === name);
        const to = tablePath(JSON.parse(destination.quoted) as TableShape);
        return { statements: [JSON.stringify({ add: own, to })], revert: [JSON.stringify({ drop: name, from: to })] };
      },
      addTable: ({ quoted }) => ({ statements: [`{"table":${quoted}}`], revert: [] }),
      addIndex: () => ({ statements: [], revert: [] }),
    },
    async changeTables(login, statements) {
      const { tables } = server.enter(login);
      for (const text of statements) {
        let statement: Statement;
        try {
          statement = JSON.parse(text) as Statement;
        } catch {
          throw new EngineError('schema-unsupported', 'The database refuses to change.', 'Correct it.');
        }
        if ('table' in statement) {
          tables.set(tablePath(statement.table), { shape: statement.table, rows: [], next: 1 });
          continue;
        }
        const kept = tables.get('add' in statement ? statement.to : statement.from) as Kept;
        if ('add' in statement) {
          kept.shape = { ...kept.shape, columns: [...kept.shape.columns, statement.add] };
          kept.rows = kept.rows.map((row) => [...row, null]);
        } else {
          const place = at(kept.shape, statement.drop);
          kept.shape = { ...kept.shape, columns: kept.shape.columns.toSpliced(place, 1) };
          kept.rows = kept.rows.map((row) => row.toSpliced(place, 1));
        }
      }
    },
    refreshStatistics: async () => undefined,
    fateOf: async (_login, mark) => server.fates.get(mark) ?? 'gone',
    async endSessions(login, purpose) {
      for (const one of server.writers)
        if (one.database === server.enter(login) && one.purpose === purpose) await one.close();
    },
    administration: () => administrationOf(server),
    likeness: async () => ({ system: 'memory' }),
  };
  return system;
}

const administrationOf = (server: Server): Administration => ({
  mayProvision: async () => true,
  openToAll: async () => [],
  create: async (login) => void server.databases.set(login.database, { login, tables: new Map() }),
  async drop(...gone) {
    for (const { database } of gone) server.databases.delete(database);
  },
  marked: async () => [],
  hasDatabase: async (database) => server.databases.has(database),
  offers: async () => ({ version: 'Memory 1', extensions: new Set<string>() }),
  endSessions: async () => undefined,
});
