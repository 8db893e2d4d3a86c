import {
  type ByteString,
  LineRewriter,
  materialiseLines,
  type Rewriter,
  readLine,
  rulesForTable,
  type Values,
  writeLine,
} from '@tessarion/core';
import type { Questions } from '../ports/database.js';
import { readable, type TableShape } from '../ports/shapes.js';
import { type Environment, rewriterOf } from './environment.js';

/**
 * Rows of a table whose columns hold one of some combinations of values, in canonical form and with all readable
 * columns.
 *
 * @param columns columns that are compared by the server, in its own way
 * @param wanted values in canonical form, in the order of `columns`; what holds a null is found nowhere
 */
export async function rowsWhere(
  questions: Questions,
  environment: Environment,
  shape: TableShape,
  columns: readonly string[],
  wanted: readonly (readonly (ByteString | null)[])[],
): Promise<Values[]> {
  if (wanted.length === 0) return [];
  const rewriter = rewriterOf(environment);
  const content = await questions.rowsWhere(shape, columns, writtenThere(wanted, rewriter));
  const names = readable(shape).map((column) => column.name);
  const rules = rulesForTable(environment.profile, shape, names);
  const canonical = new LineRewriter(rewriter, rules.columns).canonicalise(content);
  return canonical === '' ? [] : canonical.slice(0, -1).split('\n').map(readLine);
}

/** Values as an environment's own rows hold them. */
function writtenThere(values: readonly (readonly (ByteString | null)[])[], rewriter: Rewriter): Values[] {
  const written = materialiseLines(values.map((one) => `${writeLine(one)}\n`).join(''), rewriter);
  return written.slice(0, -1).split('\n').map(readLine);
}
