import {
  type ByteString,
  cellIn,
  materialiseLines,
  type Rewriter,
  type RowChange,
  readLine,
  readTablePath,
  tableLabel,
  tablePath,
  valueIn,
  writeLine,
} from '@tessarion/core';
import { EngineError } from '../ports/errors.js';
import { readable, type TableShape } from '../ports/shapes.js';
import type { Described } from './describe.js';

/** A row that is to be written. */
export interface StagedRow {
  readonly op: RowChange['op'];
  readonly key: readonly (ByteString | null)[];
  /** Columns that are written: all that a new row says, or those that change. */
  changed: readonly string[];
  /** What they are to hold. */
  readonly after: Map<string, ByteString | null>;
  /** What the row was compared with, as far as that is known. */
  readonly before: ReadonlyMap<string, ByteString | null>;
  /** What it holds now that it is locked, in the order of the readable columns. */
  now: readonly (ByteString | null)[] | undefined;
}

/** The changes of one table. */
export interface StagedTable {
  readonly shape: TableShape;
  readonly authored: ReadonlySet<string>;
  rows: StagedRow[];
}

/** Changes of one database, by the tables that they write to, with the destination's own addresses. */
export class Staged {
  readonly #tables = new Map<string, StagedTable>();

  constructor(readonly described: Described) {}

  get tables(): StagedTable[] {
    return [...this.#tables.values()];
  }

  get(shape: TableShape): StagedTable | undefined {
    return this.#tables.get(tablePath(shape));
  }

  /** @throws {EngineError} `outdated` where a table is not there any more */
  async stage(
    changes: AsyncIterable<RowChange>,
    rewriter: Rewriter,
    authored: (table: string, columns: readonly string[]) => ReadonlySet<string>,
  ): Promise<void> {
    for await (const change of changes) {
      const table = this.#tableOf(change.table, authored);
      table.rows.push(stagedRow(table.shape, change, rewriter));
    }
  }

  #tableOf(path: string, authored: (table: string, columns: readonly string[]) => ReadonlySet<string>): StagedTable {
    const known = this.#tables.get(path);
    if (known) return known;
    const shape = this.described.schema.tables.find((one) => tablePath(one) === path);
    if (!shape)
      throw new EngineError(
        'outdated',
        `The destination has no table ${tableLabel(readTablePath(path))} any more.`,
        'Make a new forecast.',
      );
    const columns = readable(shape).map((column) => column.name);
    const table = { shape, authored: authored(path, columns), rows: [] };
    this.#tables.set(path, table);
    return table;
  }
}

function stagedRow(shape: TableShape, change: RowChange, rewriter: Rewriter): StagedRow {
  const columns = readable(shape).map((column) => column.name);
  const [after, before] = [new Map<string, ByteString | null>(), new Map<string, ByteString | null>()];
  for (const name of columns) {
    if (change.op === 'update') {
      const cell = cellIn(change, name);
      if (!cell) continue;
      after.set(name, cell.after);
      before.set(name, cell.before);
    } else {
      const value = valueIn(change.row, name);
      if (value !== undefined) (change.op === 'insert' ? after : before).set(name, value);
    }
  }
  const written = (values: ReadonlyMap<string, ByteString | null>): Map<string, ByteString | null> => {
    const line = materialiseLines(`${writeLine([...values.values()])}\n`, rewriter);
    const own = values.size === 0 ? [] : readLine(line.slice(0, -1));
    return new Map([...values.keys()].map((name, i) => [name, own[i] ?? null]));
  };
  const key =
    change.key.length === 0 ? [] : readLine(materialiseLines(`${writeLine([...change.key])}\n`, rewriter).slice(0, -1));
  return {
    op: change.op,
    key,
    changed: [...after.keys()],
    after: written(after),
    before: written(before),
    now: undefined,
  };
}
