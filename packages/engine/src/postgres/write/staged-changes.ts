import { finished } from 'node:stream/promises';
import {
  type ByteString,
  cellIn,
  materialiseLines,
  type Rewriter,
  type RowChange,
  readTablePath,
  tableLabel,
  tablePath,
  toBytes,
  valueIn,
  writeLine,
} from '@tessarion/core';
import { from as copyFrom } from 'pg-copy-streams';
import { EngineError } from '../../ports/errors.js';
import { type DatabaseLogin, readable, type SchemaShape, type TableShape } from '../../ports/shapes.js';
import { databaseError } from '../connect.js';
import { quoteName } from '../describe.js';
import type { Session } from '../sessions.js';
import { type UniqueRule, uniqueRules } from '../unique-rules.js';

/** The changes of one table in a temporary one, from which they are written in few statements. */
export interface StagedTable {
  readonly shape: TableShape;
  readonly temporary: string;
  /** Positions of all readable columns. */
  readonly columns: readonly string[];
  /** Columns that are written by at least one update. */
  readonly touched: Set<string>;
  /** Columns of which inserted and deleted rows say what they hold; others have what the database gives them. */
  readonly spoken: Set<string>;
  readonly authored: ReadonlySet<string>;
  readonly uniques: readonly UniqueRule[];
  counts: { insert: number; update: number; delete: number };
}

/** Changes of one database in temporary tables of a session, one for each table that they write to. */
export class StagedChanges {
  readonly #byName = new Map<string, StagedTable>();

  constructor(
    readonly client: Session,
    readonly login: DatabaseLogin,
    readonly schema: SchemaShape,
  ) {}

  get tables(): StagedTable[] {
    return [...this.#byName.values()];
  }

  /** @param name `schema.table` */
  get(name: string): StagedTable | undefined {
    return this.#byName.get(name);
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
    for (const table of this.#byName.values()) await this.client.query(`ANALYZE ${table.temporary}`);
  }

  async #staged(
    name: string,
    authored: (table: string, columns: readonly string[]) => ReadonlySet<string>,
  ): Promise<StagedTable> {
    const known = this.#byName.get(name);
    if (known) return known;
    const shape = this.schema.tables.find((table) => tablePath(table) === name);
    if (!shape)
      throw new EngineError(
        'outdated',
        `The destination has no table ${tableLabel(readTablePath(name))} any more.`,
        'Make a new forecast.',
      );
    const columns = readable(shape).map((column) => column.name);
    const temporary = `pg_temp.tsr_${this.#byName.size}`;
    const types = readable(shape).map((column, i) => `n${i} ${column.type}, o${i} text`);
    await this.client.query(
      `CREATE TEMP TABLE tsr_${this.#byName.size} (op text, changed text[], done bool NOT NULL DEFAULT false, is_first bool NOT NULL DEFAULT false, ${types.join(', ')})`,
    );
    const staged: StagedTable = {
      shape,
      temporary,
      columns,
      touched: new Set(),
      spoken: new Set(),
      authored: authored(name, columns),
      uniques: shape.key.length > 0 ? uniqueRules(shape) : [],
      counts: { insert: 0, update: 0, delete: 0 },
    };
    this.#byName.set(name, staged);
    return staged;
  }

  async #copyIn(table: StagedTable, lines: ByteString): Promise<void> {
    const columns = table.columns.flatMap((_name, i) => [`n${i}`, `o${i}`]);
    const stream = this.client.query(
      copyFrom(`COPY ${table.temporary} (op, changed, ${columns.join(', ')}) FROM STDIN`),
    );
    stream.end(Buffer.from(lines, 'latin1'));
    await finished(stream).catch((error: unknown) => {
      throw databaseError(error, this.login);
    });
  }
}

/** SQL by which rows `s` of a temporary table find theirs `t`. */
export function keyMatch(table: StagedTable): string {
  if (table.shape.key.length > 0) {
    return table.shape.key.map((name) => `t.${quoteName(name)} = s.n${table.columns.indexOf(name)}`).join(' AND ');
  }
  // Nothing is told from an empty text by a letter before each text: so the server can put rows together by a hash of them.
  return table.columns
    .map((name, i) => `coalesce('=' || ${outputText('t', name)}, '') = coalesce('=' || s.o${i}, '')`)
    .join(' AND ');
}

/** A column's value as the server writes it in COPY; a cast to text differs for booleans and padded characters. */
export const outputText = (alias: string, name: string): string =>
  `CASE WHEN ${alias}.${quoteName(name)} IS NULL THEN NULL ELSE format('%s', ${alias}.${quoteName(name)}) END`;

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
  const values: (ByteString | null)[] = [change.op, changed];
  for (const name of table.columns) {
    if (change.op === 'insert') values.push(valueIn(change.row, name) ?? null, null);
    else if (change.op === 'delete') values.push(keyValue(name) ?? null, valueIn(change.row, name) ?? null);
    else {
      const cell = cellIn(change, name);
      values.push(cell ? cell.after : (keyValue(name) ?? null), cell ? cell.before : null);
    }
  }
  return writeLine(values);
}
