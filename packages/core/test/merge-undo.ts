import {
  type ByteString,
  type Comparison,
  compareTables,
  type DestinationFacts,
  formerRows,
  type ImageEdit,
  imageRowAfterUndo,
  type KeyPair,
  keysIn,
  keyText,
  leavingRows,
  type MergeRules,
  type MergeTable,
  planMerge,
  type RowChange,
  type RowKey,
  referringRows,
  type Settlement,
  settle,
  type Values,
} from '../src/index.js';
import {
  apply,
  columnsOf,
  type Image,
  inMain,
  lines,
  MERGE_TABLES,
  type Row,
  type Site,
  TABLES,
  type TableName,
} from './merge-world.js';
import { expect } from './support.js';

type View = Readonly<Record<string, string | null>>;
interface Common {
  lower: View | undefined;
  upper: View | undefined;
}

/** A transfer that was done, with what its undo needs. */
export interface Done {
  readonly up: boolean;
  readonly changes: readonly RowChange[];
  readonly source: readonly ImageEdit[];
  readonly destination: readonly ImageEdit[];
  readonly pairs: readonly KeyPair[];
  /** The pair's images before it. */
  readonly images: { readonly lower: Image; readonly upper: Image };
  /** Which things stood where it wrote. */
  readonly uids: ReadonlyMap<string, number>;
  commonBefore: Map<string, Common>;
  commonAfter: Map<string, Common>;
}

interface UndoWorld {
  readonly lower: Site;
  readonly upper: Site;
  readonly pair: { lower: Image; upper: Image; keys: Map<string, unknown> } | undefined;
  common: Map<string, Common>;
  done: Done[];
  identify(site: Site, table: TableName, row: Row): string;
  newUid(): number;
}

export const copyOfImage = (image: Image | undefined): Image =>
  Object.fromEntries(TABLES.map((name) => [name, new Map(image?.[name] ?? [])])) as Image;

const nameOf = (table: MergeTable): TableName => table.name.name as TableName;
const nameIn = (change: { readonly table: string }): TableName => change.table.slice('public.'.length) as TableName;
const valuesOf = (table: TableName, row: Row): Values => columnsOf(table).map((name) => row.values[name] ?? null);

/** Takes back one of the transfers that were done, and checks that nothing but its own changes is touched. */
export async function undo(world: UndoWorld, which: number): Promise<void> {
  const one = world.done[which % Math.max(1, world.done.length)];
  if (!one || !world.pair) return;
  const site = one.up ? world.upper : world.lower;
  const before = Object.fromEntries(TABLES.map((name) => [name, new Map(site.tables[name])])) as Site['tables'];
  const { comparison, isAlone, leaving } = await compareUndo(site, one);
  const merge: MergeRules = {
    method: 'merge',
    direction: one.up ? 'up' : 'down',
    keepsMasked: false,
    mask: (_, value) => value,
  };
  const settlements = new Map<string, Settlement>();
  const wishes = { isChosen: () => true, settlements, rest: 'destination' as const };
  const facts = factsOf(site, leaving);
  const settled = await settle(
    comparison,
    merge,
    wishes,
    facts,
    (outcome) => `${outcome.table.id} ${keyText(outcome.key)}`,
  );
  expect(settled.collisions.filter((each) => !each.settled)).toEqual([]);
  const plan = planMerge(comparison, settled, merge, [], new Map());
  const taken = plan.changes.map(({ change }) => change);
  apply(site, taken, (name, change) => one.uids.get(`${name} ${keyText(change.key)}`) ?? world.newUid());

  // Nothing but the transfer's own changes is taken back, and only where nobody changed them since.
  const changes = new Map(one.changes.map((change) => [`${nameIn(change)} ${keyText(change.key)}`, change]));
  for (const name of TABLES)
    for (const key of new Set([...before[name].keys(), ...site.tables[name].keys()])) {
      const change = changes.get(`${name} ${key}`);
      const [was, is] = [before[name].get(key)?.values, site.tables[name].get(key)?.values];
      if (JSON.stringify(was) === JSON.stringify(is)) continue;
      expect(change, `${name} ${key} is none of the transfer's`).toBeDefined();
      if (!change) continue;
      const follows = (column: string): boolean =>
        !one.up &&
        (name === 'visit' ||
          MERGE_TABLES[name].rules.columns.find((rule) => rule.name === column)?.class === 'collected');
      if (change.op === 'insert') {
        expect(is, `${name} ${key} was made by it`).toBeUndefined();
        for (const column of columnsOf(name))
          if (!follows(column))
            expect(was?.[column], `${name} ${key}.${column} was changed since`).toBe(change.row[column] ?? null);
      } else if (change.op === 'delete') {
        expect([was === undefined || follows('id'), is]).toEqual([true, change.row]);
      } else
        for (const column of columnsOf(name)) {
          if (was?.[column] === is?.[column]) continue;
          const cell = change.cells[column];
          expect(is?.[column], `${name} ${key}.${column}`).toBe(cell?.before);
          if (!follows(column)) expect(was?.[column], `${name} ${key}.${column} was changed since`).toBe(cell?.after);
        }
    }
  // Where nothing stands against it, all of it is taken back.
  if (settled.collisions.length === 0 && isAlone)
    for (const change of one.changes) {
      const is = site.tables[nameIn(change)].get(keyText(change.key))?.values;
      if (change.op === 'insert') expect(is, `${change.table} ${change.key} stays`).toBeUndefined();
      else if (change.op === 'delete') expect(is).toEqual(change.row);
      else if (is) for (const [column, cell] of Object.entries(change.cells)) expect(is[column]).toBe(cell.before);
    }
  const slugs = [...site.tables.page.values()].map((row) => row.values.slug);
  expect(new Set(slugs).size).toBe(slugs.length);
  for (const name of TABLES)
    for (const [key, row] of site.tables[name]) {
      if (JSON.stringify(before[name].get(key)?.values) === JSON.stringify(row.values)) continue;
      for (const { table, key: to } of keysIn(MERGE_TABLES[name], valuesOf(name, row)))
        expect(
          site.tables[nameIn({ table: table.slice('main/'.length) })].has(keyText([to])),
          `${name} ${key} refers to ${table} ${to}`,
        ).toBe(true);
    }
  for (const { table, key } of [
    ...comparison.ownChanges,
    ...comparison.outcomes.map(({ table: of, key: at }) => ({ table: of, key: at })),
  ]) {
    const row = site.tables[nameOf(table)].get(keyText(key));
    if (!row || table.name.name === 'visit') continue;
    for (const { table: of, key: to } of keysIn(table, valuesOf(nameOf(table), row)))
      if (before[nameIn({ table: of.slice('main/'.length) })].has(keyText([to])))
        expect(
          site.tables[nameIn({ table: of.slice('main/'.length) })].has(keyText([to])),
          `${table.name.name} ${key} lost ${of} ${to}`,
        ).toBe(true);
  }

  putBack(world, one, taken, before);
  world.done = world.done.filter((each) => each !== one);
  // Asked again at once, nothing is left to do.
  const again = await compareUndo(site, one);
  const left = (
    await settle(again.comparison, merge, wishes, factsOf(site, again.leaving), (outcome) => keyText(outcome.key))
  ).collisions;
  const written = again.comparison.outcomes.filter(
    (outcome) => outcome.decision.is !== 'agreed' && !left.some((each) => each.outcome === outcome),
  );
  expect(written.map((outcome) => [outcome.table.name.name, outcome.key, outcome.decision])).toEqual([]);
}

/** As the engine does it: the rows that the transfer wrote, and the authored ones that refer to what it made. */
async function compareUndo(
  site: Site,
  one: Done,
): Promise<{ comparison: Comparison; isAlone: boolean; leaving: readonly RowKey[] }> {
  const merge: MergeRules = {
    method: 'merge',
    direction: one.up ? 'up' : 'down',
    keepsMasked: false,
    mask: (_, value) => value,
  };
  const going = new Map<string, Set<ByteString>>();
  const sides = new Map<TableName, ReturnType<typeof formerRows>>();
  for (const name of TABLES) {
    const changes = one.changes.filter((change) => nameIn(change) === name);
    if (changes.length === 0) continue;
    const current = (key: RowKey): Values[] => {
      const row = site.tables[name].get(keyText(key));
      return row ? [valuesOf(name, row)] : [];
    };
    sides.set(name, formerRows(columnsOf(name), true, changes, current));
    const made = changes.filter((change) => change.op === 'insert' && change.key.length === 1);
    going.set(MERGE_TABLES[name].id, new Set(made.map((change) => change.key[0] as ByteString)));
  }
  const lacking: { table: (typeof MERGE_TABLES)[TableName]; key: RowKey }[] = [];
  const tables = TABLES.flatMap((name) => {
    const own = sides.get(name);
    const table = { ...MERGE_TABLES[name], drawsKeys: false };
    const known = new Set(one.changes.filter((change) => nameIn(change) === name).map((change) => keyText(change.key)));
    const more =
      name === 'visit'
        ? []
        : [...site.tables[name]].flatMap(([key, row]) =>
            !known.has(key) && [...keysIn(table, valuesOf(name, row))].some((at) => going.get(at.table)?.has(at.key))
              ? [valuesOf(name, row)]
              : [],
          );
    for (const values of own?.source ?? [])
      for (const { table: to, key } of keysIn(table, values)) {
        const target = nameIn({ table: to.slice('main/'.length) });
        const comes = sides.get(target)?.source.some((row) => row[0] === key) === true;
        if (!site.tables[target].has(keyText([key])) && !comes)
          lacking.push({ table: MERGE_TABLES[target], key: [key] });
      }
    if (!own && more.length === 0) return [];
    const baseline = { [Symbol.asyncIterator]: () => lines(name, own?.baseline ?? []) };
    return [
      {
        table,
        open: () => ({
          source: lines(name, own?.source ?? []),
          destination: lines(name, [...(own?.destination ?? []), ...more]),
          baseline: { source: baseline, destination: baseline },
        }),
      },
    ];
  });
  const comparison = await compareTables(tables, merge, []);
  const isAlone = lacking.length === 0 && comparison.ownChanges.length === 0;
  const visits = sides.get('visit');
  const referring = [...sides].flatMap(([name, rows]) =>
    referringRows({ ...MERGE_TABLES[name], drawsKeys: false }, rows, going),
  );
  return {
    comparison: {
      ...comparison,
      ownChanges: [...comparison.ownChanges, ...referring],
      lacking: [...comparison.lacking, ...lacking],
    },
    isAlone,
    leaving: visits ? leavingRows(MERGE_TABLES.visit, visits, going) : [],
  };
}

const factsOf = (site: Site, going: readonly RowKey[]): DestinationFacts => ({
  async referrers(table, keys) {
    if (nameOf(table) !== 'page') return [];
    const leaving = new Set(going.map(keyText));
    return keys.flatMap((key) => {
      const rows = [...site.tables.visit].filter(([at, row]) => row.values.page_id === key && !leaving.has(at)).length;
      return rows > 0 ? [{ key, table: inMain('visit'), rows }] : [];
    });
  },
  async holders(table, columns, values) {
    const wanted = new Set(values.map((value) => JSON.stringify(value)));
    return [...site.tables[nameOf(table)].values()].flatMap((row) => {
      const all = valuesOf(nameOf(table), row);
      const held = columns.map((i) => all[i] ?? null);
      return wanted.has(JSON.stringify(held)) ? [{ values: held, row: all }] : [];
    });
  },
});

/** Both baselines, and what the model takes for common, become what they were for what was taken back. */
function putBack(world: UndoWorld, one: Done, taken: readonly RowChange[], before: Site['tables']): void {
  if (!world.pair) return;
  const { pair } = world;
  const undone = new Map(taken.map((change) => [`${nameIn(change)} ${keyText(change.key)}`, change]));
  const ends = one.up
    ? ([
        [one.source, 'lower'],
        [one.destination, 'upper'],
      ] as const)
    : ([
        [one.source, 'upper'],
        [one.destination, 'lower'],
      ] as const);
  for (const [edits, end] of ends)
    for (const edit of edits) {
      const name = nameOf(edit.table);
      const change = undone.get(`${name} ${keyText(edit.counterpart ?? edit.key)}`);
      if (!change) continue;
      const at = keyText(edit.key);
      const image = pair[end][name];
      const row = imageRowAfterUndo(columnsOf(name), change, one.images[end][name].get(at), edit.values, image.get(at));
      if (row) image.set(at, row);
      else image.delete(at);
    }
  for (const { table, from, to } of one.pairs)
    if (undone.get(`${nameIn({ table: table.slice('main/'.length) })} ${keyText([to])}`)?.op === 'delete')
      pair.keys.delete(`${table} ${one.up ? from : to}`);
  const site = one.up ? world.upper : world.lower;
  for (const [at, change] of undone) {
    const name = nameIn(change);
    const key = at.slice(name.length + 1);
    const row = before[name].get(key) ?? site.tables[name].get(key);
    if (!row) continue;
    const standing = { ...site, tables: before } as Site;
    const thing = world.identify(before[name].has(key) ? standing : site, name, row);
    const [former, made, now] = [one.commonBefore.get(thing), one.commonAfter.get(thing), world.common.get(thing)];
    if (change.op !== 'update' || !former || !now) {
      if (former) world.common.set(thing, former);
      else world.common.delete(thing);
      continue;
    }
    const side = (end: 'lower' | 'upper'): View | undefined => {
      const [was, is] = [former[end], now[end]];
      if (!was || !is) return was;
      return Object.fromEntries(
        Object.entries(is).map(([column, value]) => [
          column,
          change.cells[column] && value === made?.[end]?.[column] ? (was[column] ?? null) : value,
        ]),
      );
    };
    world.common.set(thing, { lower: side('lower'), upper: side('upper') });
  }
}
