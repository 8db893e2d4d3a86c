import {
  type ByteString,
  checkProfile,
  compareTables,
  type DestinationFacts,
  ItemCollector,
  type MergeRules,
  type MergeTable,
  planMerge,
  pushSentence,
  type RowChange,
  rulesForTable,
  sentenceText,
  settle,
  shortSentence,
  type TableRows,
  writeLine,
} from '../src/index.js';
import { describe, expect, fc, it } from './support.js';

const checked = checkProfile(`tessarion: profile/1
name: x
title: x
areas: [{ name: all, path: ., class: authored }]
databases:
  main:
    tables:
      product:
        class: authored
        columns: { stock: { class: collected }, mail: { personal: mail } }
        rows: [{ when: { title: ["tmp*"] }, class: local }]
`);
if (!checked.ok) throw new Error('profile');
const PRODUCT = { database: 'main', schema: 'public', name: 'product' };
const COLUMNS = ['id', 'title', 'stock', 'mail'] as const;
const rules = rulesForTable(checked.profile, PRODUCT, COLUMNS);

type Row = readonly [string, string | null, string | null, string | null];
type Table = ReadonlyMap<string, Row>;

async function* lines(table: Table): AsyncGenerator<ByteString> {
  for (const row of [...table.values()].sort((a, b) => Number(a[0]) - Number(b[0]))) yield `${writeLine(row)}\n`;
}

const NOBODY: DestinationFacts = { referrers: async () => [], holders: async () => [] };

/** A push by replace of one table: what is written, and whether the destination loses work of its own by it. */
async function replace(rows: TableRows): Promise<{ change: RowChange; lost: boolean }[]> {
  const merge: MergeRules = { method: 'replace', direction: 'up', keepsMasked: false, mask: (_rule, value) => value };
  const table: MergeTable = {
    id: 'main/public.product',
    name: PRODUCT,
    columns: COLUMNS,
    key: ['id'],
    keyOrders: ['integer'],
    rules,
    uses: [],
    naturalKey: [],
    drawsKeys: true,
    hasBaseline: rows.baseline !== undefined,
    stamps: [],
    uniques: [],
  };
  const comparison = await compareTables([{ table, open: () => rows }], merge, []);
  const wishes = { isChosen: () => true, settlements: new Map(), rest: 'destination' } as const;
  const settled = await settle(comparison, merge, wishes, NOBODY, (outcome) => String(outcome.key));
  return planMerge(comparison, settled, merge, [], new Map()).changes.map(({ change, outcome: { decision } }) => ({
    change,
    lost:
      decision.is === 'updated'
        ? decision.cells.some((cell) => cell.is === 'taken' && cell.overwrites)
        : (decision.is === 'inserted' || decision.is === 'deleted') && decision.overwrites,
  }));
}

const compare = (
  source: Table,
  destination: Table,
  baseline?: { source: Table; destination: Table },
): Promise<{ change: RowChange; lost: boolean }[]> =>
  replace({
    source: lines(source),
    destination: lines(destination),
    baseline: baseline && { source: lines(baseline.source), destination: lines(baseline.destination) },
  });

/** What the destination holds after the changes: the naive model of applying them. */
function apply(table: Table, changes: readonly RowChange[]): Map<string, Row> {
  const after = new Map(table);
  for (const change of changes) {
    const key = change.key[0] as string;
    if (change.op === 'delete') after.delete(key);
    else if (change.op === 'insert') after.set(key, COLUMNS.map((name) => change.row[name] ?? null) as unknown as Row);
    else {
      const row = [...(after.get(key) as Row)] as [string, string | null, string | null, string | null];
      for (const [name, cell] of Object.entries(change.cells)) {
        expect(row[COLUMNS.indexOf(name as 'id')], 'the pre-image').toBe(cell.before);
        row[COLUMNS.indexOf(name as 'id')] = cell.after;
      }
      after.set(key, row as unknown as Row);
    }
  }
  return after;
}

const cell = fc.constantFrom(null, '', 'a', 'b', 'tmp1');
const table = fc
  .uniqueArray(fc.nat(14), { maxLength: 8 })
  .chain((ids) =>
    fc.tuple(
      ...ids.map((id) =>
        fc.tuple(fc.constant(String(id)), cell, fc.constantFrom('0', '5'), fc.constantFrom(null, 'm', 'n')),
      ),
    ),
  )
  .map((rows): Table => new Map((rows as Row[]).map((row) => [row[0], row])));

const isLocal = (row: Row | undefined): boolean => row?.[1]?.startsWith('tmp') === true;

describe('a push by replace', () => {
  it('makes authored cells the source’s, keeps collected and local ones, and a second one is empty', async () => {
    await fc.assert(
      fc.asyncProperty(table, table, async (source, destination) => {
        const after = apply(
          destination,
          (await compare(source, destination)).map((one) => one.change),
        );
        for (const [key, row] of source) {
          if (isLocal(row) || isLocal(destination.get(key))) expect(after.get(key)).toEqual(destination.get(key));
          else {
            expect(after.get(key)?.[1]).toBe(row[1]);
            expect(after.get(key)?.[2]).toBe((destination.get(key) ?? row)[2]);
          }
        }
        for (const [key, row] of destination) if (!source.has(key)) expect(after.has(key)).toBe(isLocal(row));
        expect(await compare(source, after)).toEqual([]);
      }),
      { numRuns: 2000 },
    );
  });

  it('never lets a masked cell that still stands travel, and says what the destination loses', async () => {
    await fc.assert(
      fc.asyncProperty(table, table, async (base, destination) => {
        const copy: Table = new Map(
          [...base].map(([key, row]) => [key, [row[0], row[1], row[2], row[3] === null ? null : 'masked'] as Row]),
        );
        const found = await compare(copy, destination, { source: copy, destination: base });
        for (const { change, lost } of found) {
          if (change.op === 'update') expect(change.cells).not.toHaveProperty('mail');
          const key = change.key[0] as string;
          const [now, then] = [destination.get(key), base.get(key)];
          const changed = now !== undefined && (then === undefined || now[1] !== then[1] || now[3] !== then[3]);
          if (change.op === 'update') expect(lost).toBe(now?.[1] !== then?.[1]);
          if (change.op === 'delete') expect(lost).toBe(changed);
        }
        expect(await compare(copy, base, { source: copy, destination: base })).toEqual([]);
      }),
      { numRuns: 2000 },
    );
  });

  it('refuses rows out of order', async () => {
    const wrong = async function* () {
      yield '2\ta\t0\t\\N\n1\ta\t0\t\\N\n';
    };
    const run = () => replace({ source: wrong(), destination: lines(new Map()), baseline: undefined });
    await expect(run()).rejects.toThrow(/out of order/);
  });
});

describe('items and the sentence', () => {
  it('counts items, not rows, and says what stays', () => {
    const profile = checkProfile(
      'tessarion: profile/1\nname: x\ntitle: x\nareas: [{ name: code, path: ., class: authored }]\ndatabases: { main: { tables: { page: { class: authored }, block: { class: authored } } } }\nitems:\n  - { kind: page, table: page, title: title, dependants: [{ table: block, column: page_id }] }\n  - { kind: style, files: "styles/**" }\n',
    );
    if (!profile.ok) throw new Error('profile');
    const items = new ItemCollector(profile.profile, (text) => String(text.length));
    const on = { part: 'row', database: 'main' } as const;
    items.addRow(
      { ...on, table: 'public.page', key: ['7'], op: 'update', cells: { title: { before: 'a', after: 'b' } } },
      { title: 'Home' },
      false,
    );
    items.addRow(
      { ...on, table: 'public.block', key: ['1'], op: 'insert', row: { page_id: '7' } },
      { page_id: '7' },
      true,
    );
    items.addFile(
      'code',
      {
        part: 'file',
        root: 'main',
        path: 'styles/a.css',
        before: { type: 'absent' },
        after: { type: 'link', target: 'b' },
      },
      false,
    );
    expect([...items.items.keys()]).toEqual(['page:7', 'style:main/styles/a.css']);
    const facts = {
      direction: 'up' as const,
      from: 's/staging',
      onto: 's/live',
      written: items.amounts(() => true),
      lost: items.amounts((item) => item.overwrites),
      stay: [{ count: 1041, kind: 'order', plural: 'orders' }],
      collisions: 2,
    };
    expect(sentenceText(pushSentence(facts))).toBe(
      'Write 1 page and 1 style from s/staging onto s/live; overwrite 1 page that live changed meanwhile; 1,041 orders that live took meanwhile stay; 2 collisions to settle.',
    );
    expect(shortSentence(facts)).toBe('Write 2 items onto live');
  });
});
