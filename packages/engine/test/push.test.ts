import {
  type DatabaseDifference,
  invert,
  type Note,
  planMerge,
  type RowChange,
  rulesForTable,
  settle,
  tableOf,
} from '@tessarion/core';
import type { SiteDatabase } from '@tessarion/engine';
import fc from 'fast-check';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { compareEnvironments } from '../src/compare/environments.js';
import { misfitsOfChanges } from '../src/deliver/misfits.js';
import { RowApplication } from '../src/deliver/row-application.js';
import type { Mode, Remain } from '../src/ports/rows.js';
import type { Environment } from '../src/site/environment.js';
import { rewriterOf } from '../src/site/environment.js';
import { SnapshotLibrary } from '../src/store/library.js';
import { FolderObjects } from '../src/store/objects-folder.js';
import { profileOf, type Query, Yard } from './support/pair.js';

const PROFILE = profileOf(`
areas: [{ name: code, path: ., class: authored }]
databases: { main: { tables: {
  page: { class: authored, columns: { stock: { class: collected } } },
  part: { class: authored },
  tag: { class: authored },
  setting: { class: authored, rows: [{ when: { name: [visits] }, class: collected }] },
  sale: { class: collected },
  log: { class: local } } } }
references: [{ from: sale.page_id, to: page.id }]
`);
const SCHEMA = `
  CREATE TABLE page (id serial PRIMARY KEY, slug text NOT NULL UNIQUE, body text, stock int NOT NULL DEFAULT 0);
  CREATE TABLE part (page_id int REFERENCES page, place int, text text, PRIMARY KEY (page_id, place));
  CREATE TABLE tag (word text, n int);
  CREATE TABLE setting (name text PRIMARY KEY, value text);
  CREATE TABLE sale (id serial PRIMARY KEY, page_id int, amount int);
  CREATE TABLE log (id serial PRIMARY KEY, line text);`;

let yard: Yard;
let live: { environment: Environment; query: Query };
let copy: { environment: Environment; query: Query };
const ADDRESS = { live: 'https://loom.example', copy: 'http://loom--copy.localhost:7400' };

beforeAll(async () => {
  yard = await Yard.open();
  live = await yard.environment('live', ADDRESS.live, PROFILE, { kind: 'live', sql: SCHEMA });
  copy = await yard.environment('copy', ADDRESS.copy, PROFILE, { sql: SCHEMA });
}, 60_000);
afterAll(() => yard?.close());

const database = () => live.environment.databases[0] as SiteDatabase;
const library = () => new SnapshotLibrary(new FolderObjects(yard.folder), Buffer.alloc(32));

/** A push by replace onto live: what would be written, and the rows that stay because others refer to them. */
async function compared(): Promise<{
  changes: RowChange[];
  kept: string[];
  notes: readonly Note[];
  schema: readonly DatabaseDifference[];
}> {
  const { rows, merge, facts, notes, schema } = await compareEnvironments({
    changes: undefined,
    source: { environment: copy.environment },
    destination: live.environment,
    baseline: undefined,
    library: library(),
    memories: { source: undefined, destination: undefined },
    profileVersion: 'loom/1',
    method: 'replace',
    direction: 'up',
    mask: (_rule, value) => value,
    takes: new Set<string>(),
  });
  const wishes = { isChosen: () => true, settlements: new Map(), rest: 'destination' } as const;
  const settled = await settle(rows, merge, wishes, facts, (outcome) => String(outcome.key));
  return {
    changes: planMerge(rows, settled, merge, [], new Map()).changes.map((one) => one.change),
    kept: settled.collisions.map((one) => String(one.outcome.key)),
    notes,
    schema,
  };
}

async function open(changes: readonly RowChange[], mode: Mode): Promise<RowApplication> {
  const application = await RowApplication.open(database(), live.environment, 'test', mode);
  async function* each(): AsyncGenerator<RowChange> {
    yield* changes;
  }
  await application.stage(each(), rewriterOf(live.environment), (table, columns) => {
    const rules = rulesForTable(PROFILE, tableOf({ database: 'main', table }), columns);
    return new Set(rules.columns.filter((one) => one.class === 'authored').map((one) => one.name));
  });
  return application;
}

async function apply(changes: readonly RowChange[], mode: Mode): Promise<readonly Remain[]> {
  const application = await open(changes, mode);
  try {
    const { applied } = await application.write();
    await application.commit();
    return applied.remains;
  } finally {
    await application.close();
  }
}

interface Page {
  readonly id: number;
  readonly slug: string;
  readonly body: string | null;
  readonly stock: number;
}
interface State {
  readonly pages: readonly Page[];
  readonly parts: readonly (readonly [number, number, string])[];
  readonly tags: readonly (readonly [string | null, number | null])[];
  readonly settings: readonly (readonly [string, string])[];
  readonly sales: readonly number[];
}

const word = fc.constantFrom('red', 'blue', "it's", 'tab\there', 'back\\slash', '\\N', 'ü', '');
const state: fc.Arbitrary<State> = fc
  .record({
    pages: fc.uniqueArray(
      fc.record({
        id: fc.integer({ min: 1, max: 7 }),
        slug: fc.constantFrom('a', 'b', 'c', 'd', 'e', 'f', 'g', 'h'),
        body: fc.option(
          fc.tuple(word, fc.boolean()).map(([text, hasLink]) => (hasLink ? `${text} HERE/x` : text)),
          { nil: null },
        ),
        stock: fc.integer({ min: 0, max: 9 }),
      }),
      { maxLength: 6, selector: (one) => one.id },
    ),
    parts: fc.array(fc.tuple(fc.nat(), fc.integer({ min: 0, max: 2 }), word), { maxLength: 6 }),
    tags: fc.array(
      fc.tuple(
        fc.option(fc.constantFrom('x', 'HERE', 'y'), { nil: null }),
        fc.option(fc.integer({ min: 0, max: 2 }), { nil: null }),
      ),
      { maxLength: 8 },
    ),
    settings: fc.uniqueArray(fc.tuple(fc.constantFrom('title', 'visits', 'colour'), word), {
      selector: (one) => one[0],
    }),
    sales: fc.array(fc.nat(), { maxLength: 4 }),
  })
  .map((made) => {
    const slugs = new Set<string>();
    const pages = made.pages.filter((page) => !slugs.has(page.slug) && slugs.add(page.slug));
    const of = (n: number): number | undefined => pages[n % Math.max(1, pages.length)]?.id;
    const parts = new Map<string, readonly [number, number, string]>();
    for (const [n, place, text] of made.parts) {
      const id = of(n);
      if (id !== undefined) parts.set(`${id} ${place}`, [id, place, text]);
    }
    return { ...made, pages, parts: [...parts.values()], sales: made.sales.flatMap((n) => of(n) ?? []) };
  });

async function put({ query }: { query: Query }, address: string, given: State): Promise<void> {
  const here = (text: string | null): string | null => text?.replaceAll('HERE', address) ?? null;
  await query('TRUNCATE page, part, tag, setting, sale, log');
  for (const { id, slug, body, stock } of given.pages)
    await query('INSERT INTO page VALUES ($1, $2, $3, $4)', [id, slug, here(body), stock]);
  for (const part of given.parts) await query('INSERT INTO part VALUES ($1, $2, $3)', [...part]);
  for (const [text, n] of given.tags) await query('INSERT INTO tag VALUES ($1, $2)', [here(text), n]);
  for (const setting of given.settings) await query('INSERT INTO setting VALUES ($1, $2)', [...setting]);
  for (const page of given.sales) await query('INSERT INTO sale (page_id, amount) VALUES ($1, 1)', [page]);
  await query("INSERT INTO log (line) VALUES ('of this side alone')");
}

const all = async ({ query }: { query: Query }): Promise<Record<string, unknown[]>> => ({
  page: await query('SELECT * FROM page ORDER BY id'),
  part: await query('SELECT * FROM part ORDER BY 1, 2'),
  tag: await query('SELECT * FROM tag ORDER BY 1, 2'),
  setting: await query('SELECT * FROM setting ORDER BY 1'),
  sale: await query('SELECT page_id, amount FROM sale ORDER BY id'),
  log: await query('SELECT line FROM log ORDER BY id'),
});

/** What a push by replace should make of live, written down as simply as it can be said. */
function expected(from: State, onto: State): { page: unknown[]; part: unknown[]; tags: unknown[]; setting: unknown[] } {
  const here = (text: string | null): string | null => text?.replaceAll('HERE', ADDRESS.live) ?? null;
  const kept = onto.pages.filter(
    (page) => onto.sales.includes(page.id) && !from.pages.some((one) => one.id === page.id),
  );
  const pages = [
    ...from.pages.map((page) => ({
      ...page,
      body: here(page.body),
      stock: (onto.pages.find((one) => one.id === page.id) ?? page).stock,
    })),
    ...kept.map((page) => ({ ...page, body: here(page.body) })),
  ];
  const settings = [
    ...from.settings.filter(([name]) => name !== 'visits'),
    ...onto.settings.filter(([name]) => name === 'visits'),
  ];
  return {
    page: pages.sort((a, b) => a.id - b.id),
    part: from.parts
      .map(([page_id, place, text]) => ({ page_id, place, text }))
      .sort((a, b) => a.page_id - b.page_id || a.place - b.place),
    tags: from.tags.map(([text, n]) => JSON.stringify({ word: here(text), n })).sort(),
    setting: settings.map(([name, value]) => ({ name, value })).sort((a, b) => (a.name < b.name ? -1 : 1)),
  };
}

describe('a push by replace', () => {
  it('makes of live what the plain words say, is empty the second time, and can be taken back', async () => {
    let [pushed, refused] = [0, 0];
    await fc.assert(
      fc.asyncProperty(state, state, async (from, onto) => {
        await put(copy, ADDRESS.copy, from);
        await put(live, ADDRESS.live, onto);
        const before = await all(live);
        const { changes, kept } = await compared();
        const { found } = await misfitsOfChanges(database(), changes, rewriterOf(live.environment));
        if (found.length > 0) {
          // A page that stays because it was sold may hold the slug that another one wants.
          await expect(apply(changes, 'strict')).rejects.toMatchObject({ code: 'outdated' });
          expect(await all(live)).toEqual(before);
          refused++;
          return;
        }
        const keptPages = kept.map(Number);
        // The parts of a page that stays go, as the source lacks them.
        expect(await apply(changes, 'strict')).toEqual([]);
        const want = expected(from, onto);
        const now = await all(live);
        expect(now.page).toEqual(want.page);
        expect(now.part).toEqual(want.part);
        expect((now.tag as object[]).map((one) => JSON.stringify(one)).sort()).toEqual(want.tags);
        expect(now.setting).toEqual(want.setting);
        expect([now.sale, now.log]).toEqual([before.sale, before.log]);

        const again = await compared();
        expect(again.changes).toEqual([]);
        expect(again.kept.map(Number)).toEqual(keptPages);

        const back = changes.map((change) => invert(change) as RowChange);
        expect(await apply(back, 'lenient')).toEqual([]);
        expect(await all(live)).toEqual(before);
        pushed++;
      }),
      { numRuns: 15 },
    );
    expect(pushed).toBeGreaterThan(7);
    expect(refused).toBeGreaterThanOrEqual(0);
  }, 120_000);

  const PAGES: State = {
    pages: [
      { id: 1, slug: 'a', body: 'one', stock: 5 },
      { id: 2, slug: 'b', body: 'two', stock: 5 },
      { id: 3, slug: 'c', body: 'three', stock: 5 },
    ],
    parts: [],
    tags: [],
    settings: [],
    sales: [],
  };
  const without = (id: number): State => ({ ...PAGES, pages: PAGES.pages.filter((page) => page.id !== id) });
  const edited = (id: number, change: Partial<Page>): State => ({
    ...PAGES,
    pages: PAGES.pages.map((page) => (page.id === id ? { ...page, ...change } : page)),
  });
  const changesFrom = async (from: State, onto: State = PAGES): Promise<RowChange[]> => {
    await put(copy, ADDRESS.copy, from);
    await put(live, ADDRESS.live, onto);
    return (await compared()).changes;
  };
  const bodies = async (): Promise<string> =>
    (await live.query('SELECT id, body FROM page ORDER BY id')).map((row) => `${row.id} ${row.body}`).join(', ');

  it.each([
    ['a cell', "UPDATE page SET body = 'theirs' WHERE id = 1", '1: was changed meanwhile (body)'],
    ['a row that goes', 'DELETE FROM page WHERE id = 1', '1: is gone'],
    ['a key that comes', "INSERT INTO page VALUES (9, 'theirs', '', 0)", '9: is there already'],
    ['a row that was to go', "UPDATE page SET slug = 'new' WHERE id = 3", '3: was changed meanwhile (slug)'],
    ['a sale of what was to go', 'INSERT INTO sale (page_id) VALUES (3)', '3 stays, since sale refers to it meanwhile'],
    ['a unique value', "UPDATE page SET slug = 'fresh' WHERE id = 2", 'has what no two rows may share'],
  ])('writes nothing when %s changed since it was compared', async (_what, meanwhile, message) => {
    const from = edited(1, { body: 'ours' });
    const changes = await changesFrom({
      ...from,
      pages: [...from.pages.filter((page) => page.id !== 3), { id: 9, slug: 'fresh', body: '', stock: 0 }],
    });
    expect(changes.map((change) => `${change.op} ${change.key}`)).toEqual(['update 1', 'delete 3', 'insert 9']);
    await live.query(meanwhile);
    const before = await all(live);
    await expect(apply(changes, 'strict')).rejects.toMatchObject({
      code: 'outdated',
      message: expect.stringContaining(message),
    });
    expect(await all(live)).toEqual(before);
  });

  it.each([
    ['writes to', "UPDATE page SET body = 'of a visitor' WHERE id = 2"],
    ['takes away', 'DELETE FROM page WHERE id = 2'],
    ['gives another number to', 'UPDATE page SET id = 9 WHERE id = 2'],
  ])('stops where a visitor %s a row while it waits for it', async (_what, sql) => {
    await live.query('TRUNCATE page, part, sale');
    await live.query("INSERT INTO page (id, slug, body) VALUES (1, 'a', 'x'), (2, 'b', 'x'), (3, 'c', 'x')");
    const changes = [1, 2, 3].map(
      (id): RowChange => ({
        ...{ part: 'row', database: 'main', table: 'public.page', op: 'update' },
        key: [`${id}`],
        cells: { body: { before: 'x', after: 'mine' } },
      }),
    );
    const visitor = new pg.Client(database().login);
    await visitor.connect();
    const application = await open(changes, 'strict');
    try {
      await visitor.query(`BEGIN; ${sql}`);
      const written = application.write().then(
        () => undefined,
        (error: Error) => error.message,
      );
      await expect
        .poll(async () => (await visitor.query('SELECT FROM pg_locks WHERE NOT granted')).rowCount)
        .toBeGreaterThan(0);
      await visitor.query('COMMIT');
      expect(await written).toMatch(/^page 2: (was changed meanwhile \(body\)|is gone)\.$/);
    } finally {
      await application.close();
      await visitor.end();
    }
    expect((await live.query('SELECT count(*)::int AS n FROM page WHERE body = $1', ['mine']))[0]?.n).toBe(0);
    // Without anybody in the way it goes through.
    await live.query(
      "DELETE FROM page; INSERT INTO page (id, slug, body) VALUES (1, 'a', 'x'), (2, 'b', 'x'), (3, 'c', 'x')",
    );
    expect(await apply(changes, 'strict')).toEqual([]);
  });

  it('writes scattered rows of a large table without reading the rest of it while visitors wait', async () => {
    await live.query('TRUNCATE page, part, sale');
    await live.query("INSERT INTO page (id, slug, body) SELECT i, 's' || i, 'x' FROM generate_series(1, 60000) i");
    await live.query('ANALYZE page');
    const changes = Array.from({ length: 1500 }, (_one, i): RowChange => {
      const on = { part: 'row', database: 'main', table: 'public.page', key: [`${40 * (i + 1)}`] } as const;
      return { ...on, op: 'update', cells: { body: { before: 'x', after: 'mine' } } };
    });
    const read = async () => {
      const [row] = await live.query(
        "SELECT seq_tup_read::int AS rows, n_tup_upd::int AS written FROM pg_stat_user_tables WHERE relname = 'page'",
      );
      return row as { rows: number; written: number };
    };
    const before = await read();
    expect(await apply(changes, 'strict')).toEqual([]);
    // What sessions counted comes to the server's statistics when they end, or much later.
    await live.query(
      "SELECT pg_terminate_backend(pid, 5000) FROM pg_stat_activity WHERE datname = current_database() AND application_name = 'tessarion waits'",
    );
    await expect.poll(async () => (await read()).written - before.written).toBeGreaterThanOrEqual(1500);
    expect((await read()).rows - before.rows).toBeLessThan(60_000);
  });

  it('does not mind what visitors change in collected columns and rows', async () => {
    const changes = await changesFrom(edited(1, { body: 'ours' }));
    await live.query('UPDATE page SET stock = 1; INSERT INTO sale (page_id, amount) VALUES (1, 2)');
    expect(await apply(changes, 'strict')).toEqual([]);
    expect(await live.query('SELECT body, stock FROM page WHERE id = 1')).toEqual([{ body: 'ours', stock: 1 }]);
  });

  it('takes back only its own, and names what others changed since', async () => {
    const changes = await changesFrom({
      ...edited(1, { body: 'ours', slug: 'z' }),
      pages: [...edited(1, { body: 'ours', slug: 'z' }).pages.slice(0, 2), { id: 8, slug: 'n', body: 'new', stock: 0 }],
    });
    await apply(changes, 'strict');
    await live.query("UPDATE page SET body = 'by a colleague' WHERE id = 1; INSERT INTO sale (page_id) VALUES (8)");
    const remains = await apply(
      changes.map((change) => invert(change) as RowChange),
      'lenient',
    );
    expect(remains.map((one) => `${one.key} ${one.what}`).sort()).toEqual([
      '1 was changed meanwhile (body)',
      '8 stays, since sale refers to it',
    ]);
    expect(await bodies()).toBe('1 by a colleague, 2 two, 3 three, 8 new');
    expect(await live.query('SELECT slug FROM page WHERE id = 1')).toEqual([{ slug: 'a' }]);
  });

  it('stops when a trigger would write a table that nobody named', async () => {
    await live.query(`
      CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log (line) VALUES (new.slug); RETURN new; END $$;
      CREATE TRIGGER note AFTER UPDATE ON page FOR EACH ROW EXECUTE FUNCTION note();`);
    try {
      const changes = await changesFrom(edited(1, { body: 'ours' }));
      await expect(apply(changes, 'strict')).rejects.toMatchObject({
        message: expect.stringContaining('would also change 1 row of log'),
      });
      expect(await bodies()).toBe('1 one, 2 two, 3 three');
    } finally {
      await live.query('DROP FUNCTION note CASCADE');
    }
  });

  it('lets a trigger write once more to the rows of the change, and to no other', async () => {
    const after = (where: string): Promise<unknown> =>
      live.query(`CREATE FUNCTION again() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
          BEGIN UPDATE page SET stock = 77 WHERE ${where}; EXCEPTION WHEN division_by_zero THEN NULL; END; RETURN new; END $$;
        CREATE TRIGGER again AFTER UPDATE OF body ON page FOR EACH ROW EXECUTE FUNCTION again();`);
    try {
      await after('id = new.id');
      await apply(await changesFrom(edited(1, { body: 'ours' })), 'strict');
      expect(await live.query('SELECT body, stock FROM page WHERE id = 1')).toEqual([{ body: 'ours', stock: 77 }]);
      await live.query('DROP FUNCTION again CASCADE');
      await after('id = new.id + 1');
      await expect(apply(await changesFrom(edited(1, { body: 'theirs' })), 'strict')).rejects.toMatchObject({
        message: expect.stringContaining('others are in page'),
      });
      expect(await live.query('SELECT body FROM page WHERE id = 1')).toEqual([{ body: 'one' }]);
    } finally {
      await live.query('DROP FUNCTION again CASCADE');
    }
  });

  it('stops when a trigger swallows a row', async () => {
    await live.query(`
      CREATE FUNCTION swallow() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN NULL; END $$;
      CREATE TRIGGER swallow BEFORE DELETE ON page FOR EACH ROW EXECUTE FUNCTION swallow();`);
    try {
      await expect(apply(await changesFrom(without(2)), 'strict')).rejects.toMatchObject({
        code: 'outdated',
        message: expect.stringContaining('1 were meant'),
      });
    } finally {
      await live.query('DROP FUNCTION swallow CASCADE');
    }
  });

  it('draws fresh numbers past those it brings in, also when visitors draw meanwhile', async () => {
    const from = { ...PAGES, pages: [...PAGES.pages, { id: 40, slug: 'forty', body: null, stock: 0 }] };
    const changes = await changesFrom(from);
    await live.query("SELECT setval('page_id_seq', 3)");
    const application = await open(changes, 'strict');
    await application.write();
    const drawn = await live.query("SELECT nextval('page_id_seq') AS id");
    await application.commit();
    await application.close();
    expect(Number(drawn[0]?.id)).toBe(41);
    const next = await live.query("INSERT INTO page (slug) VALUES ('by a visitor') RETURNING id");
    expect(Number(next[0]?.id)).toBe(42);
  });

  it('is nothing at all until it is committed', async () => {
    const changes = await changesFrom(edited(1, { body: 'ours' }));
    const before = await all(live);
    const application = await open(changes, 'strict');
    const { mark: transaction, applied } = await application.write();
    expect(applied).toMatchObject({ inserted: 0, updated: 1, deleted: 0 });
    expect(await all(live)).toEqual(before);
    await application.close();
    expect(await all(live)).toEqual(before);
    const status = await live.query('SELECT pg_xact_status($1::xid8) AS status', [transaction]);
    expect(status[0]?.status).toBe('aborted');
  });

  it('lists where the two ends have different tables, and compares what both have', async () => {
    await put(copy, ADDRESS.copy, PAGES);
    await put(live, ADDRESS.live, PAGES);
    await copy.query(
      "ALTER TABLE part ADD COLUMN extra int; CREATE TABLE tag2 (); ALTER TABLE tag RENAME TO tags; INSERT INTO tags VALUES ('x', 1)",
    );
    try {
      const { schema, notes } = await compared();
      expect(schema.map((one) => [one.id, one.is, one.isNews, one.canTake])).toEqual([
        ['schema:part.extra', 'added', true, true],
      ]);
      // Nobody has said yet what the new table is.
      expect(notes).toContainEqual({ type: 'unclassified', database: 'main', table: 'tags', rows: 1 });
      expect(notes).toContainEqual({ type: 'never-moves', table: 'tag', because: 'only the destination has it' });
    } finally {
      await copy.query(
        'ALTER TABLE part DROP COLUMN extra; DROP TABLE tag2; DELETE FROM tags; ALTER TABLE tags RENAME TO tag',
      );
    }
  });
});
