import {
  addTo,
  type ByteString,
  type Change,
  type Comparison,
  calledIn,
  compareFiles,
  compareKeys,
  compareTables,
  type DataClass,
  type FileChange,
  type FileOutcome,
  type FileState,
  formerRows,
  keysIn,
  keyText,
  leavingRows,
  type MergeRules,
  type MergeTable,
  type Note,
  type OwnChange,
  Rewriter,
  type RowChange,
  type RowKey,
  readLine,
  readTableId,
  referringRows,
  type TableRows,
  type TableToCompare,
  tableId,
  tableOf,
  type Values,
  writeLine,
} from '@tessarion/core';
import type { DatabaseView, Questions, SiteDatabase } from '../ports/database.js';
import { type CanonicalTable, canonicalTable } from '../site/canonical-rows.js';
import { areasOf, type Environment } from '../site/environment.js';
import { type HashMemory, listFiles } from '../site/list-root.js';
import { rowsWhere } from '../site/rows-where.js';
import type { PackStore } from '../store/pack-store.js';
import { askDestination } from './destination-facts.js';
import { triggersOf } from './environments.js';
import { describeUses, mergeTable } from './merge-tables.js';
import { mergeTexts } from './merge-texts.js';
import type { EnvironmentComparison } from './plan.js';

/** What is needed to compare an environment with what it was before a transfer. */
export interface UndoPlan {
  readonly destination: Environment;
  /** What the transfer wrote, as it turned out. */
  readonly changes: readonly Change[];
  /** Which way the transfer went. */
  readonly direction: 'up' | 'down';
  readonly store: PackStore;
  readonly memory: HashMemory | undefined;
  readonly profileVersion: string;
}

/** An undo's comparison, and the changes that cannot be taken back, since their rows or tables are gone. */
export type UndoComparison = EnvironmentComparison & { readonly gone: readonly RowChange[] };

/**
 * Compares what an environment holds with what a transfer made of it, and with what it was before: the taking back of
 * a transfer is a merge of its own changes alone. Read only; its cost grows with the change.
 */
export async function compareWithFormer(plan: UndoPlan): Promise<UndoComparison> {
  const { destination, direction } = plan;
  // What came down masked is masked on both sides of this comparison.
  const merge: MergeRules = { method: 'merge', direction, keepsMasked: false, mask: (_rule, value) => value };
  const notes: Note[] = [];
  const gone: RowChange[] = [];
  const changes = plan.changes.filter((one): one is RowChange => one.part === 'row');
  const open: OpenDatabase[] = [];
  try {
    for (const database of destination.databases) open.push(await openDatabase(database));
    const found = await new FormerTables(destination, open, changes, notes, gone).read();
    const compared = await compareTables(found.tables, merge, []);
    const rows: Comparison = {
      ...compared,
      ownChanges: [...compared.ownChanges, ...found.referring],
      lacking: [...compared.lacking, ...found.lacking],
    };
    const files: FileOutcome[] = [];
    for (const root of destination.place.roots) files.push(...(await compareFormerFiles(plan, root.name)));
    const schemas = new Map(open.map(({ name, view }) => [name, view.schema]));
    const facts = askDestination(destination, schemas, 'up', found.leaving);
    return {
      merge,
      rows,
      files,
      notes,
      facts,
      schema: [],
      reshaped: [],
      triggers: triggersOf(schemas),
      standing: undefined,
      gone,
    };
  } finally {
    for (const { view, questions } of open) await Promise.all([view.close(), questions.close()]);
  }
}

/** A database, open for reading it whole, and for looking rows up. */
interface OpenDatabase {
  readonly name: string;
  readonly view: DatabaseView;
  readonly questions: Questions;
}

async function openDatabase(database: SiteDatabase): Promise<OpenDatabase> {
  const view = await database.system.view(database);
  try {
    return { name: database.name, view, questions: await database.system.ask(database, 'compare') };
  } catch (error) {
    await view.close();
    throw error;
  }
}

interface OpenTable {
  readonly canonical: CanonicalTable;
  readonly table: MergeTable;
  /** On its database. */
  readonly questions: Questions;
}

interface FormerSites {
  readonly tables: TableToCompare[];
  readonly lacking: Comparison['lacking'];
  readonly referring: OwnChange[];
  /** By {@link tableId}, see {@link leavingRows}. */
  readonly leaving: ReadonlyMap<string, RowKey[]>;
}

/** The tables that a transfer wrote, and the rows that refer to what it made. */
class FormerTables {
  /** By {@link tableId}. */
  readonly #written = new Map<string, RowChange[]>();

  constructor(
    readonly environment: Environment,
    readonly databases: readonly OpenDatabase[],
    changes: readonly RowChange[],
    readonly notes: Note[],
    readonly gone: RowChange[],
  ) {
    for (const change of changes) addTo(this.#written, tableId(tableOf(change)), change);
  }

  async read(): Promise<FormerSites> {
    const { environment } = this;
    if (this.#written.size === 0) return { tables: [], lacking: [], referring: [], leaving: new Map() };
    const open = this.databases.flatMap(({ view, questions }) =>
      view.schema.tables.map((shape) => {
        const canonical = canonicalTable(environment, view, shape, new Rewriter(environment.place));
        // Rows keep the keys that they had.
        const table = { ...mergeTable(environment, canonical, true), drawsKeys: false };
        const rows: TableRows = { source: none(), destination: none(), baseline: undefined };
        return { canonical, table, questions, open: () => rows };
      }),
    );
    const shapes = this.databases.flatMap(({ view }) => view.schema.tables);
    const described = describeUses(
      environment,
      shapes.map((shape) => ({ shape, isThere: true })),
      open,
    );
    this.#noteLost(described);
    const going = new Map<string, Set<ByteString>>();
    const former: { table: MergeTable; rows: Values[] }[] = [];
    const tables: TableToCompare[] = [];
    const sides = new Map<OpenTable, ReturnType<typeof formerRows>>();
    for (const one of described) {
      const changes = this.#written.get(one.table.id) ?? [];
      if (changes.length === 0) continue;
      const rows = await this.#sidesOf(one, changes);
      sides.set(one, rows);
      this.gone.push(...rows.gone);
      former.push({ table: one.table, rows: [...rows.source] });
      const made = changes.filter((change) => change.op === 'insert' && change.key.length === 1);
      going.set(one.table.id, new Set(made.flatMap(({ key }) => (typeof key[0] === 'string' ? [key[0]] : []))));
    }
    for (const one of described) {
      const own = sides.get(one);
      const more = await this.#referrers(one, going, own?.destination ?? []);
      if (!own && more.length === 0) continue;
      const lines = (rows: readonly Values[]): AsyncIterable<ByteString> => sorted(one.table, rows);
      const baseline = lines(own?.baseline ?? []);
      tables.push({
        table: one.table,
        open: () => ({
          source: lines(own?.source ?? []),
          destination: lines([...(own?.destination ?? []), ...more]),
          baseline: { source: baseline, destination: baseline },
        }),
      });
    }
    const leaving = new Map([...sides].map(([{ table }, rows]) => [table.id, leavingRows(table, rows, going)]));
    const referring = [...sides].flatMap(([{ table }, rows]) => referringRows(table, rows, going));
    return { tables, lacking: await this.#lacking(described, former), referring, leaving };
  }

  /** Tables and columns that were written and are no more. */
  #noteLost(open: readonly OpenTable[]): void {
    for (const [id, changes] of this.#written) {
      const table = open.find((one) => one.table.id === id)?.table;
      const label = calledIn(this.environment.profile, readTableId(id));
      if (!table) {
        this.notes.push({ type: 'schema', table: label, message: `the table ${label} is gone` });
        continue;
      }
      const columns = new Set(
        changes.flatMap((change) => Object.keys(change.op === 'update' ? change.cells : change.row)),
      );
      const lost = [...columns].filter((column) => !table.columns.includes(column));
      if (lost.length > 0)
        this.notes.push({ type: 'schema', table: label, message: `${label} has no ${lost.join(', ')} any more` });
    }
  }

  async #sidesOf(
    { canonical, table, questions }: OpenTable,
    changes: readonly RowChange[],
  ): Promise<ReturnType<typeof formerRows>> {
    const { shape } = canonical;
    const current = new Map<string, Values[]>();
    const add = (key: RowKey, values: Values): void => {
      const at = keyText(key);
      addTo(current, at, values);
    };
    const isKeyed = table.key.length > 0;
    if (isKeyed) {
      const keys = changes.map((change) => change.key);
      for (const values of await rowsWhere(questions, this.environment, shape, table.key, keys))
        add(
          table.key.map((name) => values[table.columns.indexOf(name)] ?? null),
          values,
        );
    } else {
      const wanted = new Set(changes.map((change) => change.key[0]));
      for await (const batch of canonical.rows())
        for (const line of linesOf(batch)) if (wanted.has(line)) add([line], readLine(line));
    }
    return formerRows(table.columns, isKeyed, changes, (key) => current.get(keyText(key)) ?? []);
  }

  /** Authored rows that others made or changed, and that refer to something which the transfer made. */
  async #referrers(
    { canonical, table, questions }: OpenTable,
    going: ReadonlyMap<string, ReadonlySet<ByteString>>,
    own: readonly Values[],
  ): Promise<Values[]> {
    if (table.rules.class !== 'authored' || table.key.length === 0) return [];
    const uses = table.uses.filter((use) => (going.get(use.table)?.size ?? 0) > 0);
    const known = new Set(own.map((values) => keyText(keyOfRow(table, values))));
    const found = new Map<string, Values>();
    const isOwnKey = (column: number): boolean => table.key.length === 1 && table.columns[column] === table.key[0];
    const add = (values: Values): void => {
      const at = keyText(keyOfRow(table, values));
      const refers = [...keysIn(table, values)].some((one) => going.get(one.table)?.has(one.key));
      if (refers && !known.has(at)) found.set(at, values);
    };
    for (const use of uses) {
      if (use.inside || isOwnKey(use.column)) continue;
      const wanted = [...(going.get(use.table) as ReadonlySet<ByteString>)].map((key) => [key]);
      const column = table.columns[use.column] as string;
      const rows = await rowsWhere(questions, this.environment, canonical.shape, [column], wanted);
      for (const values of rows) add(values);
    }
    // Keys inside values can only be found by reading them.
    if (uses.some((use) => use.inside))
      for await (const batch of canonical.rows()) for (const line of linesOf(batch)) add(readLine(line));
    return [...found.values()];
  }

  /** What former rows refer to and what is not there any more. */
  async #lacking(
    open: readonly OpenTable[],
    former: readonly { readonly table: MergeTable; readonly rows: readonly Values[] }[],
  ): Promise<Comparison['lacking']> {
    const wanted = new Map<string, Set<ByteString>>();
    for (const { table, rows } of former)
      for (const values of rows)
        for (const { table: target, key } of keysIn(table, values))
          wanted.set(target, (wanted.get(target) ?? new Set()).add(key));
    const lacking: { table: MergeTable; key: RowKey }[] = [];
    for (const { canonical, table, questions } of open) {
      const keys = [...(wanted.get(table.id) ?? [])];
      const column = table.columns.indexOf(table.key[0] as string);
      const rows = await rowsWhere(
        questions,
        this.environment,
        canonical.shape,
        table.key,
        keys.map((key) => [key]),
      );
      const there = new Set(rows.map((values) => values[column]));
      for (const { table: of, rows: comes } of former)
        if (of.id === table.id) for (const values of comes) there.add(values[column]);
      for (const key of keys) if (!there.has(key)) lacking.push({ table, key: [key] });
    }
    return lacking;
  }
}

const keyOfRow = (table: MergeTable, values: Values): RowKey =>
  table.key.map((name) => values[table.columns.indexOf(name)] ?? null);

const linesOf = (batch: ByteString): string[] => batch.slice(0, -1).split('\n');

async function* none(): AsyncGenerator<ByteString> {}

/** Rows in the order of their keys, as batches of lines; can be read more than once. */
function sorted(table: MergeTable, rows: readonly Values[]): AsyncIterable<ByteString> {
  const isKeyed = table.key.length > 0;
  const orders = isKeyed ? table.keyOrders : (['bytes'] as const);
  const keyed = rows.map((values) => {
    const line = writeLine(values);
    return { line, key: isKeyed ? keyOfRow(table, values) : [line] };
  });
  keyed.sort((a, b) => compareKeys(a.key, b.key, orders));
  return {
    async *[Symbol.asyncIterator]() {
      if (keyed.length > 0) yield keyed.map(({ line }) => `${line}\n`).join('');
    },
  };
}

async function compareFormerFiles(plan: UndoPlan, root: string): Promise<FileOutcome[]> {
  const { destination, direction } = plan;
  const changes = plan.changes.filter((one): one is FileChange => one.part === 'file' && one.root === root);
  if (changes.length === 0) return [];
  const classes: ReadonlySet<DataClass> = new Set(direction === 'down' ? ['authored', 'collected'] : ['authored']);
  const { files: listed } = await listFiles(
    destination,
    root,
    new Rewriter(destination.place),
    plan.memory,
    plan.profileVersion,
    classes,
  );
  const states = (of: (change: FileChange) => FileState | undefined): Map<ByteString, FileState> =>
    new Map(
      changes.flatMap((change) => {
        const state = of(change);
        return state && state.type !== 'absent' ? [[change.path, state] as const] : [];
      }),
    );
  const made = states((change) => change.after);
  const outcomes = compareFiles(
    root,
    areasOf(destination.profile),
    {
      source: states((change) => change.before),
      destination: states((change) => listed.get(change.path)),
      baseline: { source: made, destination: made },
    },
    { method: 'merge', classes },
    () => false,
  );
  return mergeTexts(plan.store, 'stored', destination, outcomes);
}
