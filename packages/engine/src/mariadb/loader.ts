import { type ByteString, type NameInDatabase, readLine } from '@tessarion/core';
import type { Loader } from '../ports/database.js';
import type { DatabaseLogin, SequenceShape } from '../ports/shapes.js';
import { databaseError, Session } from './connect.js';
import { statementsIn } from './dump.js';
import { literal, quoteName } from './sql.js';

/** A statement grows to about this size; servers take sixteen megabytes unless they are told otherwise. */
const STATEMENT_CHARACTERS = 256 * 1024;

/** Fills a fresh MariaDB database. */
export class MariaLoader implements Loader {
  readonly #session: Session;

  private constructor(session: Session) {
    this.#session = session;
  }

  /** @throws {EngineError} */
  static async open(login: DatabaseLogin): Promise<MariaLoader> {
    const session = await Session.open(login, 'write');
    try {
      // All comes from one moment of a database in which all this holds, in no order in which it would at each step.
      await session.run('SET SESSION foreign_key_checks=0, unique_checks=0, idle_write_transaction_timeout=0');
      return new MariaLoader(session);
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
    const types = await this.#typesOf(name, columns);
    const head = `INSERT INTO ${quoteName(name)} (${columns.map(quoteName).join(', ')}) VALUES `;
    let rows = 0;
    let values = '';
    const flush = async (): Promise<void> => {
      if (values !== '') rows += await this.#session.run(head + values);
      values = '';
    };
    return this.#guard(async () => {
      await this.#session.run('START TRANSACTION');
      for await (const lines of batches) {
        for (const line of lines.split('\n').slice(0, -1)) {
          const row = readLine(line).map((cell, i) => literal(cell, types[i] as { type: string }));
          values += `${values === '' ? '' : ','}(${row.join(',')})`;
          if (values.length >= STATEMENT_CHARACTERS) await flush();
        }
      }
      await flush();
      await this.#session.run('COMMIT');
      return rows;
    });
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

  async #typesOf(table: string, columns: readonly string[]): Promise<{ type: string }[]> {
    const known = new Map(
      (await this.#session.texts(`SHOW COLUMNS FROM ${quoteName(table)}`)).map(([name, type]) => [
        name,
        type as string,
      ]),
    );
    return columns.map((name) => ({ type: known.get(name) ?? 'text' }));
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
