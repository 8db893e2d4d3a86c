import { finished } from 'node:stream/promises';
import {
  type ByteString,
  counted,
  materialiseLines,
  type Profile,
  type Rewriter,
  type RowChange,
  toBytes,
  writeLine,
} from '@tessarion/core';
import type pg from 'pg';
import { from as copyFrom } from 'pg-copy-streams';
import { connectTo, databaseError } from '../database/connect.js';
import { describeSchema, quoteName, quoteTable } from '../database/describe.js';
import { readable } from '../database/postgres-view.js';
import { type DatabaseLogin, fullName, type SchemaShape, type TableShape } from '../database/site-database.js';
import { EngineError } from '../errors.js';
import { insertOrder } from './insert-order.js';
import { protectingReferences } from './protecting-references.js';
import { keepFormer, type ReadBack, readBack, type WrittenTable } from './read-back.js';
import { setApart, type UniqueIndex, uniqueIndexes } from './unique-values.js';

interface Counts {
  inserted: number;
  updated: number;
  deleted: number;
}

const DONE = { insert: 'inserted', update: 'updated', delete: 'deleted' } as const;

/** Something that a lenient application left as it was, because somebody else changed it meanwhile. */
export interface Remain {
  readonly table: string;
  readonly key: string;
  readonly what: string;
}

export interface AppliedRows extends Readonly<Counts> {
  readonly remains: readonly Remain[];
}

/** `strict` refuses when anything is not as it was compared; `lenient` (undo) leaves such things and names them. */
export type Mode = 'strict' | 'lenient';

interface StagedTable {
  readonly shape: TableShape;
  readonly temporary: string;
  /** Positions of all readable columns. */
  readonly columns: readonly string[];
  /** Columns that are written by at least one update. */
  readonly touched: Set<string>;
  /** Columns of which inserted and deleted rows say what they hold; others have what the database gives them. */
  readonly spoken: Set<string>;
  readonly authored: ReadonlySet<string>;
  readonly uniques: readonly UniqueIndex[];
  counts: { insert: number; update: number; delete: number };
}

/**
 * Applies row changes to one database in one transaction. Staging happens before the transaction begins, so that
 * rows are locked only while they are written.
 */
export class RowApplication {
  readonly #client: pg.Client;
  readonly #login: DatabaseLogin;
  readonly #schema: SchemaShape;
  readonly #tables = new Map<string, StagedTable>();
  readonly #mode: Mode;
  readonly #profile: Profile | undefined;
  #counters: Map<string, string> = new Map();

  private constructor(
    client: pg.Client,
    login: DatabaseLogin,
    schema: SchemaShape,
    mode: Mode,
    profile: Profile | undefined,
  ) {
    this.#profile = profile;
    this.#client = client;
    this.#login = login;
    this.#schema = schema;
    this.#mode = mode;
  }

  /** @param purpose names the transfer and epoch in the session, so that a successor can end it */
  static async open(
    login: DatabaseLogin,
    purpose: string,
    mode: Mode,
    profile: Profile | undefined,
  ): Promise<RowApplication> {
    const client = await connectTo(login, 'write', purpose);
    try {
      return new RowApplication(client, login, await describeSchema(client), mode, profile);
    } catch (error) {
      await client.end().catch(() => undefined);
      throw databaseError(error, login);
    }
  }

  /**
   * Puts changes into temporary tables, written with the destination's own addresses.
   *
   * @param authored the columns of each table (`schema.table`) whose values must be as they were compared
   */
  async stage(
    changes: AsyncIterable<RowChange>,
    rewriter: Rewriter,
    authored: (table: string, columns: readonly string[]) => ReadonlySet<string>,
  ): Promise<void> {
    let batch: { table: StagedTable; lines: ByteString[] } | undefined;
    const flush = async (): Promise<void> => {
      if (batch && batch.lines.length > 0)
        await this.#copyIn(batch.table, materialiseLines(batch.lines.join(''), rewriter));
      batch = undefined;
    };
    for await (const change of changes) {
      const table = await this.#staged(change.table, authored);
      if (batch && (batch.table !== table || batch.lines.length >= 2000)) await flush();
      batch ??= { table, lines: [] };
      batch.lines.push(`${stagedLine(table, change)}\n`);
      table.counts[change.op]++;
      if (change.op === 'update') for (const column of Object.keys(change.cells)) table.touched.add(column);
      else for (const column of Object.keys(change.row)) table.spoken.add(column);
    }
    await flush();
    for (const table of this.#tables.values()) await this.#client.query(`ANALYZE ${table.temporary}`);
  }

  async #staged(
    name: string,
    authored: (table: string, columns: readonly string[]) => ReadonlySet<string>,
  ): Promise<StagedTable> {
    const known = this.#tables.get(name);
    if (known) return known;
    const shape = this.#schema.tables.find((table) => fullName(table) === name);
    if (!shape)
      throw new EngineError('outdated', `The destination has no table ${name} any more.`, 'Make a new forecast.');
    const columns = readable(shape).map((column) => column.name);
    const temporary = `pg_temp.tsr_${this.#tables.size}`;
    const types = readable(shape).map((column, i) => `n${i} ${column.type}, o${i} text`);
    await this.#client.query(
      `CREATE TEMP TABLE tsr_${this.#tables.size} (op text, changed text[], ${types.join(', ')})`,
    );
    const staged: StagedTable = {
      shape,
      temporary,
      columns,
      touched: new Set(),
      spoken: new Set(),
      authored: authored(name, columns),
      uniques: shape.key.length > 0 ? await uniqueIndexes(this.#client, shape) : [],
      counts: { insert: 0, update: 0, delete: 0 },
    };
    this.#tables.set(name, staged);
    return staged;
  }

  async #copyIn(table: StagedTable, lines: ByteString): Promise<void> {
    const columns = table.columns.flatMap((_name, i) => [`n${i}`, `o${i}`]);
    const stream = this.#client.query(
      copyFrom(`COPY ${table.temporary} (op, changed, ${columns.join(', ')}) FROM STDIN`),
    );
    stream.end(Buffer.from(lines, 'latin1'));
    await finished(stream).catch((error: unknown) => {
      throw databaseError(error, this.#login);
    });
  }

  /**
   * Writes everything and stops before the commit; the transaction is open when this returns.
   *
   * @param unsure tables (`schema.table`) whose values may turn out in another spelling than they are written in
   * @returns the transaction's id, to be recorded before {@link commit}, and what became of rows in tables with
   *   triggers and in unsure ones
   * @throws {EngineError} `outdated` when anything is not as it was compared (strict)
   */
  async write(
    unsure: ReadonlySet<string> = new Set(),
  ): Promise<{ transaction: string; applied: AppliedRows; read: readonly ReadBack[] }> {
    const ordered = insertOrder([...this.#tables.values()].map((table) => table.shape));
    const tables = ordered.flat().map((shape) => this.#tables.get(fullName(shape)) as StagedTable);
    const remains: Remain[] = [];
    try {
      // Triggers find their tables as they do when the site writes; everything of ours is named in full.
      await this.#client.query('BEGIN; SET LOCAL search_path TO DEFAULT');
      this.#counters = await this.#readCounters();
      for (const table of tables) await this.#lockRows(table);
      for (const table of tables)
        remains.push(...(await this.#checkRows(table)), ...(await this.#spareReferred(table)));
      const toRead = tables.filter(
        ({ shape }) => shape.key.length > 0 && (shape.rowTriggers.length > 0 || unsure.has(fullName(shape))),
      );
      for (const table of toRead) await keepFormer(this.#client, this.#written(table));
      const meant = await this.#meant(tables);
      const applied = { inserted: 0, updated: 0, deleted: 0 };
      let passing = 0;
      for (const table of tables) passing += await this.#setApart(table);
      for (const group of ordered)
        applied.inserted += await this.#insert(group.map((shape) => this.#tables.get(fullName(shape)) as StagedTable));
      for (const table of tables) applied.updated += await this.#update(table);
      for (const group of ordered.toReversed())
        applied.deleted += await this.#delete(group.map((shape) => this.#tables.get(fullName(shape)) as StagedTable));
      remains.push(...this.#compareWithMeant(applied, meant));
      await this.#advanceCounters(tables);
      await this.#compareCounters(applied, passing);
      const read: ReadBack[] = [];
      for (const table of toRead) read.push(await readBack(this.#client, this.#written(table)));
      const id = await this.#client.query<{ id: string }>('SELECT pg_current_xact_id()::text AS id');
      return { transaction: id.rows[0]?.id as string, applied: { ...applied, remains }, read };
    } catch (error) {
      await this.#client.query('ROLLBACK').catch(() => undefined);
      const code = (error as { code?: string }).code;
      if (code === '23505')
        throw new EngineError(
          'outdated',
          `The destination took a value that must be unique: ${(error as { detail?: string }).detail ?? ''}`,
          'Make a new forecast.',
          { cause: error },
        );
      if (code === '23503')
        throw new EngineError(
          'outdated',
          `The destination still refers to something that would go: ${(error as { detail?: string }).detail ?? ''}`,
          'Make a new forecast.',
          { cause: error },
        );
      throw databaseError(error, this.#login);
    }
  }

  async commit(): Promise<void> {
    try {
      await this.#client.query('COMMIT');
    } catch (error) {
      throw databaseError(error, this.#login);
    }
  }

  async close(): Promise<void> {
    await this.#client.end().catch(() => undefined);
  }

  #written(table: StagedTable): WrittenTable {
    const { shape, columns, temporary } = table;
    return { shape, columns, temporary, keyMatch: this.#keyMatch(table), text: outputText };
  }

  #keyMatch(table: StagedTable): string {
    if (table.shape.key.length > 0) {
      return table.shape.key.map((name) => `t.${quoteName(name)} = s.n${table.columns.indexOf(name)}`).join(' AND ');
    }
    return table.columns.map((name, i) => `${outputText('t', name)} IS NOT DISTINCT FROM s.o${i}`).join(' AND ');
  }

  async #lockRows(table: StagedTable): Promise<void> {
    if (table.counts.update + table.counts.delete === 0) return;
    const order =
      table.shape.key.length > 0 ? table.shape.key.map((name) => `t.${quoteName(name)}`).join(', ') : 't.ctid';
    await this.#client.query(
      `SELECT count(*) FROM (SELECT 1 FROM ${quoteTable(table.shape)} t JOIN ${table.temporary} s ON s.op <> 'insert' AND ${this.#keyMatch(table)} ORDER BY ${order} FOR UPDATE OF t) locked`,
    );
  }

  /** Finds what is not as it was compared. Strict: an error naming it. Lenient: set aside and named. */
  async #checkRows(table: StagedTable): Promise<Remain[]> {
    if (table.shape.key.length === 0) return [];
    const key = table.shape.key.map((name) => `s.n${table.columns.indexOf(name)}::text`).join(` || ' ' || `);
    const changed = table.columns
      .map((name, i) => ({ name, i }))
      .filter(({ name }) => table.touched.has(name) || (table.counts.delete > 0 && isMeant(table, name)));
    const cells = changed.map(
      ({ name, i }) =>
        `CASE WHEN (s.op = 'delete' AND ${isMeant(table, name)} OR ${quoteLiteral(name)} = ANY(s.changed)) AND ${outputText('t', name)} IS DISTINCT FROM s.o${i} THEN ${quoteLiteral(name)} END`,
    );
    const first = quoteName(table.shape.key[0] as string);
    const result = await this.#client.query<{ op: string; key: string; gone: boolean; cells: string[] }>(
      `SELECT s.op, ${key} AS key, t.${first} IS NULL AS gone, array_remove(ARRAY[${cells.join(', ') || 'NULL'}]::text[], NULL) AS cells
       FROM ${table.temporary} s LEFT JOIN ${quoteTable(table.shape)} t ON ${this.#keyMatch(table)}
       WHERE CASE WHEN s.op = 'insert' THEN t.${first} IS NOT NULL
         ELSE t.${first} IS NULL OR cardinality(array_remove(ARRAY[${cells.join(', ') || 'NULL'}]::text[], NULL)) > 0 END LIMIT 1000`,
    );
    const remains = result.rows.map(
      (row): Remain => ({ table: fullName(table.shape), key: row.key, what: remainText(row) }),
    );
    const [one] = remains;
    if (one && this.#mode === 'strict') {
      throw new EngineError(
        'outdated',
        `${one.table} ${one.key}: ${one.what}${remains.length > 1 ? ` (and ${remains.length - 1} more)` : ''}.`,
        'Make a new forecast: the destination has changed since this one.',
      );
    }
    if (one) await this.#setAside(table, cells);
    return remains;
  }

  /** What collected rows refer to is never deleted: an order line keeps the product that it sold. */
  async #spareReferred(table: StagedTable): Promise<Remain[]> {
    if (table.counts.delete === 0) return [];
    const remains: Remain[] = [];
    for (const reference of protectingReferences(this.#profile, this.#schema, table.shape)) {
      const key = `n${table.columns.indexOf(table.shape.key[0] as string)}`;
      const quoted = reference.table.split('.').map(quoteName).join('.');
      const spared = await this.#client.query<{ key: string }>(
        `DELETE FROM ${table.temporary} s WHERE s.op = 'delete' AND EXISTS (SELECT 1 FROM ${quoted} t WHERE t.${quoteName(reference.column)} = s.${key}${this.#unlessLetGo(reference)}) RETURNING s.${key}::text AS key`,
      );
      for (const row of spared.rows)
        remains.push({
          table: fullName(table.shape),
          key: row.key,
          what: `stays, since ${reference.table} refers to it`,
        });
    }
    const [one] = remains;
    if (one && this.#mode === 'strict')
      throw new EngineError('outdated', `${one.table} ${one.key} ${one.what} meanwhile.`, 'Make a new forecast.');
    return remains;
  }

  /** SQL that passes over rows `t` which this very change deletes, or lets refer to something else. */
  #unlessLetGo({ table: name, column }: { readonly table: string; readonly column: string }): string {
    const staged = this.#tables.get(name);
    if (!staged || staged.shape.key.length === 0) return '';
    const match = this.#keyMatch(staged).replaceAll(/\bs\./g, 'o.');
    return ` AND NOT EXISTS (SELECT 1 FROM ${staged.temporary} o WHERE ${match} AND (o.op = 'delete' OR ${quoteLiteral(column)} = ANY(o.changed)))`;
  }

  async #setAside(table: StagedTable, cells: readonly string[]): Promise<void> {
    const first = quoteName(table.shape.key[0] as string);
    const mismatched = `array_remove(ARRAY[${cells.join(', ') || 'NULL'}]::text[], NULL)`;
    const join = `FROM ${quoteTable(table.shape)} t WHERE ${this.#keyMatch(table)}`;
    await this.#client.query(
      `DELETE FROM ${table.temporary} s WHERE s.op <> 'insert' AND NOT EXISTS (SELECT 1 ${join})`,
    );
    await this.#client.query(
      `DELETE FROM ${table.temporary} s USING ${quoteTable(table.shape)} t WHERE ${this.#keyMatch(table)} AND (s.op = 'insert' AND t.${first} IS NOT NULL OR s.op = 'delete' AND cardinality(${mismatched}) > 0)`,
    );
    await this.#client.query(
      `UPDATE ${table.temporary} s SET changed = ARRAY(SELECT c FROM unnest(s.changed) c WHERE c <> ALL(${mismatched})) ${join} AND s.op = 'update'`,
    );
    await this.#client.query(`DELETE FROM ${table.temporary} s WHERE s.op = 'update' AND cardinality(s.changed) = 0`);
  }

  /** Frees unique values that go from one row to another. @returns rows that were given a passing value */
  async #setApart(table: StagedTable): Promise<number> {
    let passing = 0;
    for (const { columns, apart } of table.uniques) {
      const mayMove =
        columns.some((name) => table.touched.has(name)) || (table.counts.insert > 0 && table.counts.delete > 0);
      if (!apart || !mayMove || !columns.every((name) => table.columns.includes(name))) continue;
      const sql = setApart(table.shape, { columns, apart }, table.temporary, table.columns, this.#keyMatch(table));
      passing += (await this.#client.query(sql)).rowCount ?? 0;
    }
    return passing;
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
    const result = await this.#client.query<{ count: string }>(
      `WITH ${statements.join(', ')} SELECT (${counts})::text AS count`,
    );
    return Number(result.rows[0]?.count);
  }

  async #update(table: StagedTable): Promise<number> {
    if (table.counts.update === 0) return 0;
    const assignments = [...table.touched].map(
      (name) =>
        `${quoteName(name)} = CASE WHEN ${quoteLiteral(name)} = ANY(s.changed) THEN s.n${table.columns.indexOf(name)} ELSE t.${quoteName(name)} END`,
    );
    const result = await this.#client.query(
      `UPDATE ${quoteTable(table.shape)} t SET ${assignments.join(', ')} FROM ${table.temporary} s WHERE s.op = 'update' AND ${this.#keyMatch(table)}`,
    );
    return result.rowCount ?? 0;
  }

  /** Deletes those that refer to others first; tables in a circle go in one statement. */
  async #delete(group: readonly StagedTable[]): Promise<number> {
    const deleting = group.filter((table) => table.counts.delete > 0);
    const keyed = deleting.filter((table) => table.shape.key.length > 0);
    let deleted = 0;
    for (const table of deleting) if (table.shape.key.length === 0) deleted += await this.#deleteKeyless(table);
    if (keyed.length === 0) return deleted;
    const statements = keyed.map(
      (table, i) =>
        `d${i} AS (DELETE FROM ${quoteTable(table.shape)} t USING ${table.temporary} s WHERE s.op = 'delete' AND ${this.#keyMatch(table)} RETURNING 1)`,
    );
    const counts = keyed.map((_table, i) => `(SELECT count(*) FROM d${i})`).join(' + ');
    const result = await this.#client.query<{ count: string }>(
      `WITH ${statements.join(', ')} SELECT (${counts})::text AS count`,
    );
    return deleted + Number(result.rows[0]?.count);
  }

  /** Of rows that are all alike, only as many go as the source has fewer. */
  async #deleteKeyless(table: StagedTable): Promise<number> {
    const columns = table.columns.map((_name, i) => `o${i}`).join(', ');
    const result = await this.#client.query(
      `DELETE FROM ${quoteTable(table.shape)} WHERE ctid IN (SELECT t.ctid FROM (SELECT t.*, t.ctid, row_number() OVER (PARTITION BY ${table.columns.map((name) => outputText('t', name)).join(', ')}) AS tsr_number FROM ${quoteTable(table.shape)} t) t
       JOIN (SELECT ${columns}, count(*) AS tsr_many FROM ${table.temporary} WHERE op = 'delete' GROUP BY ${columns}) s ON ${this.#keyMatch(table)} AND t.tsr_number <= s.tsr_many)`,
    );
    return result.rowCount ?? 0;
  }

  /** How many rows are to be written, now that it is known what is left out. */
  async #meant(tables: readonly StagedTable[]): Promise<Counts> {
    const meant = { inserted: 0, updated: 0, deleted: 0 };
    if (this.#mode === 'strict') {
      // Nothing is left out; visitors are waiting, and what was staged is known.
      for (const { counts } of tables)
        for (const op of ['insert', 'update', 'delete'] as const) meant[DONE[op]] += counts[op];
      return meant;
    }
    for (const { temporary } of tables) {
      const rows = await this.#client.query<{ op: RowChange['op']; count: string }>(
        `SELECT op, count(*)::text AS count FROM ${temporary} GROUP BY op`,
      );
      for (const { op, count } of rows.rows) meant[DONE[op]] += Number(count);
    }
    return meant;
  }

  /** A row that was meant and not written was swallowed by a trigger, or is one of several alike and gone meanwhile. */
  #compareWithMeant(applied: Counts, meant: Counts): Remain[] {
    const missing = (['inserted', 'updated', 'deleted'] as const).find((one) => applied[one] !== meant[one]);
    if (missing === undefined) return [];
    const areAlike = [...this.#tables.values()].filter((table) => table.shape.key.length === 0);
    const [alike] = areAlike.filter((table) => table.counts.delete > 0);
    if (this.#mode === 'lenient' && missing === 'deleted' && alike)
      return [
        {
          table: fullName(alike.shape),
          key: counted(meant.deleted - applied.deleted, 'row'),
          what: 'is gone meanwhile',
        },
      ];
    throw new EngineError(
      'outdated',
      `${applied[missing]} rows were ${missing}, ${meant[missing]} were meant.`,
      'Make a new forecast; if it happens again, look for triggers that suppress rows.',
    );
  }

  /** Counters are advanced by drawing from them, never set, so that a visitor's draw is never repeated. */
  async #advanceCounters(tables: readonly StagedTable[]): Promise<void> {
    for (const table of tables) {
      if (table.counts.insert === 0) continue;
      for (const sequence of this.#schema.sequences.filter((one) => one.ownedBy?.table === fullName(table.shape))) {
        const column = quoteName(sequence.ownedBy?.column as string);
        await this.#client.query(
          `SELECT count(nextval($1::regclass)) FROM generate_series(1, greatest(0, coalesce((SELECT max(${column})::bigint FROM ${quoteTable(table.shape)}), 0) - (SELECT CASE WHEN is_called THEN last_value ELSE last_value - 1 END FROM ${quoteTable(sequence)})))`,
          [quoteTable(sequence)],
        );
      }
    }
  }

  async #readCounters(): Promise<Map<string, string>> {
    const rows = await this.#client.query<{ name: string; count: string }>(
      "SELECT schemaname || '.' || relname AS name, (n_tup_ins || ' ' || n_tup_upd || ' ' || n_tup_del) AS count FROM pg_catalog.pg_stat_xact_user_tables WHERE schemaname NOT LIKE 'pg\\_%'",
    );
    return new Map(rows.rows.map((row) => [row.name, row.count]));
  }

  /**
   * A table that a trigger or cascade wrote, and that is not part of the change, stops everything; so does a row that is
   * none. A trigger may write once more to a row that the change wrote: what it made of it is read back.
   */
  async #compareCounters(applied: Counts, passing: number): Promise<void> {
    const split = (text: string | undefined): number[] => (text ?? '0 0 0').split(' ').map(Number);
    const written: Counts = { inserted: 0, updated: 0, deleted: 0 };
    const touched: StagedTable[] = [];
    for (const [name, now] of await this.#readCounters()) {
      const before = split(this.#counters.get(name));
      const [inserted = 0, updated = 0, deleted = 0] = split(now).map((count, i) => count - (before[i] ?? 0));
      const delta = inserted + updated + deleted;
      const table = this.#tables.get(name);
      if (delta > 0 && !table) {
        throw new EngineError(
          'outdated',
          `Writing would also change ${delta} rows of ${name}, by a trigger or cascade that the profile does not name.`,
          'Describe the table in the profile, or change the trigger.',
        );
      }
      written.inserted += inserted;
      written.updated += updated;
      written.deleted += deleted;
      if (delta > 0 && table) touched.push(table);
    }
    const meant = { ...applied, updated: applied.updated + passing };
    const differs = (['inserted', 'deleted', 'updated'] as const).find((one) => written[one] !== meant[one]);
    if (differs === undefined) return;
    const strangers = differs === 'updated' && written.updated > meant.updated ? await this.#strangers(touched) : [];
    if (differs === 'updated' && written.updated > meant.updated && strangers.length === 0) return;
    throw new EngineError(
      'outdated',
      `${written[differs]} rows would be ${differs}, ${meant[differs]} were meant${strangers.length > 0 ? `; others are in ${strangers.join(', ')}` : ''}.`,
      'Look for triggers that write or suppress rows.',
    );
  }

  /** Tables in which this transaction wrote rows that are no part of the change. */
  async #strangers(tables: readonly StagedTable[]): Promise<string[]> {
    const found: string[] = [];
    for (const table of tables) {
      // A row that is seen, and whose transaction is still open, was written here, in this transaction or below it.
      const result = await this.#client.query<{ count: string }>(
        `SELECT count(*)::text AS count FROM ONLY ${quoteTable(table.shape)} t
          WHERE age(t.xmin) <= age(pg_current_xact_id()::xid)
            AND pg_xact_status(((pg_current_xact_id()::text::bigint >> 32 << 32) + t.xmin::text::bigint)::text::xid8) = 'in progress'
            AND NOT EXISTS (SELECT FROM ${table.temporary} s WHERE s.op <> 'delete' AND ${this.#keyMatch(table)})`,
      );
      if (result.rows[0]?.count !== '0') found.push(fullName(table.shape));
    }
    return found;
  }
}

/** A column's value as the server writes it in COPY; a cast to text differs for booleans and padded characters. */
const outputText = (alias: string, name: string): string =>
  `CASE WHEN ${alias}.${quoteName(name)} IS NULL THEN NULL ELSE format('%s', ${alias}.${quoteName(name)}) END`;

const quoteLiteral = (text: string): string => `'${text.replaceAll("'", "''")}'`;

function remainText(row: { op: string; gone: boolean; cells: string[] }): string {
  if (row.op === 'insert') return 'is there already';
  return row.gone ? 'is gone' : `was changed meanwhile (${row.cells.join(', ')})`;
}

/** Whether a deleted row must hold in a column what it was compared with. */
const isMeant = ({ authored, spoken }: StagedTable, column: string): boolean =>
  authored.has(column) && spoken.has(column);

function stagedLine(table: StagedTable, change: RowChange): ByteString {
  const changed =
    change.op === 'update'
      ? toBytes(
          `{${Object.keys(change.cells)
            .map((name) => `"${name.replace(/["\\]/g, '\\$&')}"`)
            .join(',')}}`,
        )
      : '{}';
  const keyValue = (name: string): ByteString | null | undefined => {
    const position = table.shape.key.indexOf(name);
    return position === -1 ? undefined : change.key[position];
  };
  const values = table.columns.flatMap((name): (ByteString | null)[] => {
    if (change.op === 'insert') return [change.row[name] ?? null, null];
    if (change.op === 'delete') return [keyValue(name) ?? null, change.row[name] ?? null];
    const cell = change.cells[name];
    return [cell ? cell.after : (keyValue(name) ?? null), cell ? cell.before : null];
  });
  return writeLine([change.op, changed, ...values]);
}
