import { type Lookup, speaksOf, type TableFacts, tableLabel, tablePath } from '@tessarion/core';
import type { Questions, SiteDatabase } from '../ports/database.js';
import { plainUniques, type TableShape } from '../ports/shapes.js';

/** Rows that a table had when a snapshot was taken, by database and table as profiles call it. */
export interface TableHistory {
  readonly at: string;
  readonly rows: ReadonlyMap<string, number>;
}

const SAMPLES = 200;
const SAMPLE_LENGTH = 4000;
/** Distinct values of a column that are looked up. */
const LOOKED_UP = 500;
/** Roles in which people are referred to. */
const PEOPLE = /^(author|owner|creator|editor|assignee|user|uid|created_by|updated_by|modified_by)(_?id)?$/i;
const PEOPLE_TABLES = /(^|_)(user|account|member|author|editor)s?$/i;

/** Looks at the tables of a database: their make, samples of their values, and where those stand as keys. */
export async function lookAtTables(database: SiteDatabase, history: readonly TableHistory[]): Promise<TableFacts[]> {
  const questions = await database.system.ask(database, 'profile');
  try {
    const counts = await questions.counts();
    const tables: TableFacts[] = [];
    for (const shape of questions.schema.tables) {
      const samples = await questions.samples(shape, SAMPLES, SAMPLE_LENGTH);
      const count = counts.get(tablePath(shape));
      tables.push({
        name: tableLabel(shape),
        columns: shape.columns.map((column) => ({
          name: column.name,
          type: column.type,
          isText: column.isText,
          isNullable: samples.nullable.has(column.name),
          samples: samples.values.get(column.name) ?? [],
        })),
        key: shape.key,
        drawsKey: shape.drawsKey,
        uniques: plainUniques(shape),
        references: shape.references
          .filter((one) => one.columns.length === 1)
          .map(({ columns, table, targetColumns }) => ({
            column: columns[0] as string,
            table: tableLabel(table),
            target: targetColumns[0] as string,
          })),
        rows: Math.max(count?.rows ?? 0, samples.rows),
        written: count && { inserted: count.inserted, updated: count.updated, deleted: count.deleted },
        history: history.flatMap(({ at, rows }) => {
          const found = rows.get(`${shape.database}/${tableLabel(shape)}`);
          return found === undefined ? [] : [{ at, rows: found }];
        }),
        lookups: await lookupsOf(questions, shape, samples.values),
      });
    }
    return tables;
  } finally {
    await questions.close();
  }
}

/**
 * Samples of the values that tables' columns hold, as text, by their names; null and bytes are left out.
 *
 * @throws {EngineError}
 */
export async function sampleValues(
  database: SiteDatabase,
  shapes: readonly TableShape[],
): Promise<ReadonlyMap<TableShape, ReadonlyMap<string, readonly string[]>>> {
  const questions = await database.system.ask(database, 'samples');
  try {
    const found = new Map<TableShape, ReadonlyMap<string, readonly string[]>>();
    for (const shape of shapes) found.set(shape, (await questions.samples(shape, SAMPLES, SAMPLE_LENGTH)).values);
    return found;
  } finally {
    await questions.close();
  }
}

/** A column, or a member of the documents in it, whose name speaks of a table. */
type Candidate = Pick<Lookup, 'column' | 'path' | 'when'> & { readonly target: TableShape };

async function lookupsOf(
  questions: Questions,
  shape: TableShape,
  samples: ReadonlyMap<string, readonly string[]>,
): Promise<Lookup[]> {
  const targets = questions.schema.tables.filter((one) => one.key.length === 1);
  const declared = new Set(shape.references.flatMap((one) => one.columns));
  const lookups: Lookup[] = [];
  for (const column of shape.columns) {
    if (declared.has(column.name) || (shape.key.length === 1 && shape.key[0] === column.name)) continue;
    const candidates = [
      ...named(shape, column.name, targets),
      ...byType(shape, column.name, samples, targets),
      ...(column.isText || /^json/.test(column.type)
        ? inside(column.name, samples.get(column.name) ?? [], targets)
        : []),
    ].filter((one) => one.path !== undefined || isAlike(column.type, keyType(one.target)));
    for (const one of candidates) {
      const found =
        one.path === undefined
          ? await lookUp(questions, shape, one)
          : await lookUpValues(questions, one.target, valuesAt(samples.get(column.name) ?? [], one.path));
      if (found)
        lookups.push({
          column: one.column,
          path: one.path,
          when: one.when,
          table: tableLabel(one.target),
          target: one.target.key[0] as string,
          ...found,
        });
    }
  }
  return lookups;
}

const keyType = (shape: TableShape): string => shape.columns.find((one) => one.name === shape.key[0])?.type ?? '';
const isInteger = (type: string): boolean => /^(smallint|integer|bigint|int\d|numeric)/.test(type);
const isAlike = (a: string, b: string): boolean => isInteger(a) === isInteger(b) || /^(text|character|varchar)/.test(a);

function named(shape: TableShape, column: string, targets: readonly TableShape[]): Candidate[] {
  const words = column.toLowerCase();
  if (words === 'parent_id' || words === 'parent')
    return targets.includes(shape) ? [{ column, path: undefined, when: undefined, target: shape }] : [];
  const own = targets.filter((target) => speaksOf(column, target.name));
  const people = own.length === 0 && PEOPLE.test(column) ? targets.filter((one) => PEOPLE_TABLES.test(one.name)) : [];
  // A key that goes by its own name on both sides is told by the table that it belongs to.
  const longest = [...own, ...people].sort((a, b) => a.name.length - b.name.length)[0];
  return longest ? [{ column, path: undefined, when: undefined, target: longest }] : [];
}

/** A number that stands for something else by what a column beside it says, such as `owner_type` and `owner_id`. */
function byType(
  shape: TableShape,
  column: string,
  samples: ReadonlyMap<string, readonly string[]>,
  targets: readonly TableShape[],
): Candidate[] {
  const base = /^(.*?)_?id$/i.exec(column)?.[1];
  if (base === undefined || base === '') return [];
  const beside = shape.columns.find((one) =>
    [`${base}_type`, `${base}_table`, `${base}_kind`, `${base}type`].includes(one.name.toLowerCase()),
  );
  if (!beside) return [];
  return [...new Set(samples.get(beside.name) ?? [])].slice(0, 20).flatMap((value) => {
    const name = value.split(/[\\/:.]/).at(-1) ?? value;
    const target = targets.find((one) => speaksOf(`${name}_id`, one.name));
    return target ? [{ column, path: undefined, when: { column: beside.name, value }, target }] : [];
  });
}

/** Members of documents whose names speak of tables, by path. */
function inside(column: string, samples: readonly string[], targets: readonly TableShape[]): Candidate[] {
  const paths = new Map<string, TableShape>();
  for (const document of samples.slice(0, 100)) {
    for (const { path, name } of membersOf(document)) {
      if (paths.has(path)) continue;
      const target = targets.find((one) => speaksOf(/id$/i.test(name) ? name : `${name}_id`, one.name));
      if (target) paths.set(path, target);
    }
  }
  return [...paths].map(([path, target]) => ({ column, path, when: undefined, target }));
}

interface Member {
  readonly path: string;
  readonly name: string;
  readonly value: string;
}

/** Numbers in a JSON document, with their paths; a list's own numbers go by the name of the list. */
function membersOf(text: string): Member[] {
  if (!/^\s*[[{]/.test(text)) return [];
  let document: unknown;
  try {
    document = JSON.parse(text);
  } catch {
    return [];
  }
  const found: Member[] = [];
  const walk = (value: unknown, path: string, name: string, depth: number): void => {
    if (depth > 8) return;
    if (Array.isArray(value)) for (const one of value) walk(one, `${path}[*]`, name, depth + 1);
    else if (typeof value === 'object' && value !== null) {
      for (const [key, inner] of Object.entries(value))
        if (/^[A-Za-z_]\w*$/.test(key)) walk(inner, `${path}.${key}`, key, depth + 1);
    } else if (/^[1-9]\d{0,17}$/.test(String(value)) && name !== '') found.push({ path, name, value: String(value) });
  };
  walk(document, '$', '', 0);
  return found;
}

const valuesAt = (samples: readonly string[], path: string): string[] => [
  ...new Set(samples.flatMap((text) => membersOf(text).flatMap((one) => (one.path === path ? [one.value] : [])))),
];

/** How many distinct values of a column stand as keys in another table. */
async function lookUp(
  questions: Questions,
  shape: TableShape,
  { column, when, target }: Candidate,
): Promise<{ asked: number; found: number } | undefined> {
  const values = await questions.differentValues(shape, column, when, LOOKED_UP);
  return values && lookUpValues(questions, target, values);
}

async function lookUpValues(
  questions: Questions,
  target: TableShape,
  values: readonly string[],
): Promise<{ asked: number; found: number } | undefined> {
  const wanted = values.slice(0, LOOKED_UP);
  if (wanted.length === 0) return { asked: 0, found: 0 };
  const found = await questions.countKeys(target, wanted);
  return found === undefined ? undefined : { asked: wanted.length, found };
}
