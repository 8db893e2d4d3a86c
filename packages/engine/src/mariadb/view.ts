import { type ByteString, type KeyRange, writeLine } from '@tessarion/core';
import type { DatabaseView, SiteDatabase } from '../ports/database.js';
import type { SchemaShape, TableShape } from '../ports/shapes.js';
import { integerKey, readable } from '../ports/shapes.js';
import { databaseError, type Row, Session } from './connect.js';
import { type Described, describe } from './describe.js';
import { dumpSchema } from './dump.js';
import { asRead, familyOf, quoteName } from './sql.js';

/** Sessions that read one view side by side. */
const READERS = 3;
/** How long all of them try to see one moment; one reader alone needs nobody's agreement. */
const AGREE_MS = 1500;
/** MariaDB, *Error Codes*: somebody else has a lock. */
const LOCKED = 1205;
const BATCH_CHARACTERS = 128 * 1024;

/** Opens sessions that all see one moment: nobody waits for it, and no writer waits for us (design, *MariaDB, One view*). */
async function openTogether(database: SiteDatabase): Promise<{ readers: Session[]; described: Described }> {
  const { login, name } = database;
  const sessions: Session[] = [];
  try {
    for (let i = 0; i <= READERS; i++) sessions.push(await Session.open(login, 'read'));
    const [first, ...readers] = sessions as [Session, ...Session[]];
    const before = await describe(first, name);
    const isAgreed = await agree(first, readers, before);
    if (isAgreed) await first.end();
    const kept = isAgreed ? readers : [first];
    if (!isAgreed) {
      for (const one of readers) one.destroy();
      await first.run('START TRANSACTION WITH CONSISTENT SNAPSHOT');
    }
    return { readers: kept, described: before };
  } catch (error) {
    for (const one of sessions) one.destroy();
    throw error;
  }
}

async function agree(first: Session, readers: readonly Session[], { schema }: Described): Promise<boolean> {
  const names = schema.tables.map((table) => `${quoteName(table.name)} READ`).join(', ');
  const begun = (): Promise<unknown> =>
    Promise.all(readers.map((one) => one.run('START TRANSACTION WITH CONSISTENT SNAPSHOT')));
  if (names === '') return begun().then(() => true);
  for (const until = performance.now() + AGREE_MS; performance.now() < until; ) {
    try {
      await first.run(`LOCK TABLES ${names} NOWAIT`);
      try {
        await begun();
      } finally {
        await first.run('UNLOCK TABLES');
      }
      return true;
    } catch (error) {
      if ((error as { errno?: number }).errno !== LOCKED) throw error;
      await new Promise((resolve) => setTimeout(resolve, 5 + Math.random() * 20));
    }
  }
  return false;
}

/** One consistent view of a MariaDB database. */
export class MariaView implements DatabaseView {
  readonly #database: SiteDatabase;
  readonly #described: Described;
  readonly #all: readonly Session[];
  readonly #free: Session[];
  readonly #waiting: ((session: Session) => void)[] = [];

  private constructor(database: SiteDatabase, readers: Session[], described: Described) {
    this.#database = database;
    this.#all = readers;
    this.#free = [...readers];
    this.#described = described;
  }

  /** @throws {EngineError} */
  static async open(database: SiteDatabase): Promise<MariaView> {
    try {
      const { readers, described } = await openTogether(database);
      return new MariaView(database, readers, described);
    } catch (error) {
      throw databaseError(error, database.login);
    }
  }

  get schema(): SchemaShape {
    return this.#described.schema;
  }

  get bytes(): number {
    return this.#described.bytes;
  }

  async *readRows(table: TableShape, ranges?: readonly KeyRange[]): AsyncGenerator<ByteString> {
    const session = await this.#take();
    try {
      const columns = readable(table);
      const binary = columns.map(({ type }) => familyOf(type) === 'binary');
      let lines = '';
      for await (const row of session.stream(selectRows(this.#described, table, ranges))) {
        lines += `${lineOf(row, binary)}\n`;
        if (lines.length < BATCH_CHARACTERS) continue;
        yield lines;
        lines = '';
      }
      if (lines !== '') yield lines;
    } catch (error) {
      throw databaseError(error, this.#database.login);
    } finally {
      this.#giveBack(session);
    }
  }

  async countRows(table: TableShape): Promise<number> {
    return Number(await this.#ask((session) => session.value(`SELECT COUNT(*) FROM ${quoteName(table.name)}`)));
  }

  /** Nobody tells yet what was written since a moment. */
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

  dumpSchema(section: 'before' | 'after'): Promise<Buffer> {
    return this.#ask((session) => dumpSchema(session, this.#described, section));
  }

  async close(): Promise<void> {
    for (const one of this.#all) one.destroy();
  }

  async #ask<T>(question: (session: Session) => Promise<T>): Promise<T> {
    const session = await this.#take();
    try {
      return await question(session);
    } catch (error) {
      throw databaseError(error, this.#database.login);
    } finally {
      this.#giveBack(session);
    }
  }

  async #take(): Promise<Session> {
    return this.#free.pop() ?? new Promise((resolve) => this.#waiting.push(resolve));
  }

  #giveBack(session: Session): void {
    const next = this.#waiting.shift();
    if (next) next(session);
    else this.#free.push(session);
  }
}

/** A row as a line, of the readable columns in their order. */
export const lineOf = (row: Row, binary: readonly boolean[]): ByteString =>
  writeLine(row.map((value, i) => asRead(value, binary[i] as boolean)));

/** The expressions that read a table's columns, in their order. */
export const readsOf = ({ reads }: Described, table: TableShape): string[] =>
  readable(table).map(({ name }) => reads.get(table.name)?.get(name) as string);

function selectRows(described: Described, table: TableShape, ranges: readonly KeyRange[] | undefined): string {
  const integer = integerKey(table);
  const within = ranges?.map(({ from, to }) => {
    const key = quoteName(integer as string);
    return [from === undefined ? [] : [`${key} >= ${from}`], to === undefined ? [] : [`${key} < ${to}`]]
      .flat()
      .join(' AND ');
  });
  const where =
    within === undefined || within.includes('')
      ? ''
      : ` WHERE ${within.map((one) => `(${one})`).join(' OR ') || 'FALSE'}`;
  const order = table.key.map((name, i) =>
    table.keyOrders[i] === 'integer'
      ? quoteName(name)
      : `CAST(${described.reads.get(table.name)?.get(name)} AS BINARY)`,
  );
  return `SELECT ${readsOf(described, table).join(', ')} FROM ${quoteName(table.name)}${where}${order.length > 0 ? ` ORDER BY ${order.join(', ')}` : ''}`;
}
