import { randomUUID } from 'node:crypto';
import {
  type ByteString,
  counted,
  type Rewriter,
  type RowChange,
  tableLabel,
  tablePath,
  toText,
  writeLine,
} from '@tessarion/core';
import type { RowWriter, SiteDatabase, Written } from '../ports/database.js';
import { EngineError } from '../ports/errors.js';
import { insertOrder } from '../ports/insert-order.js';
import type { Counts, Mode, Protection, ReadBack, Remain } from '../ports/rows.js';
import { type ColumnShape, plainUniques, readable, type SchemaShape, type TableShape } from '../ports/shapes.js';
import { databaseError, Session, takeLock, withoutValues } from './connect.js';
import { describe, type ForeignKey } from './describe.js';
import { asRead, familyOf, literal, mine, N, quoteName, quoteText } from './sql.js';
import { Staged, type StagedRow, type StagedTable } from './staged.js';

/** Where it stands which transfers were committed; no comparison shows it. */
export const MARKS = 'tessarion_transfer';

/** Holds what rows are to hold, while they are changed. */
const PASSING = 'tessarion_passing';

/** Rows that one statement names. */
const AT_ONCE = 500;
/** How long somebody else's session for the same purpose is waited for, in seconds. */
const FORMER_SECONDS = 5;

type Values = readonly (ByteString | null)[];

const columnOf = (shape: TableShape, name: string): ColumnShape =>
  shape.columns.find((one) => one.name === name) as ColumnShape;

function* batches<T>(all: readonly T[]): Generator<readonly T[]> {
  for (let at = 0; at < all.length; at += AT_ONCE) yield all.slice(at, at + AT_ONCE);
}

const nameOf = (key: Values): string => key.map((one) => (one === null ? 'null' : toText(one))).join(' ');

/** Rows of literals as a table `w`, with columns of names that no site has, and which it was as {@link N}. */
const wanted = (rows: readonly (readonly string[])[]): string =>
  `(${rows.map((row, n) => `SELECT ${n} AS ${N}${row.map((one, i) => `, ${one} AS ${mine(i)}`).join('')}`).join(' UNION ALL ')}) w`;

const keyLiterals = (shape: TableShape, key: Values): string[] =>
  shape.key.map((name, i) => literal(key[i] ?? null, columnOf(shape, name)));

const keyMatch = (shape: TableShape): string =>
  shape.key.map((name, i) => `t.${quoteName(name)} = w.${mine(i)}`).join(' AND ');

/** Writes rows to a MariaDB database. */
export class MariaWriter implements RowWriter {
  readonly #session: Session;
  readonly #staged: Staged;
  readonly #mode: Mode;
  readonly #mark = randomUUID();
  /** Rows that were written to temporary tables, which the server counts as any other. */
  #aside = 0;

  private constructor(session: Session, staged: Staged, mode: Mode) {
    this.#session = session;
    this.#staged = staged;
    this.#mode = mode;
  }

  /** @throws {EngineError} */
  static async open({ name, login }: SiteDatabase, purpose: string, mode: Mode): Promise<MariaWriter> {
    const session = await Session.open(login, 'write');
    try {
      await takeLock(session, purpose, FORMER_SECONDS);
      await session.run(
        `CREATE TABLE IF NOT EXISTS ${MARKS} (mark varchar(40) CHARACTER SET ascii NOT NULL PRIMARY KEY, at timestamp NOT NULL DEFAULT current_timestamp()) ENGINE=InnoDB`,
      );
      await session.run(`DELETE FROM ${MARKS} WHERE at < now() - INTERVAL 90 DAY`);
      return new MariaWriter(session, new Staged(await describe(session, name)), mode);
    } catch (error) {
      session.destroy();
      throw databaseError(error, login);
    }
  }

  get schema(): SchemaShape {
    return this.#staged.described.schema;
  }

  stage(
    changes: AsyncIterable<RowChange>,
    rewriter: Rewriter,
    authored: (table: string, columns: readonly string[]) => ReadonlySet<string>,
  ): Promise<void> {
    return this.#staged.stage(changes, rewriter, authored);
  }

  async write(unsure: ReadonlySet<string>, protects: (table: TableShape) => readonly Protection[]): Promise<Written> {
    const ordered = insertOrder(this.#staged.tables.map((table) => table.shape));
    const stagedOf = (group: readonly TableShape[]): StagedTable[] =>
      group.map((shape) => this.#staged.get(shape) as StagedTable);
    const tables = ordered.flatMap(stagedOf);
    this.#mustBeSafe(tables);
    const remains: Remain[] = [];
    try {
      await takeLock(this.#session, this.#mark, 0);
      await this.#session.run('START TRANSACTION');
      await this.#session.run(`INSERT INTO ${MARKS} (mark) VALUES (${quoteText(this.#mark)})`);
      for (const table of tables) {
        remains.push(...(await this.#check(table)));
        remains.push(...(await this.#spare(table, protects(table.shape))));
      }
      await this.#mustNotCascade(tables);
      const toRead = tables.filter(
        ({ shape }) => shape.key.length > 0 && (shape.rowTriggers.length > 0 || unsure.has(tablePath(shape))),
      );
      const former = new Map<StagedTable, Map<StagedRow, Values>>();
      for (const table of toRead)
        former.set(
          table,
          await this.#held(
            table,
            table.rows.filter((row) => row.op === 'update'),
            false,
          ),
        );
      const before = await this.#written();
      const done = { applied: { inserted: 0, updated: 0, deleted: 0 }, passing: 0 };
      for (const table of tables) done.passing += await this.#setApart(table);
      for (const group of ordered) await this.#insert(stagedOf(group), done);
      for (const table of tables)
        done.applied.updated += await this.#update(
          table,
          table.rows.filter((row) => row.op === 'update'),
        );
      for (const group of ordered.toReversed())
        for (const table of stagedOf(group)) done.applied.deleted += await this.#delete(table);
      await this.#compareWithMeant(tables, done.applied);
      await this.#mustBeOurs(tables, before, done);
      const read: ReadBack[] = [];
      for (const table of toRead) read.push(await this.#readBack(table, former.get(table) as Map<StagedRow, Values>));
      return { mark: this.#mark, applied: { ...done.applied, remains }, read };
    } catch (error) {
      await this.#session.run('ROLLBACK').catch(() => undefined);
      throw this.#explained(error);
    }
  }

  async commit(): Promise<void> {
    try {
      await this.#session.run('COMMIT');
    } catch (error) {
      throw databaseError(error, this.#session.login);
    }
  }

  async close(): Promise<void> {
    try {
      await this.#session.run('ROLLBACK');
      await this.#session.run('DO RELEASE_ALL_LOCKS()');
    } catch {
      // It has ended by itself, and its locks with it.
    }
    await this.#session.end();
  }

  /** Tables that take nothing back are written to by nobody here. @throws {EngineError} `schema-unsupported` */
  #mustBeSafe(tables: readonly StagedTable[]): void {
    const loose = tables.find(
      ({ shape, rows }) => rows.length > 0 && this.#staged.described.loose.includes(shape.name),
    );
    if (!loose) return;
    throw new EngineError(
      'schema-unsupported',
      `${tableLabel(loose.shape)} is kept by an engine without transactions: what is written to it half-way could not be taken back.`,
      `Let it be kept by InnoDB (ALTER TABLE ${quoteName(loose.shape.name)} ENGINE=InnoDB), or leave it out.`,
    );
  }

  /** Locks the rows of a table and reads what they hold, in the order of what is staged. */
  async #held(table: StagedTable, rows: readonly StagedRow[], isLocked: boolean): Promise<Map<StagedRow, Values>> {
    const found = new Map<StagedRow, Values>();
    const { shape } = table;
    if (shape.key.length === 0) return found;
    const columns = readable(shape);
    const reads = this.#staged.described.reads.get(shape.name) as ReadonlyMap<string, string>;
    const picked = columns.map(({ name }) => reads.get(name) as string);
    for (const some of batches(rows)) {
      const list = some.map((row) => keyLiterals(shape, row.key));
      const answer = await this.#session.rows(
        `SELECT w.${N}, ${picked.join(', ')} FROM ${wanted(list)} STRAIGHT_JOIN ${quoteName(shape.name)} t ON ${keyMatch(shape)}${isLocked ? ' FOR UPDATE' : ''}`,
      );
      for (const [n, ...values] of answer)
        found.set(
          some[Number(n)] as StagedRow,
          values.map((value, i) => asRead(value, familyOf((columns[i] as ColumnShape).type) === 'binary')),
        );
    }
    return found;
  }

  /** Locks rows and finds what is not as it was compared. Strict: an error naming it. Lenient: set aside and named. */
  async #check(table: StagedTable): Promise<Remain[]> {
    const { shape, rows } = table;
    if (shape.key.length === 0) return [];
    const held = await this.#held(table, rows, true);
    const columns = readable(shape).map((one) => one.name);
    const remains: Remain[] = [];
    const kept: StagedRow[] = [];
    const stays = (row: StagedRow, what: string): void =>
      void remains.push({ table: tableLabel(shape), key: nameOf(row.key), what });
    for (const row of rows) {
      const now = held.get(row);
      if (row.op === 'insert' ? now : !now) {
        stays(row, now ? 'is there already' : 'is gone');
        continue;
      }
      const unlike = this.#mode === 'over' || !now ? [] : differing(table, row, columns, now);
      if (unlike.length > 0) stays(row, `was changed meanwhile (${unlike.join(', ')})`);
      if (unlike.length > 0 && row.op === 'delete') continue;
      row.now = now;
      row.changed = row.changed.filter((name) => !unlike.includes(name));
      if (row.op === 'update' && row.changed.length === 0) continue;
      kept.push(row);
    }
    const [one] = remains;
    if (one && this.#mode !== 'lenient')
      throw new EngineError(
        'outdated',
        `${one.table} ${one.key}: ${one.what}${remains.length > 1 ? ` (and ${remains.length - 1} more)` : ''}.`,
        'Make a new forecast: the destination has changed since this one.',
      );
    table.rows = kept;
    return remains;
  }

  /** What must not lose what it refers to keeps it. */
  async #spare(table: StagedTable, protections: readonly Protection[]): Promise<Remain[]> {
    const remains: Remain[] = [];
    for (const { by, called } of protections) {
      const going = table.rows.filter((row) => row.op === 'delete');
      if (going.length === 0) break;
      const keys = going.map((row) => row.key[0] as ByteString);
      const held =
        typeof by === 'function'
          ? new Set(await by(keys.map(toText)))
          : new Set(
              (await this.#referring(by.table, [by.column], table, going)).map((row) =>
                toText(row.key[0] as ByteString),
              ),
            );
      const spared = new Set(going.filter((row) => held.has(toText(row.key[0] as ByteString))));
      table.rows = table.rows.filter((row) => !spared.has(row));
      for (const row of spared)
        remains.push({
          table: tableLabel(table.shape),
          key: toText(row.key[0] as ByteString),
          what: `stays, since ${called} refers to it`,
        });
    }
    const [one] = remains;
    if (one && this.#mode !== 'lenient')
      throw new EngineError('outdated', `${one.table} ${one.key} ${one.what} meanwhile.`, 'Make a new forecast.');
    return remains;
  }

  /** Those of some rows to which rows of a table refer that this very change neither deletes nor lets refer elsewhere. */
  async #referring(
    from: TableShape,
    columns: readonly string[],
    table: StagedTable,
    rows: readonly StagedRow[],
    targets: readonly string[] = table.shape.key.slice(0, 1),
  ): Promise<StagedRow[]> {
    const let_go = (this.#staged.get(from)?.rows ?? []).filter(
      (row) => row.op === 'delete' || (row.op === 'update' && columns.some((name) => row.changed.includes(name))),
    );
    const passed = new Set(let_go.map((row) => JSON.stringify(row.key)));
    const found = new Set<StagedRow>();
    const match = columns.map((name, i) => `t.${quoteName(name)} = w.${mine(i)}`).join(' AND ');
    const own = from.key.map((name) => `, t.${quoteName(name)}`).join('');
    const binary = from.key.map((name) => familyOf(columnOf(from, name).type) === 'binary');
    for (const some of batches(rows)) {
      const list = some.map((row) =>
        targets.map((name) => literal(heldBy(table.shape, row, name), columnOf(table.shape, name))),
      );
      const answer = await this.#session.rows(
        `SELECT w.${N}${own} FROM ${wanted(list)} STRAIGHT_JOIN ${quoteName(from.name)} t ON ${match}`,
      );
      for (const [n, ...key] of answer) {
        const isPassed =
          key.length > 0 && passed.has(JSON.stringify(key.map((one, i) => asRead(one, binary[i] as boolean))));
        if (!isPassed) found.add(some[Number(n)] as StagedRow);
      }
    }
    return [...found];
  }

  /** Rows that the server itself would delete or change with ours are no part of the change (MariaDB counts them nowhere). */
  async #mustNotCascade(tables: readonly StagedTable[]): Promise<void> {
    const { foreignKeys, schema } = this.#staged.described;
    for (const table of tables)
      for (const key of foreignKeys.filter((one) => one.cascades && one.target === table.shape.name)) {
        const from = schema.tables.find((one) => one.name === key.table) as TableShape;
        const rows = table.rows.filter((row) => row.op === 'delete' || (row.op === 'update' && touches(key, row)));
        const held = await this.#referring(from, key.columns, table, rows, key.targetColumns);
        if (held.length > 0)
          throw new EngineError(
            'outdated',
            `Writing would also change rows of ${tableLabel(from)} that refer to ${counted(held.length, 'row')} of ${tableLabel(table.shape)}, by a trigger or cascade that the profile does not name.`,
            'Describe the table in the profile, or change the foreign key.',
          );
      }
  }

  /** How many rows this session has written so far, in all tables. */
  async #written(): Promise<number> {
    const rows = await this.#session.texts(
      "SHOW SESSION STATUS WHERE Variable_name IN ('Handler_write', 'Handler_update', 'Handler_delete')",
    );
    return rows.reduce((sum, [, count]) => sum + Number(count), 0);
  }

  /** A trigger that writes to other rows than ours stops everything. */
  async #mustBeOurs(
    tables: readonly StagedTable[],
    before: number,
    { applied, passing }: { readonly applied: Counts; readonly passing: number },
  ): Promise<void> {
    if (tables.every(({ shape }) => shape.rowTriggers.length === 0)) return;
    const meant = applied.inserted + applied.updated + applied.deleted + passing + this.#aside;
    const written = (await this.#written()) - before;
    if (written <= meant) return;
    throw new EngineError(
      'outdated',
      `Writing would also change ${counted(written - meant, 'row')}, by a trigger that the profile does not name.`,
      'Look for triggers that write or suppress rows.',
    );
  }

  async #compareWithMeant(tables: readonly StagedTable[], applied: Counts): Promise<void> {
    const meant = { inserted: 0, updated: 0, deleted: 0 };
    const DONE = { insert: 'inserted', update: 'updated', delete: 'deleted' } as const;
    for (const { rows } of tables) for (const { op } of rows) meant[DONE[op]]++;
    const missing = (['inserted', 'updated', 'deleted'] as const).find((one) => applied[one] !== meant[one]);
    if (missing === undefined) return;
    throw new EngineError(
      'outdated',
      `${applied[missing]} rows were ${missing}, ${meant[missing]} were meant.`,
      'Make a new forecast; if it happens again, look for triggers that suppress rows.',
    );
  }

  /** Frees what no two rows may share and goes from one row to another. @returns rows that were given a passing value */
  async #setApart(table: StagedTable): Promise<number> {
    let passing = 0;
    const { shape, rows } = table;
    for (const columns of plainUniques(shape)) {
      const isIn = (row: StagedRow): boolean => columns.some((name) => row.changed.includes(name));
      const taking = rows.filter((row) => row.op !== 'delete' && isIn(row));
      const leaving = rows.filter((row) => row.op === 'delete' || (row.op === 'update' && isIn(row)));
      if (
        leaving.length === 0 ||
        taking.length === 0 ||
        (taking.length === 1 && leaving.length === 1 && taking[0] === leaving[0])
      )
        continue;
      const apart = passingColumn(shape, columns);
      if (!apart) continue;
      const { column, passingValue } = apart;
      for (const row of leaving) if (row.op === 'update') comesBack(shape, row, column);
      let number = 0;
      for (const some of batches(leaving)) {
        const list = some.map((row) => [...keyLiterals(shape, row.key), passingValue(number++)]);
        passing += await this.#session.run(
          `UPDATE ${wanted(list)} STRAIGHT_JOIN ${quoteName(shape.name)} t ON ${keyMatch(shape)} SET t.${quoteName(column)} = w.${mine(shape.key.length)}${this.#unstamped(shape, [column])}`,
        );
      }
    }
    return passing;
  }

  /** Keeps columns as they are that the server sets whenever a row is written. */
  #unstamped(shape: TableShape, written: readonly string[]): string {
    const stamped = this.#staged.described.stamped.get(shape.name) ?? [];
    return stamped
      .filter((name) => !written.includes(name))
      .map((name) => `, t.${quoteName(name)} = t.${quoteName(name)}`)
      .join('');
  }

  /** New rows of tables that refer to one another: what they refer to within these tables follows once all are there. */
  async #insert(group: readonly StagedTable[], done: { readonly applied: Counts; passing: number }): Promise<void> {
    const later: { table: StagedTable; rows: StagedRow[] }[] = [];
    const within = new Set(group.map(({ shape }) => shape.name));
    for (const table of group) {
      const { shape } = table;
      const circles = new Set(
        shape.references
          .filter((one) => within.has(one.table.name))
          .flatMap((one) => one.columns)
          .filter((name) => !columnOf(shape, name).isRequired),
      );
      const rows = table.rows.filter((row) => row.op === 'insert');
      done.applied.inserted += await this.#insertRows(shape, rows, circles);
      const open = rows.flatMap((row): StagedRow[] => {
        const changed = row.changed.filter((name) => circles.has(name) && row.after.get(name) != null);
        return changed.length === 0 ? [] : [{ ...row, changed }];
      });
      if (open.length > 0) later.push({ table, rows: open });
    }
    for (const { table, rows } of later) done.passing += await this.#update(table, rows);
  }

  async #insertRows(shape: TableShape, rows: readonly StagedRow[], circles: ReadonlySet<string>): Promise<number> {
    let inserted = 0;
    for (const alike of byColumns(rows))
      for (const some of batches(alike)) {
        const { changed } = some[0] as StagedRow;
        const values = some.map(
          (row) =>
            `(${changed.map((name) => (circles.has(name) ? 'NULL' : literal(row.after.get(name) ?? null, columnOf(shape, name)))).join(', ')})`,
        );
        inserted += await this.#session.run(
          `INSERT INTO ${quoteName(shape.name)} (${changed.map(quoteName).join(', ')}) VALUES ${values.join(', ')}`,
        );
      }
    return inserted;
  }

  /**
   * Changes rows from a temporary table that has their columns' own types: what is made of literals in passing has others, of
   * which the server does not take all, and some end it (geometry in 10.11.19).
   *
   * @returns how many rows were found
   */
  async #update({ shape }: StagedTable, rows: readonly StagedRow[]): Promise<number> {
    let updated = 0;
    for (const alike of byColumns(rows)) {
      const { changed } = alike[0] as StagedRow;
      const columns = [...shape.key, ...changed];
      const picked = columns.map((name, i) => `${quoteName(name)} AS ${mine(i)}`).join(', ');
      await this.#session.run(
        `CREATE OR REPLACE TEMPORARY TABLE ${PASSING} ENGINE=InnoDB SELECT ${picked} FROM ${quoteName(shape.name)} LIMIT 0`,
      );
      for (const some of batches(alike)) {
        const list = some.map((row) => [
          ...keyLiterals(shape, row.key),
          ...changed.map((name) => literal(row.after.get(name) ?? null, columnOf(shape, name))),
        ]);
        this.#aside += await this.#session.run(
          `INSERT INTO ${PASSING} VALUES ${list.map((one) => `(${one.join(', ')})`).join(', ')}`,
        );
      }
      const set = changed.map((name, i) => `t.${quoteName(name)} = w.${mine(shape.key.length + i)}`).join(', ');
      updated += await this.#session.run(
        `UPDATE ${PASSING} w STRAIGHT_JOIN ${quoteName(shape.name)} t ON ${keyMatch(shape)} SET ${set}${this.#unstamped(shape, changed)}`,
      );
      await this.#session.run(`DROP TEMPORARY TABLE ${PASSING}`);
    }
    return updated;
  }

  async #delete({ shape, rows }: StagedTable): Promise<number> {
    let deleted = 0;
    const going = rows.filter((row) => row.op === 'delete');
    if (shape.key.length === 0) {
      for (const row of going)
        deleted += await this.#session.run(
          `DELETE FROM ${quoteName(shape.name)} WHERE ${this.#same(shape, row)} LIMIT 1`,
        );
      return deleted;
    }
    for (const some of batches(going))
      deleted += await this.#session.run(
        `DELETE t FROM ${wanted(some.map((row) => keyLiterals(shape, row.key)))} STRAIGHT_JOIN ${quoteName(shape.name)} t ON ${keyMatch(shape)}`,
      );
    return deleted;
  }

  /** A row that nothing names is found by all that it holds. */
  #same(shape: TableShape, row: StagedRow): string {
    return readable(shape)
      .map((column) => {
        const own = `CAST(${this.#staged.described.reads.get(shape.name)?.get(column.name)} AS BINARY)`;
        return `${own} <=> CAST(${literal(row.before.get(column.name) ?? null, column)} AS BINARY)`;
      })
      .join(' AND ');
  }

  async #readBack(table: StagedTable, former: ReadonlyMap<StagedRow, Values>): Promise<ReadBack> {
    const { shape } = table;
    const columns = readable(shape).map((one) => one.name);
    const now = await this.#held(
      table,
      table.rows.filter((row) => row.op !== 'delete'),
      false,
    );
    const lines = [...now].map(([row, values]) => {
      const before = former.get(row);
      const moved = before ? columns.filter((_name, i) => values[i] !== before[i]) : [];
      const told = row.op === 'update' ? JSON.stringify([...new Set([...row.changed, ...moved])]) : null;
      return writeLine([...values, row.op, told]);
    });
    return { shape, columns, lines };
  }

  #explained(error: unknown): EngineError {
    const { code } = error as { code?: string };
    const outdated = (what: string): EngineError =>
      new EngineError('outdated', `${what}.`, 'Make a new forecast.', { cause: withoutValues(error) });
    if (code === 'ER_DUP_ENTRY') return outdated('Another row of the destination has what no two rows may share');
    if (code === 'ER_NO_REFERENCED_ROW_2' || code === 'ER_ROW_IS_REFERENCED_2')
      return outdated('A reference of the destination would lead nowhere');
    return databaseError(error, this.#session.login);
  }
}

/** Bytes of whole numbers (MariaDB, *Numeric Data Types*). */
const INTEGER_BYTES: Readonly<Record<string, number>> = { tinyint: 1, smallint: 2, mediumint: 3, int: 4, bigint: 8 };

/** The n-th of the numbers that a type reaches last: below zero, or at its top where there are none. */
function farNumber(type: string): ((n: number) => string) | undefined {
  const bytes = INTEGER_BYTES[/^[a-z]+/.exec(type)?.[0] ?? ''];
  if (bytes === undefined) return undefined;
  const all = 1n << BigInt(8 * bytes);
  return type.includes('unsigned') ? (n) => String(all - 1n - BigInt(n)) : (n) => String(BigInt(n) - all / 2n);
}

/** A column of a rule that no two rows may break which may hold something else for a moment, and what. */
function passingColumn(
  { columns, references }: TableShape,
  names: readonly string[],
): { readonly column: string; readonly passingValue: (n: number) => string } | undefined {
  const own = names.map((name) => columns.find((one) => one.name === name) as ColumnShape);
  const empty = own.find((one) => !one.isRequired);
  if (empty) return { column: empty.name, passingValue: () => 'NULL' };
  // What refers to something cannot refer to nothing that is there.
  const free = own.filter(({ name }) => !references.some((one) => one.columns.includes(name)));
  for (const { name, type, isText, maxLength } of free) {
    if (isText && (maxLength ?? 24) >= 24)
      return { column: name, passingValue: () => quoteText(randomUUID().replaceAll('-', '').slice(0, 24)) };
    const far = farNumber(type);
    if (far) return { column: name, passingValue: far };
  }
  return undefined;
}

/** What a row holds in a column that it is not to lose is written again with what it gets. */
function comesBack(shape: TableShape, row: StagedRow, column: string): void {
  if (row.changed.includes(column)) return;
  const at = readable(shape).findIndex(({ name }) => name === column);
  row.changed = [...row.changed, column];
  row.after.set(column, row.now?.[at] ?? null);
}

/** Columns in which a row is not as it was compared. */
function differing({ authored }: StagedTable, row: StagedRow, columns: readonly string[], now: Values): string[] {
  return columns.filter((name, i) => {
    if (row.op === 'delete' ? !authored.has(name) || !row.before.has(name) : !row.before.has(name)) return false;
    return (row.before.get(name) ?? null) !== now[i];
  });
}

const touches = (key: ForeignKey, row: StagedRow): boolean =>
  key.targetColumns.some((name) => row.changed.includes(name));

/** What a row holds in a column before it is written, as far as its key or what it was compared with says so. */
function heldBy({ key }: TableShape, row: StagedRow, name: string): ByteString | null {
  const at = key.indexOf(name);
  return at === -1 ? (row.before.get(name) ?? null) : (row.key[at] ?? null);
}

/** Rows that say the same columns together. */
function byColumns(rows: readonly StagedRow[]): StagedRow[][] {
  const groups = new Map<string, StagedRow[]>();
  for (const row of rows) {
    const name = JSON.stringify(row.changed);
    const group = groups.get(name);
    if (group) group.push(row);
    else groups.set(name, [row]);
  }
  return [...groups.values()];
}
