import {
  type ByteString,
  cellIn,
  LineRewriter,
  placeOfRows,
  type RowChange,
  readLine,
  rulesForTable,
} from '@tessarion/core';
import type { ReadBack } from '../ports/rows.js';
import { type Environment, rewriterOf } from '../site/environment.js';

/** What was read back as changes, in canonical form: for each row the values of what was written or has moved. */
export function* readBackChanges(environment: Environment, read: readonly ReadBack[]): Generator<RowChange> {
  const rewriter = rewriterOf(environment);
  for (const { shape, columns, lines } of read) {
    const rules = rulesForTable(environment.profile, shape, columns);
    const canonical = new LineRewriter(rewriter, rules.columns);
    for (const line of lines) {
      const values = readLine(line);
      const moved = values[columns.length + 1] ?? null;
      const written = line.split('\t').slice(0, columns.length).join('\t');
      const row = readLine(canonical.canonicalise(`${written}\n`).slice(0, -1));
      const names = moved === null ? columns : columnsIn(moved);
      const readOf = (name: string): ByteString | null => row[columns.indexOf(name)] ?? null;
      yield {
        part: 'row',
        ...placeOfRows(shape),
        key: shape.key.map(readOf),
        op: 'update',
        cells: Object.fromEntries(names.map((name) => [name, { before: null, after: readOf(name) }])),
      };
    }
  }
}

const columnsIn = (list: ByteString): string[] => [
  ...new Set(JSON.parse(Buffer.from(list, 'latin1').toString()) as string[]),
];

/** A change as it turned out: what was read back of a row in place of what was to be written. */
export function asReadBack(change: RowChange, read: RowChange | undefined): RowChange {
  if (read?.op !== 'update' || change.op === 'delete') return change;
  if (change.op === 'insert') {
    const found = Object.entries(read.cells).map(([name, cell]) => [name, cell.after] as const);
    return { ...change, row: { ...change.row, ...Object.fromEntries(found) } };
  }
  const cells = Object.entries(change.cells).map(([name, cell]) => {
    const found = cellIn(read, name);
    return [name, found ? { ...cell, after: found.after } : cell] as const;
  });
  return { ...change, cells: Object.fromEntries(cells) };
}
