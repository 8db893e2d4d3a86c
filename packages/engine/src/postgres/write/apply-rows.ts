import { isCalledAlike, tablePath } from '@tessarion/core';
import type { RowWriter, SiteDatabase, Written } from '../../ports/database.js';
import { EngineError } from '../../ports/errors.js';
import { insertOrder } from '../../ports/insert-order.js';
import type { Mode, Protection, ReadBack, Remain } from '../../ports/rows.js';
import type { DatabaseLogin, SchemaShape, TableShape } from '../../ports/shapes.js';
import { databaseError, withoutValues } from '../connect.js';
import { describeSchema, quoteLiteral, quoteName, quoteTable } from '../describe.js';
import { borrowSession } from '../sessions.js';
import {
  comesBack,
  inTheWay,
  type MakingRoom,
  markGoing,
  markMoving,
  roomMakers,
  setApart,
  type UniqueRule,
  type Waiting,
} from '../unique-rules.js';
import { checkRows, lockRows, spareReferred } from './check-rows.js';
import { compareCounters, compareWithMeant, countMeant, readCounters } from './count-written.js';
import { keepFormer, readBack, type WrittenTable } from './read-back.js';
import { keyMatch, outputText, StagedChanges, type StagedTable } from './staged-changes.js';

/**
 * Sees that the number of a transaction that has begun is never given to another one. A server that dies forgets which
 * numbers it gave as long as nothing of them is on the disk, and gives them again: whether our transaction was committed could
 * not be told by its number then (PostgreSQL, *Reliability and the Write-Ahead Log*). One that begins later, writes and is
 * committed puts its own, higher number there.
 */
async function keepNumber(login: DatabaseLogin): Promise<void> {
  const session = await borrowSession(login, 'write', 'keep number');
  try {
    await session.query(
      "BEGIN; SET LOCAL synchronous_commit TO on; SELECT pg_catalog.pg_logical_emit_message(true, 'tessarion', ''); COMMIT",
    );
  } catch (error) {
    throw databaseError(error, login);
  } finally {
    await session.giveBack();
  }
}

/**
 * Triggers find their tables as they do when the site writes; everything of ours is named in full. The rows were read a moment
 * ago, so that looking each up costs less than reading their table, however large that is: while visitors wait, the cost must
 * grow with the change (PostgreSQL, *Planner Cost Constants*, for what is in memory).
 */
const BEGIN = `BEGIN; SET LOCAL search_path TO DEFAULT; SET LOCAL synchronous_commit TO on; SET LOCAL jit TO off;
  SET LOCAL seq_page_cost TO 0.1; SET LOCAL random_page_cost TO 0.1; SET CONSTRAINTS ALL DEFERRED`;

/** Writes rows to a PostgreSQL database. */
export class PostgresWriter implements RowWriter {
  readonly #staged: StagedChanges;
  readonly #mode: Mode;

  private constructor(staged: StagedChanges, mode: Mode) {
    this.#staged = staged;
    this.#mode = mode;
  }

  /** @param purpose names the transfer and epoch in the session, so that a successor can end it */
  static async open({ name, login }: SiteDatabase, purpose: string, mode: Mode): Promise<PostgresWriter> {
    const client = await borrowSession(login, 'write', purpose);
    try {
      return new PostgresWriter(new StagedChanges(client, login, await describeSchema(client, name)), mode);
    } catch (error) {
      await client.giveBack();
      throw databaseError(error, login);
    }
  }

  get schema(): SchemaShape {
    return this.#staged.schema;
  }

  /** Takes changes to be written; see {@link StagedChanges.stage}. */
  stage(...what: Parameters<StagedChanges['stage']>): Promise<void> {
    return this.#staged.stage(...what);
  }

  async write(unsure: ReadonlySet<string>, protects: (table: TableShape) => readonly Protection[]): Promise<Written> {
    const ordered = insertOrder(this.#staged.tables.map((table) => table.shape));
    const stagedOf = (group: (typeof ordered)[number]) =>
      group.map((shape) => this.#staged.get(tablePath(shape)) as StagedTable);
    const tables = ordered.flatMap(stagedOf);
    const { client } = this.#staged;
    const remains: Remain[] = [];
    try {
      await client.query(BEGIN);
      const id = await client.query<{ id: string }>('SELECT pg_catalog.pg_current_xact_id()::text AS id');
      const isKept = keepNumber(this.#staged.login);
      // It is waited for at the end; whatever fails before says more.
      isKept.catch(() => undefined);
      const before = await readCounters(client);
      const asCompared = new Set<StagedTable>();
      for (const table of tables) if (await lockRows(client, table, this.#mode)) asCompared.add(table);
      for (const table of tables)
        remains.push(
          ...(asCompared.has(table) ? [] : await checkRows(client, table, this.#mode)),
          ...(await spareReferred(this.#staged, table, this.#mode, protects(table.shape))),
        );
      const toRead = tables.filter(
        ({ shape }) => shape.key.length > 0 && (shape.rowTriggers.length > 0 || unsure.has(tablePath(shape))),
      );
      for (const table of toRead) await keepFormer(client, written(table));
      const meant = await countMeant(client, tables, this.#mode);
      const applied = { inserted: 0, updated: 0, deleted: 0 };
      let passing = 0;
      for (const table of tables) passing += await this.#setApart(table);
      for (const group of ordered) {
        for (const table of stagedOf(group)) {
          const gone = await this.#makeRoom(table);
          applied.updated += gone.updated;
          applied.deleted += gone.deleted;
        }
        applied.inserted += await this.#insert(stagedOf(group));
      }
      for (const table of tables) applied.updated += await this.#update(table);
      for (const group of ordered.toReversed()) applied.deleted += await this.#delete(stagedOf(group));
      // What may be checked late is checked before the commit, as long as all can be put back.
      await client.query('SET CONSTRAINTS ALL IMMEDIATE');
      remains.push(...compareWithMeant(tables, this.#mode, applied, meant));
      await this.#advanceCounters(tables);
      await compareCounters(this.#staged, before, applied, passing);
      const read: ReadBack[] = [];
      for (const table of toRead) read.push(await readBack(client, written(table)));
      await isKept;
      return { mark: id.rows[0]?.id as string, applied: { ...applied, remains }, read };
    } catch (error) {
      await client.query('ROLLBACK').catch(() => undefined);
      const { code, table, constraint } = error as { code?: string; table?: string; constraint?: string };
      const outdated = (what: string): EngineError =>
        new EngineError('outdated', `${what} (${constraint} of ${table}).`, 'Make a new forecast.', {
          cause: withoutValues(error),
        });
      if (code === '23505' || code === '23P01')
        throw outdated('Another row of the destination has what no two rows may share');
      if (code === '23503') throw outdated('A reference of the destination would lead nowhere');
      throw databaseError(error, this.#staged.login);
    }
  }

  async commit(): Promise<void> {
    try {
      await this.#staged.client.query('COMMIT');
    } catch (error) {
      throw databaseError(error, this.#staged.login);
    }
  }

  async close(): Promise<void> {
    await this.#staged.client.giveBack();
  }

  /** Frees what no two rows may share and goes from one row to another. @returns rows that were given a passing value */
  async #setApart(table: StagedTable): Promise<number> {
    let passing = 0;
    for (const rule of this.#moving(table)) {
      if (!rule.apart) continue;
      if (table.touched.size > 0) {
        await this.#staged.client.query(comesBack(rule, rule.apart.column, waiting(table)));
        table.touched.add(rule.apart.column);
      }
      passing += (await this.#staged.client.query(setApart(rule, rule.apart, waiting(table)))).rowCount ?? 0;
    }
    return passing;
  }

  /** Rules that the server checks row by row and under which rows of a table may be in each other's way. */
  #moving(table: StagedTable): UniqueRule[] {
    return table.uniques.filter(
      ({ columns, isImmediate }) =>
        isImmediate &&
        (columns.some((name) => table.touched.has(name)) || (table.counts.insert > 0 && table.counts.delete > 0)) &&
        columns.every((name) => table.columns.includes(name)),
    );
  }

  /**
   * Where rows can hold nothing else for a moment, those that are in the way of others are written before them: deleted
   * where nothing refers to them any more, changed one after the other as long as none waits for itself.
   */
  async #makeRoom(table: StagedTable): Promise<{ updated: number; deleted: number }> {
    const done = { updated: 0, deleted: 0 };
    const { client } = this.#staged;
    const rules = this.#moving(table).filter((rule) => rule.apart === undefined);
    if (rules.length === 0) return done;
    const found = rules.map((rule) => `EXISTS (${inTheWay(rule, waiting(table))})`).join(' OR ');
    const isAny = await client.query<{ found: boolean }>(`SELECT ${found} AS found`);
    if (isAny.rows[0]?.found !== true) return done;
    const making = roomMakers(this.#staged.schema).get(tablePath(table.shape)) as MakingRoom;
    const marked = async (sql: string): Promise<boolean> => ((await client.query(sql)).rowCount ?? 0) > 0;
    const finish = `UPDATE ${table.temporary} SET done = true, is_first = false WHERE is_first`;
    for (const rule of rules) await client.query(markGoing(rule, making, waiting(table)));
    done.deleted += await this.#delete([table], 's.is_first');
    await client.query(finish);
    while (await marked(markMoving(rules, making.pinned, waiting(table)))) {
      done.updated += await this.#update(table, 's.is_first');
      await client.query(finish);
    }
    return done;
  }

  /** Inserts parents first; tables that refer to one another in a circle go in one statement. */
  async #insert(group: readonly StagedTable[]): Promise<number> {
    const inserting = group.filter((table) => table.counts.insert > 0);
    if (inserting.length === 0) return 0;
    const statements = inserting.map((table, i) => {
      const said = [...table.columns.entries()].filter(([, name]) => table.spoken.has(name));
      const columns = said.map(([, name]) => quoteName(name)).join(', ');
      const values = said.map(([column]) => `n${column}`).join(', ');
      return `i${i} AS (INSERT INTO ${quoteTable(table.shape)} (${columns}) OVERRIDING SYSTEM VALUE SELECT ${values} FROM ${table.temporary} WHERE op = 'insert' RETURNING 1)`;
    });
    const counts = inserting.map((_table, i) => `(SELECT count(*) FROM i${i})`).join(' + ');
    const result = await this.#staged.client.query<{ count: string }>(
      `WITH ${statements.join(', ')} SELECT (${counts})::text AS count`,
    );
    return Number(result.rows[0]?.count);
  }

  /** @param which of the rows in question */
  async #update(table: StagedTable, which = 'NOT s.done'): Promise<number> {
    if (table.counts.update === 0) return 0;
    const assignments = [...table.touched].map(
      (name) =>
        `${quoteName(name)} = CASE WHEN ${quoteLiteral(name)} = ANY(s.changed) THEN s.n${table.columns.indexOf(name)} ELSE t.${quoteName(name)} END`,
    );
    const result = await this.#staged.client.query(
      `UPDATE ${quoteTable(table.shape)} t SET ${assignments.join(', ')} FROM ${table.temporary} s WHERE s.op = 'update' AND ${which} AND ${keyMatch(table)}`,
    );
    return result.rowCount ?? 0;
  }

  /** Deletes those that refer to others first; tables in a circle go in one statement. */
  async #delete(group: readonly StagedTable[], which = 'NOT s.done'): Promise<number> {
    const deleting = group.filter((table) => table.counts.delete > 0);
    const keyed = deleting.filter((table) => table.shape.key.length > 0);
    let deleted = 0;
    for (const table of deleting) if (table.shape.key.length === 0) deleted += await this.#deleteKeyless(table);
    if (keyed.length === 0) return deleted;
    const statements = keyed.map(
      (table, i) =>
        `d${i} AS (DELETE FROM ${quoteTable(table.shape)} t USING ${table.temporary} s WHERE s.op = 'delete' AND ${which} AND ${keyMatch(table)} RETURNING 1)`,
    );
    const counts = keyed.map((_table, i) => `(SELECT count(*) FROM d${i})`).join(' + ');
    const result = await this.#staged.client.query<{ count: string }>(
      `WITH ${statements.join(', ')} SELECT (${counts})::text AS count`,
    );
    return deleted + Number(result.rows[0]?.count);
  }

  /** Of rows that are all alike, only as many go as the source has fewer. */
  async #deleteKeyless(table: StagedTable): Promise<number> {
    const columns = table.columns.map((_name, i) => `o${i}`).join(', ');
    const result = await this.#staged.client.query(
      `DELETE FROM ${quoteTable(table.shape)} WHERE ctid IN (SELECT t.ctid FROM (SELECT t.*, t.ctid, row_number() OVER (PARTITION BY ${table.columns.map((name) => outputText('t', name)).join(', ')}) AS tsr_number FROM ${quoteTable(table.shape)} t) t
       JOIN (SELECT ${columns}, count(*) AS tsr_many FROM ${table.temporary} WHERE op = 'delete' GROUP BY ${columns}) s ON ${keyMatch(table)} AND t.tsr_number <= s.tsr_many)`,
    );
    return result.rowCount ?? 0;
  }

  /** Counters are advanced by drawing from them, never set, so that a visitor's draw is never repeated. */
  async #advanceCounters(tables: readonly StagedTable[]): Promise<void> {
    for (const table of tables) {
      if (table.counts.insert === 0) continue;
      for (const sequence of this.#staged.schema.sequences.filter(
        (one) => one.ownedBy !== undefined && isCalledAlike(one.ownedBy.table, table.shape),
      )) {
        const column = quoteName(sequence.ownedBy?.column as string);
        await this.#staged.client.query(
          `SELECT count(nextval($1::regclass)) FROM generate_series(1, greatest(0, coalesce((SELECT max(${column})::bigint FROM ${quoteTable(table.shape)}), 0) - (SELECT CASE WHEN is_called THEN last_value ELSE last_value - 1 END FROM ${quoteTable(sequence)})))`,
          [quoteTable(sequence)],
        );
      }
    }
  }
}

const waiting = (table: StagedTable): Waiting => ({ ...table, match: keyMatch(table) });

const written = (table: StagedTable): WrittenTable => ({
  shape: table.shape,
  columns: table.columns,
  temporary: table.temporary,
  keyMatch: keyMatch(table),
  text: outputText,
});
