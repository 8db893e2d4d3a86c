import { Readable } from 'node:stream';
import { type ByteString, type NameInDatabase, readLine } from '@tessarion/core';
import type { Loader } from '../ports/database.js';
import { EngineError } from '../ports/errors.js';
import type { DatabaseLogin, SequenceShape } from '../ports/shapes.js';
import { databaseError, Session, withoutValue } from './connect.js';
import { statementsIn } from './dump.js';
import { literal, loadExpression, quoteName, quoteText } from './sql.js';

/** A statement grows to about this size; servers take sixteen megabytes unless they are told otherwise. */
const STATEMENT_CHARACTERS = 256 * 1024;

/** Pieces of rows as they travel; the server takes sixteen megabytes at most. */
const PIECE_BYTES = 512 * 1024;

/** How a column keeps its values. */
interface ColumnKind {
  readonly type: string;
  /** Of a text. */
  readonly charset: string | null;
}

/** Lines as LOAD DATA reads them, which knows two escapes less (MariaDB, *LOAD DATA INFILE*). */
const asLoaded = (lines: ByteString): ByteString =>
  lines.includes('\\f') || lines.includes('\\v')
    ? lines.replace(/\\([\s\S])/g, (all, one: string) => (one === 'f' ? '\f' : one === 'v' ? '\v' : all))
    : lines;

/** Fills a fresh MariaDB database. */
export class MariaLoader implements Loader {
  readonly #session: Session;
  /** Whether the server takes rows as they come (`local_infile`). */
  readonly #mayLoad: boolean;

  private constructor(session: Session, mayLoad: boolean) {
    this.#session = session;
    this.#mayLoad = mayLoad;
  }

  /** @throws {EngineError} */
  static async open(login: DatabaseLogin): Promise<MariaLoader> {
    const session = await Session.open(login, 'load');
    try {
      // All comes from one moment of a database in which all this holds, in no order in which it would at each step.
      await session.run('SET SESSION foreign_key_checks=0, unique_checks=0, idle_write_transaction_timeout=0');
      return new MariaLoader(session, (await session.value('SELECT @@local_infile')) === '1');
    } catch (error) {
      session.destroy();
      throw databaseError(error, login);
    }
  }

  async runSchema(sql: Buffer): Promise<void> {
    const mode = await this.#session.value('SELECT @@sql_mode');
    await this.#guard(async () => {
      for (const statement of statementsIn(sql.toString())) await this.#session.run(statement);
      await this.#session.run(`SET SESSION sql_mode='${mode}'`);
    });
  }

  async loadRows(
    { name }: NameInDatabase,
    columns: readonly string[],
    batches: AsyncIterable<ByteString>,
  ): Promise<number> {
    const kinds = await this.#kindsOf(name, columns);
    return this.#guard(async () => {
      await this.#session.run('START TRANSACTION');
      const rows = this.#mayLoad
        ? await this.#load(name, columns, kinds, batches)
        : await this.#insert(name, columns, kinds, batches);
      await this.#session.run('COMMIT');
      return rows;
    });
  }

  /** Lets the server take rows as they come: it cuts and replaces what does not fit, and only says so. */
  async #load(
    name: string,
    columns: readonly string[],
    kinds: readonly ColumnKind[],
    batches: AsyncIterable<ByteString>,
  ): Promise<number> {
    const made = kinds.map(({ type, charset }, i) => loadExpression(`@v${i}`, type, charset));
    // Where one column goes by way of a variable all do: else a counter's column loses its zeros.
    const list = made.some((one) => one !== undefined)
      ? `(${columns.map((_one, i) => `@v${i}`).join(', ')}) SET ${columns.map((one, i) => `${quoteName(one)} = ${made[i] ?? `@v${i}`}`).join(', ')}`
      : `(${columns.map(quoteName).join(', ')})`;
    let sent = 0;
    async function* pieces(): AsyncGenerator<Buffer> {
      for await (const lines of batches) {
        for (let at = lines.indexOf('\n'); at !== -1; at = lines.indexOf('\n', at + 1)) sent++;
        const content = Buffer.from(asLoaded(lines), 'latin1');
        for (let at = 0; at < content.length; at += PIECE_BYTES) yield content.subarray(at, at + PIECE_BYTES);
      }
    }
    const { rows, warnings } = await this.#session.load(
      `LOAD DATA LOCAL INFILE 'rows' INTO TABLE ${quoteName(name)} CHARACTER SET binary
        FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' ${list}`,
      Readable.from(pieces(), { objectMode: true, highWaterMark: 2 }),
    );
    if (warnings === 0 && rows === sent) return rows;
    const [[, , words] = []] = await this.#session.texts('SHOW WARNINGS LIMIT 1');
    throw new EngineError(
      'value-refused',
      `${sent} rows of ${name} were loaded, and ${rows} arrived${words ? `: ${withoutValue(words)}` : ''}.`,
      'Correct the row, or the profile where an address was rewritten that should stay.',
    );
  }

  /** The same in statements, where a server takes nothing else. */
  async #insert(
    name: string,
    columns: readonly string[],
    kinds: readonly ColumnKind[],
    batches: AsyncIterable<ByteString>,
  ): Promise<number> {
    const head = `INSERT INTO ${quoteName(name)} (${columns.map(quoteName).join(', ')}) VALUES `;
    let rows = 0;
    let values = '';
    const flush = async (): Promise<void> => {
      if (values !== '') rows += await this.#session.run(head + values);
      values = '';
    };
    for await (const lines of batches)
      for (const line of lines.split('\n').slice(0, -1)) {
        const row = readLine(line).map((cell, i) => literal(cell, kinds[i] as ColumnKind));
        values += `${values === '' ? '' : ','}(${row.join(',')})`;
        if (values.length >= STATEMENT_CHARACTERS) await flush();
      }
    await flush();
    return rows;
  }

  async setSequences(sequences: readonly Pick<SequenceShape, 'schema' | 'name' | 'last' | 'called'>[]): Promise<void> {
    await this.#guard(async () => {
      for (const { name, last, called } of sequences)
        await this.#session.run(`ALTER TABLE ${quoteName(name)} AUTO_INCREMENT = ${BigInt(last) + (called ? 1n : 0n)}`);
    });
  }

  close(): Promise<void> {
    return this.#session.end();
  }

  async #kindsOf(table: string, columns: readonly string[]): Promise<ColumnKind[]> {
    const known = await this.#session.texts(
      `SELECT COLUMN_NAME, COLUMN_TYPE, CHARACTER_SET_NAME FROM information_schema.COLUMNS
        WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ${quoteText(table)}`,
    );
    const byName = new Map(
      known.map(([name, type, charset]) => [name, { type: type as string, charset: charset ?? null }]),
    );
    return columns.map((name) => byName.get(name) ?? { type: 'text', charset: null });
  }

  async #guard<T>(act: () => Promise<T>): Promise<T> {
    try {
      return await act();
    } catch (error) {
      await this.#session.run('ROLLBACK').catch(() => undefined);
      throw databaseError(error, this.#session.login);
    }
  }
}
