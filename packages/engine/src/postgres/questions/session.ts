import { type ByteString, type Misfit, tablePath } from '@tessarion/core';
import type { LimitedColumn, Mentioning, Questions, Referring, SiteDatabase } from '../../ports/database.js';
import { misfitsInLength } from '../../ports/misfits-in-length.js';
import type { WrittenRow } from '../../ports/rows.js';
import type { DatabaseLogin, SchemaShape, TableShape } from '../../ports/shapes.js';
import { databaseError } from '../connect.js';
import { describeSchema } from '../describe.js';
import { borrowSession, type Session } from '../sessions.js';
import { type MakingRoom, roomMakers, uniqueRules } from '../unique-rules.js';
import { cell, countMentioning, countReferring, heldRows, holders, sizeOf, valuesByKey } from './counts.js';
import { crowdedRows, misfitsIn, takenValues } from './row-trial.js';
import { rowsWhere } from './rows-where.js';
import { countKeys, countsOf, differentValues, samplesOf } from './samples.js';

/** Questions to a PostgreSQL database, in one session. */
export class PostgresQuestions implements Questions {
  readonly #client: Session;
  readonly #login: DatabaseLogin;
  #makers: ReadonlyMap<string, MakingRoom> | undefined;
  /** Whether functions and operators are found as the site's own sessions find them. */
  #isAsSite = false;

  private constructor(
    client: Session,
    login: DatabaseLogin,
    readonly schema: SchemaShape,
  ) {
    this.#client = client;
    this.#login = login;
  }

  /** @throws {EngineError} as {@link connectTo} */
  static async open({ name, login }: SiteDatabase, purpose: string): Promise<PostgresQuestions> {
    const client = await borrowSession(login, 'read', purpose);
    try {
      return new PostgresQuestions(client, login, await describeSchema(client, name));
    } catch (error) {
      await client.giveBack();
      throw databaseError(error, login);
    }
  }

  /** Asks something, and gives what the server says against it a plain reason. */
  async #ask<T>(question: (client: Session) => Promise<T>): Promise<T> {
    try {
      return await question(this.#client);
    } catch (error) {
      throw databaseError(error, this.#login);
    }
  }

  async #asSite(): Promise<void> {
    if (!this.#isAsSite) await this.#client.query('SET search_path TO DEFAULT');
    this.#isAsSite = true;
  }

  rowsWhere(
    table: TableShape,
    columns: readonly string[],
    wanted: readonly (readonly (ByteString | null)[])[],
  ): Promise<ByteString> {
    return this.#ask((client) => rowsWhere(client, table, columns, wanted));
  }

  countReferring(search: Referring): Promise<ReadonlyMap<ByteString, number>> {
    return this.#ask((client) => countReferring(client, search));
  }

  countMentioning(search: Mentioning): Promise<ReadonlyMap<ByteString, number>> {
    return this.#ask((client) => countMentioning(client, search));
  }

  holders(
    table: TableShape,
    columns: readonly string[],
    values: readonly (readonly (ByteString | null)[])[],
  ): Promise<{ at: number; key: ByteString[] }[]> {
    return this.#ask((client) => holders(client, table, columns, values));
  }

  valuesByKey(
    table: TableShape,
    column: string,
    keys: readonly ByteString[],
  ): Promise<ReadonlyMap<ByteString, ByteString>> {
    return this.#ask((client) => valuesByKey(client, table, column, keys));
  }

  cell(
    table: TableShape,
    row: Readonly<Record<string, string>>,
    column: string,
  ): Promise<ByteString | null | undefined> {
    return this.#ask((client) => cell(client, table, row, column));
  }

  heldRows(table: TableShape, upTo?: string): ReturnType<Questions['heldRows']> {
    return this.#ask((client) => heldRows(client, table, upTo));
  }

  #makingOf(table: TableShape): MakingRoom {
    this.#makers ??= roomMakers(this.schema);
    return this.#makers.get(tablePath(table)) as MakingRoom;
  }

  judgedColumns(table: TableShape): ReadonlySet<string> {
    return new Set([
      ...table.key,
      ...this.#makingOf(table).pinned,
      ...table.columns.filter((column) => column.maxLength !== undefined).map((column) => column.name),
      ...[...table.checks, ...uniqueRules(table)].flatMap((one) => one.columns),
    ]);
  }

  async tryRows(table: TableShape, rows: readonly WrittenRow[]): Promise<Misfit[]> {
    const found = await this.tryValues(table, rows);
    // A value that is too long cannot be compared with others.
    if (misfitsInLength(table, rows).size > 0) return found;
    const taken = await this.#ask((client) =>
      takenValues(client, table, uniqueRules(table), rows, this.#makingOf(table)),
    );
    return [...found, ...taken];
  }

  tryValues(table: TableShape, rows: readonly WrittenRow[]): Promise<Misfit[]> {
    return this.#ask(async (client) => {
      await this.#asSite();
      return misfitsIn(client, table, rows);
    });
  }

  crowdedRows(
    table: TableShape,
    columns: readonly LimitedColumn[],
    words: readonly string[],
    growth: number,
    most: number,
  ): Promise<(string | null)[][]> {
    return this.#ask((client) => crowdedRows(client, table, columns, words, growth, most));
  }

  samples(table: TableShape, most: number, length: number): ReturnType<Questions['samples']> {
    return this.#ask((client) => samplesOf(client, table, most, length));
  }

  differentValues(
    table: TableShape,
    column: string,
    when: { readonly column: string; readonly value: string } | undefined,
    most: number,
  ): Promise<readonly string[] | undefined> {
    return this.#ask((client) => differentValues(client, table, column, when, most));
  }

  countKeys(table: TableShape, values: readonly string[]): Promise<number | undefined> {
    return this.#ask((client) => countKeys(client, table, values));
  }

  counts(): ReturnType<Questions['counts']> {
    return this.#ask(countsOf);
  }

  size(): ReturnType<Questions['size']> {
    return this.#ask(sizeOf);
  }

  async close(): Promise<void> {
    await this.#client.giveBack();
  }
}
