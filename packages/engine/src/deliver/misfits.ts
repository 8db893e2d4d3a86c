import {
  type ByteString,
  calledIn,
  cellIn,
  LineRewriter,
  type Location,
  type Misfit,
  type Place,
  Rewriter,
  type RowChange,
  rulesForTable,
  type TableRules,
  tableLabel,
  tablePath,
  toBytes,
  toText,
  valueIn,
} from '@tessarion/core';
import type { LimitedColumn, SiteDatabase } from '../ports/database.js';
import { MOST_MISFITS, type WrittenRow } from '../ports/rows.js';
import { readable, type TableShape } from '../ports/shapes.js';
import type { Environment } from '../site/environment.js';
import { rewriterOf } from '../site/environment.js';
import type { LeftOut } from '../site/left-out.js';

/** What was found; `untried` rows were passed over because there are too many. */
export interface Misfits {
  readonly found: readonly Misfit[];
  readonly tried: number;
  readonly untried: number;
}

/** How many rows of one table are tried before a copy is made; the database tries the others while they are loaded. */
const CANDIDATES = 20_000;

/**
 * Tries the values that a copy would get against the lengths and check constraints of their columns. Only rows that
 * hold one of the source's addresses, in columns that have a limit, are read.
 *
 * @param tables those of the database, as a view describes them
 */
export async function misfitsInCopy(
  database: SiteDatabase,
  tables: readonly TableShape[],
  source: Environment,
  destination: Environment,
  leftOut: LeftOut,
): Promise<Misfits> {
  const questions = await database.system.ask(database, 'check');
  try {
    const found: Misfit[] = [];
    let [tried, untried] = [0, 0];
    for (const shape of tables) {
      const columns = readable(shape).map((column) => column.name);
      const rules = rulesForTable(source.profile, shape, columns);
      if (leftOut.tables.includes(calledIn(source.profile, shape)) || !mayTravel(rules)) continue;
      const limited = limitedColumns(shape, rules);
      if (limited.length === 0) continue;
      const rows = await questions.crowdedRows(
        shape,
        limited,
        wordsOf(source.place),
        growth(source.place, destination.place),
        CANDIDATES + 1,
      );
      untried += Math.max(0, rows.length - CANDIDATES);
      const written = rewritten(rows.slice(0, CANDIDATES), shape, rules, source, destination);
      tried += written.length;
      found.push(...(await questions.tryValues(shape, written)));
    }
    return { found: found.slice(0, MOST_MISFITS), tried, untried };
  } finally {
    await questions.close();
  }
}

/**
 * Tries the rows that a push would write against lengths, columns that take no null, check constraints and unique indexes of
 * its destination.
 *
 * @param changes those of one database
 * @param rewriter writes with the destination's addresses
 */
export async function misfitsOfChanges(
  database: SiteDatabase,
  changes: readonly RowChange[],
  rewriter: Rewriter,
): Promise<Misfits> {
  if (changes.length === 0) return { found: [], tried: 0, untried: 0 };
  const questions = await database.system.ask(database, 'check');
  try {
    const found: Misfit[] = [];
    const text = (value: ByteString | null): string | null =>
      value === null ? null : toText(rewriter.materialise(value));
    for (const shape of questions.schema.tables) {
      if (shape.key.length === 0) continue;
      const own = changes.filter((change) => change.table === tablePath(shape));
      if (own.length === 0) continue;
      // Only columns that may refuse something are looked at, so that memory does not grow with long texts.
      const judged = questions.judgedColumns(shape);
      found.push(...misfitsInNull(shape, own, text));
      if (judged.size === 0) continue;
      const rows = own.map(
        (change): WrittenRow => ({ op: change.op, key: change.key.map(text), cells: cellsOf(change, judged, text) }),
      );
      found.push(...(await questions.tryRows(shape, rows)));
    }
    return { found: found.slice(0, MOST_MISFITS), tried: changes.length, untried: 0 };
  } finally {
    await questions.close();
  }
}

/** Cells that would be null where the destination takes none. */
function misfitsInNull(
  shape: TableShape,
  changes: readonly RowChange[],
  text: (value: ByteString | null) => string | null,
): Misfit[] {
  // A trigger may well fill it.
  if (shape.rowTriggers.length > 0) return [];
  const required = shape.columns.filter((column) => column.isRequired && !column.generated);
  const found: Misfit[] = [];
  for (const change of changes) {
    if (change.op === 'delete') continue;
    for (const { name, isFilled } of required) {
      const value = change.op === 'insert' ? valueIn(change.row, name) : cellIn(change, name)?.after;
      if (value !== null && (value !== undefined || change.op === 'update' || isFilled)) continue;
      const key = change.key.map(text).join(' ');
      found.push({ table: tableLabel(shape), key, what: `${name} would be empty, and must not be` });
    }
  }
  return found;
}

/** The cells of some columns that a change writes. */
function cellsOf(
  change: RowChange,
  columns: ReadonlySet<string>,
  text: (value: ByteString | null) => string | null,
): Readonly<Record<string, string | null>> {
  if (change.op === 'delete') return {};
  const after: [string, ByteString | null][] =
    change.op === 'insert'
      ? Object.entries(change.row)
      : Object.entries(change.cells).map(([name, cell]) => [name, cell.after]);
  return Object.fromEntries(after.flatMap(([name, value]) => (columns.has(name) ? [[name, text(value)]] : [])));
}

const mayTravel = (rules: TableRules): boolean =>
  rules.hasRowGroups || rules.class === 'authored' || rules.class === 'collected';

/** Text columns that are rewritten on the way down and cannot hold everything. */
function limitedColumns(shape: TableShape, rules: TableRules): LimitedColumn[] {
  return shape.columns.flatMap((column) => {
    const treatment = rules.columns.find((one) => one.name === column.name);
    const isMasked = treatment?.mask !== undefined && treatment.mask !== 'keep';
    const isChecked = shape.checks.some((one) => one.columns.includes(column.name));
    if (!column.isText || column.generated || !treatment?.rewrite || isMasked) return [];
    if (column.maxLength === undefined && !isChecked) return [];
    // What a check makes of its length nobody knows.
    return [{ name: column.name, maxLength: isChecked ? undefined : column.maxLength }];
  });
}

const locations = (place: Place): Location[] => place.addresses.flatMap((one) => [one, ...one.aliases]);

/** A scheme with an `s`, and the longest port, where there was none. */
const MORE_AROUND_HOST = 's:65535'.length;

/** How many characters an address or a path may grow by when it is written elsewhere, at the most. */
function growth(from: Place, to: Place): number {
  const hosts = (place: Place): number[] => locations(place).map(({ host, path }) => host.length + path.length);
  const roots = (place: Place): number[] => place.roots.map((root) => root.path.length);
  return Math.max(
    0,
    Math.max(...hosts(to)) - Math.min(...hosts(from)) + MORE_AROUND_HOST,
    Math.max(...roots(to)) - Math.min(...roots(from)),
  );
}

/** Words that an address or path of a place has in it. */
const wordsOf = (place: Place): string[] =>
  [
    ...new Set([
      ...locations(place).map((one) => one.host),
      ...place.roots.map((root) => toText(root.path).split('/').at(-1)?.toLowerCase() ?? ''),
    ]),
  ].filter((word) => word !== '');

/** What the rows of a copy would hold, as far as it differs. */
function rewritten(
  rows: readonly (string | null)[][],
  shape: TableShape,
  rules: TableRules,
  source: Environment,
  destination: Environment,
): WrittenRow[] {
  const columns = readable(shape).map((column) => column.name);
  const lines = new LineRewriter(new Rewriter(source.place), rules.columns);
  const there = rewriterOf(destination);
  return rows.flatMap((row): WrittenRow[] => {
    const before = row.map((value) => (value === null ? null : toBytes(value)));
    const rowClass = rules.classOf(before);
    if (rowClass !== 'authored' && rowClass !== 'collected') return [];
    const after = lines.rewriteRow(before, there);
    const changed = columns.flatMap((name, i) =>
      after[i] === before[i] ? [] : [[name, after[i] === null ? null : toText(after[i] as ByteString)] as const],
    );
    if (changed.length === 0) return [];
    const key = shape.key.map((name) => row[columns.indexOf(name)] ?? null);
    return [{ op: 'update', key, cells: Object.fromEntries(changed) }];
  });
}
