import { isDeepStrictEqual } from 'node:util';
import {
  type ChangedItem,
  type ComparedEnvironments,
  type Comparison,
  checkProfile,
  type ForecastEnd,
  GatheredRows,
  ItemCollector,
  imageChange,
  isOneImage,
  keyText,
  listTasks,
  type MergePlan,
  planMerge,
  type RowOutcome,
  type Selectable,
  type Settled,
  spellingOf,
  tasksCheck,
} from '../src/index.js';
import { emptySite, imageOf, run, type Site, type TableName } from './merge-world.js';
import { describe, expect, fc, it } from './support.js';

const checked = checkProfile(`tessarion: profile/1
name: x
title: x
areas: [{ name: code, path: ., class: authored }]
databases: { main: { tables: { page: { class: authored }, part: { class: authored }, tag: { class: authored } } } }
items: [{ kind: page, table: page, title: title, dependants: [{ table: part, column: page_id }] }]
tasks:
  - { name: index, command: [bin/index], phase: after }
  - { name: warm, command: [bin/warm], phase: staged }
  - { name: migrate, command: [bin/migrate], phase: held, changes-schema: true }
`);
if (!checked.ok) throw new Error('profile');
const PROFILE = checked.profile;

const END: ForecastEnd = {
  path: 'x/live',
  site: 'x',
  name: 'live',
  kind: 'live',
  place: { addresses: [], roots: [] },
  profile: PROFILE,
  settings: new Map(),
};

interface Edit {
  readonly onSource: boolean;
  readonly table: 'page' | 'part' | 'tag';
  readonly key: number;
  readonly what: 'put' | 'remove';
  readonly value: number;
}
const edit: fc.Arbitrary<Edit> = fc.record({
  onSource: fc.boolean(),
  table: fc.constantFrom('page', 'part', 'tag'),
  key: fc.integer({ min: 1, max: 5 }),
  what: fc.constantFrom('put', 'put', 'remove'),
  value: fc.nat(3),
});

function put(site: Site, table: TableName, key: number, value: number): void {
  const values: Record<string, Record<string, string | null>> = {
    page: { id: `${key}`, slug: `s${key}`, title: `t${value}`, body: 'b', parent: null, stock: '0', author: null },
    part: { id: `${key}`, page_id: `${1 + (value % 5)}`, text: `x${value}` },
    tag: { name: `n${key}`, label: `l${value}` },
  };
  const own = values[table] as Record<string, string | null>;
  site.tables[table].set(keyText([own.id ?? (own.name as string)]), { uid: key, values: own });
}

/** What a push of everything says, item by item. @param rest how all that collides is settled; null to leave it */
async function gathered(edits: readonly Edit[], rest: 'source' | 'destination' | null) {
  const [base, source, destination] = [emptySite(), emptySite(), emptySite()];
  for (const site of [base, source, destination])
    for (let key = 1; key <= 4; key++) for (const table of ['page', 'part', 'tag'] as const) put(site, table, key, key);
  for (const one of edits) {
    const site = one.onSource ? source : destination;
    if (one.what === 'put') put(site, one.table, one.key, one.value);
    else site.tables[one.table].delete(keyText([one.table === 'tag' ? `n${one.key}` : `${one.key}`]));
  }
  const collector = new ItemCollector(PROFILE, (text) => `${text.length} ${text}`, spellingOf(END));
  const selectable = new Map<string, Selectable>();
  let rows: GatheredRows | undefined;
  const open = (comparison: Comparison): GatheredRows => {
    const compared = { rows: comparison, merge: { direction: 'up' } } as unknown as ComparedEnvironments;
    rows ??= new GatheredRows(collector, selectable, { comparison: compared, destination: END }, () => undefined);
    return rows;
  };
  const found = await run(
    source,
    destination,
    { lower: imageOf(base), upper: imageOf(base), keys: new Map() },
    {
      direction: 'up',
      maskKey: 'k',
      wishes: (comparison) => {
        open(comparison);
        return { isChosen: () => true, settlements: new Map(), rest: rest ?? undefined };
      },
      itemOf: (outcome: RowOutcome) => (rows as GatheredRows).itemOf(outcome),
    },
  );
  const plan: MergePlan =
    found.plan ??
    planMerge(
      found.comparison,
      found.settled,
      { method: 'merge', direction: 'up', keepsMasked: false, mask: (_rule, value) => value },
      [],
      new Map([1, 2, 3, 4, 5, 6].map((key) => [`${key}`, `${-key}`])),
    );
  open(found.comparison).add(found.settled, plan);
  return { collector, settled: found.settled, plan, rows: open(found.comparison), hasPlan: found.plan !== undefined };
}

const itemsOf = (collector: ItemCollector): ChangedItem[] => [...collector.items.values()];

const colliding = ({ collisions }: Settled): RowOutcome[] =>
  collisions.filter((one) => !one.settled).map((one) => one.outcome);

describe('what a forecast lists', () => {
  it('is each row that is written, in one item, and counted once', async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(edit, { maxLength: 10 }), async (edits) => {
        const { collector, plan, rows } = await gathered(edits, 'destination');
        const written = new Set(plan.changes.map(({ outcome }) => rows.itemOf(outcome)));
        for (const id of written) expect(collector.items.has(id), id).toBe(true);
        const parts = [...collector.parts.values()];
        const counted = parts.reduce((sum, one) => sum + one.inserted + one.updated + one.deleted, 0);
        expect(counted).toBe(new Set(plan.changes.map((one) => one.outcome)).size);
        expect(itemsOf(collector).filter((one) => one.outcome === 'needs-you')).toEqual([]);
        for (const one of itemsOf(collector)) if (one.outcome === 'written') expect(written.has(one.id)).toBe(true);
      }),
    );
  });

  it('moves both images on as one exactly where they move on alike', async () => {
    const found = new Set<boolean>();
    await fc.assert(
      fc.asyncProperty(fc.array(edit, { maxLength: 10 }), async (edits) => {
        const { plan } = await gathered(edits, 'destination');
        const [source, destination] = [plan.source, plan.destination].map((edits) => edits.map(imageChange));
        const isOne = isOneImage(plan);
        found.add(isOne);
        expect(isOne).toBe(isDeepStrictEqual(source, destination));
      }),
      { seed: 20261201 },
    );
    expect(found).toEqual(new Set([true, false]));
  });

  it('waits for a person exactly where something collides, and says so in words', async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(edit, { maxLength: 10 }), async (edits) => {
        const { collector, settled, rows, hasPlan } = await gathered(edits, null);
        const waiting = itemsOf(collector).filter((one) => one.outcome === 'needs-you');
        expect(new Set(waiting.map((one) => one.id))).toEqual(
          new Set(colliding(settled).map((one) => rows.itemOf(one))),
        );
        expect(hasPlan).toBe(waiting.length === 0);
        for (const { collisions } of waiting)
          for (const one of collisions.filter((each) => each.settled === null))
            expect(one.words).toMatch(/^[A-Z].*\.$/);
      }),
    );
  });

  it('stands for the same as long as nothing of it changes, and for something else when something does', async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(edit, { maxLength: 8 }), async (edits) => {
        const [one, again] = [await gathered(edits, 'source'), await gathered(edits, 'source')];
        expect(again.collector.fingerprint()).toBe(one.collector.fingerprint());
        const more: Edit = { onSource: true, table: 'tag', key: 5, what: 'put', value: 9 };
        const other = await gathered(
          [...edits.filter((each) => each.table !== 'tag' || each.key !== 5), more],
          'source',
        );
        expect(other.collector.fingerprint()).not.toBe(one.collector.fingerprint());
      }),
    );
  });
});

describe('tasks of a profile', () => {
  it('are listed in the order in which they run; those that change the schema run when they are chosen', () => {
    const named = (tasks?: string[]) => listTasks(PROFILE, { tasks }).map((one) => `${one.name} ${one.runs}`);
    expect(named()).toEqual(['warm true', 'migrate false', 'index true']);
    expect(named(['migrate'])).toEqual(['warm true', 'migrate true', 'index true']);
    expect(tasksCheck(listTasks(PROFILE, {}), { tasks: ['migrate'] })).toEqual([]);
    expect(tasksCheck(listTasks(PROFILE, {}), { tasks: ['index', 'none'] })).toMatchObject([
      { state: 'failed', message: expect.stringContaining('index, none'), remedy: 'Choose among these: migrate.' },
    ]);
  });
});
