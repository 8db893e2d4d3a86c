import {
  type ByteString,
  type Comparison,
  checkProfile,
  compareTables,
  type DestinationFacts,
  freshKeysOf,
  type ImageEdit,
  type KeyPair,
  keyText,
  type MergePlan,
  type MergeRules,
  type MergeTable,
  planMerge,
  type RowChange,
  type RowOutcome,
  rulesForTable,
  type Settled,
  settle,
  type TableRows,
  tableId,
  type Values,
  type Wishes,
  writeLine,
} from '../src/index.js';

/** A small site in memory: pages with dependants, tags, collected visits; and what is needed to move work between copies. */

const checked = checkProfile(`tessarion: profile/1
name: x
title: x
areas: [{ name: all, path: ., class: authored }]
databases:
  main:
    tables:
      page:
        class: authored
        natural-key: [slug]
        columns: { stock: { class: collected }, author: { personal: mail } }
      part: { class: authored }
      tag: { class: authored }
      link: { class: authored }
      visit:
        class: collected
        columns: { mail: { personal: mail } }
`);
if (!checked.ok) throw new Error('profile');

const SHAPES = {
  page: { columns: ['id', 'slug', 'title', 'body', 'parent', 'stock', 'author'], key: ['id'], draws: true },
  part: { columns: ['id', 'page_id', 'text'], key: ['id'], draws: true },
  tag: { columns: ['name', 'label'], key: ['name'], draws: false },
  link: { columns: ['page_id', 'tag', 'weight'], key: ['page_id', 'tag'], draws: false },
  visit: { columns: ['id', 'page_id', 'mail'], key: ['id'], draws: true },
} as const;
export type TableName = keyof typeof SHAPES;
export const TABLES = Object.keys(SHAPES) as TableName[];

export const inMain = (name: string) => ({ database: 'main', schema: 'public', name });

const id = (table: TableName): string => tableId(inMain(table));

const USES: Record<TableName, readonly (readonly [string, TableName])[]> = {
  page: [
    ['id', 'page'],
    ['parent', 'page'],
  ],
  part: [
    ['id', 'part'],
    ['page_id', 'page'],
  ],
  tag: [['name', 'tag']],
  link: [
    ['page_id', 'page'],
    ['tag', 'tag'],
  ],
  visit: [
    ['id', 'visit'],
    ['page_id', 'page'],
  ],
};

export const references = (table: TableName): { column: string; to: TableName }[] =>
  USES[table]
    .filter(([column, to]) => !(column === 'id' || (table === 'tag' && to === 'tag')))
    .map(([column, to]) => ({ column, to }));

export const MERGE_TABLES = Object.fromEntries(
  TABLES.map((name): [TableName, MergeTable] => {
    const { columns, key, draws } = SHAPES[name];
    const rules = rulesForTable(checked.profile, inMain(name), columns);
    return [
      name,
      {
        name: inMain(name),
        id: id(name),
        columns,
        key,
        keyOrders: key.map((one) => (one === 'id' || one === 'page_id' ? ('integer' as const) : ('bytes' as const))),
        rules,
        uses: USES[name].map(([column, to]) => ({
          column: (columns as readonly string[]).indexOf(column),
          table: id(to),
        })),
        naturalKey: name === 'page' ? [1] : [],
        drawsKeys: draws,
        hasBaseline: true,
        stamps: [],
        uniques: name === 'page' ? [[1]] : [],
      },
    ];
  }),
) as Record<TableName, MergeTable>;

/** A row by column name; `uid` says which thing it is, and no database knows it. */
export interface Row {
  readonly uid: number;
  readonly values: Readonly<Record<string, string | null>>;
}

export interface Site {
  readonly tables: Record<TableName, Map<string, Row>>;
  readonly counters: Record<TableName, number>;
}

export const emptySite = (): Site => ({
  tables: Object.fromEntries(TABLES.map((name) => [name, new Map<string, Row>()])) as Site['tables'],
  counters: Object.fromEntries(TABLES.map((name) => [name, 0])) as Site['counters'],
});

export const columnsOf = (table: TableName): readonly string[] => SHAPES[table].columns;
export const keyColumnsOf = (table: TableName): readonly string[] => SHAPES[table].key;
export const keyOfRow = (table: TableName, values: Row['values']): string =>
  keyText(SHAPES[table].key.map((name) => values[name] ?? null));

const ordered = (table: TableName, rows: Iterable<Values>): Values[] => {
  const at = SHAPES[table].key.map((name) => (SHAPES[table].columns as readonly string[]).indexOf(name));
  return [...rows].sort((a, b) => {
    for (const [n, i] of at.entries()) {
      const [x, y] = [a[i] as string, b[i] as string];
      if (x === y) continue;
      return MERGE_TABLES[table].keyOrders[n] === 'integer' ? Number(x) - Number(y) : x < y ? -1 : 1;
    }
    return 0;
  });
};

export async function* lines(table: TableName, rows: Iterable<Values>): AsyncGenerator<ByteString> {
  for (const row of ordered(table, rows)) yield `${writeLine(row)}\n`;
}

const valuesOf = (table: TableName, row: Row): Values => SHAPES[table].columns.map((name) => row.values[name] ?? null);

export type Image = Record<TableName, Map<string, Values>>;

export const imageOf = (site: Site): Image =>
  Object.fromEntries(
    TABLES.map((name) => [name, new Map([...site.tables[name]].map(([key, row]) => [key, valuesOf(name, row)]))]),
  ) as Image;

/** What two environments had in common, as it is kept in the records. */
export interface Pair {
  readonly lower: Image;
  readonly upper: Image;
  readonly keys: Map<string, { table: string; lower: ByteString; upper: ByteString }>;
}

export const maskMail =
  (key: string) =>
  (value: ByteString | null): ByteString | null =>
    value === null ? null : `masked ${key} ${value}`;

export interface Run {
  readonly comparison: Comparison;
  readonly settled: Settled;
  readonly plan: MergePlan | undefined;
  /** Keys that were drawn, by what stood for them. */
  readonly drawn?: ReadonlyMap<ByteString, ByteString>;
}

const nameOf = (table: MergeTable): TableName => table.name.name as TableName;

export interface TransferWishes {
  readonly direction: 'up' | 'down';
  readonly maskKey: string;
  readonly wishes: (comparison: Comparison) => Wishes;
  readonly itemOf: (outcome: RowOutcome) => string;
}

/** Compares, settles and plans as the service does; draws fresh keys from the destination's counters. */
export async function run(source: Site, destination: Site, pair: Pair | undefined, how: TransferWishes): Promise<Run> {
  const up = how.direction === 'up';
  const merge: MergeRules = {
    method: 'merge',
    direction: how.direction,
    keepsMasked: false,
    mask: (_rule, value) => maskMail(how.maskKey)(value),
  };
  const known: KeyPair[] = [...(pair?.keys.values() ?? [])].map(({ table, lower, upper }) =>
    up ? { table, from: lower, to: upper } : { table, from: upper, to: lower },
  );
  const tables = TABLES.filter((name) => name !== 'visit' || !up).map((name) => ({
    table: MERGE_TABLES[name],
    open: (): TableRows => ({
      source: lines(
        name,
        [...source.tables[name].values()].map((row) => valuesOf(name, row)),
      ),
      destination: lines(
        name,
        [...destination.tables[name].values()].map((row) => valuesOf(name, row)),
      ),
      baseline: pair && {
        source: lines(name, (up ? pair.lower : pair.upper)[name].values()),
        destination: lines(name, (up ? pair.upper : pair.lower)[name].values()),
      },
    }),
  }));
  const comparison = await compareTables(tables, merge, known);
  const facts: DestinationFacts = {
    async referrers(table, keys) {
      if (nameOf(table) !== 'page' || !up) return [];
      return keys.flatMap((key) => {
        const rows = [...destination.tables.visit.values()].filter((row) => row.values.page_id === key).length;
        return rows > 0 ? [{ key, table: inMain('visit'), rows }] : [];
      });
    },
    async holders(table, columns, values) {
      const wanted = new Set(values.map((one) => JSON.stringify(one)));
      return [...destination.tables[nameOf(table)].values()].flatMap((row) => {
        const all = valuesOf(nameOf(table), row);
        const held = columns.map((i) => all[i] ?? null);
        return wanted.has(JSON.stringify(held)) ? [{ values: held, row: all }] : [];
      });
    },
  };
  const settled = await settle(comparison, merge, how.wishes(comparison), facts, how.itemOf);
  const written = new Set(settled.written);
  if (settled.collisions.some((one) => written.has(one.outcome) && !one.settled))
    return { comparison, settled, plan: undefined };
  const drawn = new Map(
    freshKeysOf(comparison, settled).map(({ placeholder, table, avoid }) => {
      const name = nameOf(table);
      do destination.counters[name]++;
      while (avoid.has(String(destination.counters[name])));
      return [placeholder, String(destination.counters[name])];
    }),
  );
  return { comparison, settled, drawn, plan: planMerge(comparison, settled, merge, known, drawn) };
}

/** Applies changes as the database would: in one go, refusing whatever is not as it was compared. */
export function apply(
  site: Site,
  changes: readonly RowChange[],
  uidOf: (table: TableName, change: RowChange) => number,
): void {
  const next = Object.fromEntries(TABLES.map((name) => [name, new Map(site.tables[name])])) as Site['tables'];
  for (const change of changes) {
    const name = change.table.slice('public.'.length) as TableName;
    const key = keyText(change.key);
    const row = site.tables[name].get(key);
    if (change.op === 'insert') {
      if (row) throw new Error(`${name} ${key} is there already`);
      next[name].set(key, { uid: uidOf(name, change), values: change.row });
      if (SHAPES[name].draws) site.counters[name] = Math.max(site.counters[name], Number(change.key[0]));
      continue;
    }
    if (!row) throw new Error(`${name} ${key} is gone`);
    if (change.op === 'delete') {
      next[name].delete(key);
      continue;
    }
    const values = { ...row.values };
    for (const [column, { before, after }] of Object.entries(change.cells)) {
      if (values[column] !== before) throw new Error(`${name} ${key}.${column} holds ${values[column]}, not ${before}`);
      values[column] = after;
    }
    next[name].set(key, { uid: uidOf(name, change), values });
  }
  for (const name of TABLES) site.tables[name] = next[name];
}

export function applyEdits(image: Image, edits: readonly ImageEdit[]): void {
  for (const { table, key, values } of edits) {
    const rows = image[nameOf(table)];
    if (values) rows.set(keyText(key), values);
    else rows.delete(keyText(key));
  }
}
