import { afterAll, beforeAll, beforeEach, expect, it } from 'vitest';
import { KeptSite } from './support/kept-site.js';
import {
  done,
  ended,
  forecastOf,
  onSite,
  pullInto,
  pushOnto,
  type Studio,
  saveProfile,
  settled,
  startStudio,
  tessarion,
  undo,
} from './support/studio.js';

let studio: Studio;
let kept: KeptSite;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

beforeAll(async () => {
  studio = await startStudio('staging');
  const { text } = await studio.client.call('profileShow', { params: { name: 'quayside' }, query: {} });
  await saveProfile(
    studio.client,
    'quayside',
    text.replace(
      'notice: { class: authored }',
      'notice: { class: authored }\n      colour: { class: authored }\n      swatch: { class: authored }',
    ),
  );
  kept = await KeptSite.of(studio, LIVE, COPY);
}, 120_000);
beforeEach(() => kept.restore());
afterAll(() => studio?.stop());

/** As the site's own login does it. */
const run = (path: string, ...statements: string[]): Promise<void> =>
  onSite(studio, path, async (query) => {
    const [row] = await query('SELECT tableowner AS owner FROM pg_tables WHERE tablename = $1', ['page']);
    await query(`SET ROLE "${row?.owner}"`);
    for (const sql of statements) await query(sql);
  });
const rows = (path: string, sql: string) => onSite(studio, path, (query) => query(sql));
const one = async (path: string, sql: string): Promise<unknown> => Object.values((await rows(path, sql))[0] ?? {})[0];
const items = async (forecast: { id: string }) =>
  (await studio.client.call('forecastItems', { params: { id: forecast.id }, query: {} })).items;
const take = (...ids: string[]) => Object.fromEntries(ids.map((id) => [id, { take: 'source' as const }]));

it('shows a new column and table as changes of their own, makes them when chosen, and fills them in one go', async () => {
  await run(
    COPY,
    "ALTER TABLE product ADD COLUMN care text NOT NULL DEFAULT 'by hand'",
    'ALTER TABLE page ADD COLUMN subtitle varchar(40)',
    'CREATE TABLE colour (id serial PRIMARY KEY, name text NOT NULL UNIQUE, made timestamptz DEFAULT now())',
    'CREATE TABLE swatch (product_id int NOT NULL REFERENCES product, colour_id int NOT NULL REFERENCES colour, PRIMARY KEY (product_id, colour_id))',
    'CREATE INDEX product_title_index ON product (title)',
    "UPDATE product SET care = 'machine wash' WHERE slug = 'apron'",
    "UPDATE page SET subtitle = 'Roots and leaves', title = 'Dyes' WHERE slug = 'dye'",
    "INSERT INTO colour (name) VALUES ('woad'), ('madder')",
    "INSERT INTO swatch SELECT p.id, c.id FROM product p, colour c WHERE p.slug = 'apron'",
  );
  const forecast = await forecastOf(studio, COPY, LIVE);
  const found = (await items(forecast)).filter((item) => item.kind === 'schema');
  expect(found.map((item) => [item.id, item.outcome]).sort()).toEqual([
    ['schema:colour', 'needs-you'],
    ['schema:page.subtitle', 'needs-you'],
    ['schema:product.care', 'needs-you'],
    ['schema:product/product_title_index', 'kept'],
    ['schema:swatch', 'needs-you'],
  ]);
  expect(found.find((item) => item.id === 'schema:product.care')?.collisions[0]?.words).toContain(
    "its 3 rows get 'by hand'",
  );
  expect(forecast.unsettled).toBe(4);
  // A rule for the rest never changes how tables are made.
  expect((await settled(studio, forecast.id, { rest: 'source' })).unsettled).toBe(4);
  const chosen = await settled(studio, forecast.id, {
    rest: null,
    settlements: take(
      'schema:colour',
      'schema:swatch',
      'schema:product.care',
      'schema:page.subtitle',
      'schema:product/product_title_index',
    ),
  });
  expect(chosen.checks.filter((check) => check.state === 'failed')).toEqual([]);
  expect(chosen.sentence.map((piece) => piece.text).join('')).toContain('5 schema changes');
  const push = await done(
    studio,
    await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }),
  );
  expect(push.proof.filter((point) => point.state === 'failed')).toEqual([]);
  expect(await rows(LIVE, 'SELECT slug, care FROM product ORDER BY id')).toEqual([
    { slug: 'apron', care: 'machine wash' },
    { slug: 'throw', care: 'by hand' },
    { slug: 'bag', care: 'by hand' },
  ]);
  expect(await rows(LIVE, "SELECT title, subtitle FROM page WHERE slug = 'dye'")).toEqual([
    { title: 'Dyes', subtitle: 'Roots and leaves' },
  ]);
  expect(
    await one(LIVE, "SELECT string_agg(c.name, ',' ORDER BY c.name) FROM swatch JOIN colour c ON c.id = colour_id"),
  ).toBe('madder,woad');
  expect(await one(LIVE, "SELECT count(*)::int FROM pg_indexes WHERE indexname = 'product_title_index'")).toBe(1);
  await run(LIVE, "INSERT INTO colour (name) VALUES ('weld')");
  expect(await one(LIVE, "SELECT id FROM colour WHERE name = 'weld'"), 'its counter goes on').toBe(3);

  // From now on they are like any other column: merged, brought down, asked about by nobody.
  const again = await forecastOf(studio, COPY, LIVE);
  expect([again.written, again.unsettled]).toEqual([[], 0]);
  await run(LIVE, "UPDATE product SET care = 'cold wash' WHERE slug = 'throw'");
  await run(COPY, "UPDATE product SET care = 'not at all' WHERE slug = 'bag'");
  await done(studio, await pullInto(studio, LIVE, COPY));
  expect(await rows(COPY, 'SELECT slug, care FROM product ORDER BY id')).toEqual([
    { slug: 'apron', care: 'machine wash' },
    { slug: 'throw', care: 'cold wash' },
    { slug: 'bag', care: 'not at all' },
  ]);
  expect(await one(COPY, "SELECT count(*)::int FROM colour WHERE name = 'weld'")).toBe(1);
  // What was written is taken back; what was made for it stays.
  await done(studio, await undo(studio, push.id));
  expect(await one(LIVE, "SELECT care FROM product WHERE slug = 'apron'")).toBe('by hand');
  expect(await one(LIVE, "SELECT count(*)::int FROM pg_tables WHERE tablename = 'swatch'")).toBe(1);
}, 60_000);

it('leaves a column behind when that is decided, and does not ask twice', async () => {
  await run(
    COPY,
    'ALTER TABLE exhibition ADD COLUMN mood text',
    "UPDATE product SET price = 36 WHERE slug = 'apron'",
    "INSERT INTO exhibition (title, body, opens, closes, mood) VALUES ('Looms', '', '2026-10-01', '2026-11-01', 'calm')",
  );
  const forecast = await forecastOf(studio, COPY, LIVE, { wishes: { rest: 'destination' } });
  expect((await items(forecast)).find((item) => item.id === 'schema:exhibition.mood')?.outcome).toBe('kept');
  await done(studio, await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }));
  expect(await one(LIVE, "SELECT title FROM exhibition WHERE title = 'Looms'")).toBe('Looms');
  expect(await one(LIVE, "SELECT count(*)::int FROM information_schema.columns WHERE column_name = 'mood'")).toBe(0);
  const again = await forecastOf(studio, COPY, LIVE);
  expect([again.unsettled, again.written]).toEqual([0, []]);
  // Live's own column stays, and new rows get its default.
  await run(LIVE, 'ALTER TABLE exhibition ADD COLUMN room int NOT NULL DEFAULT 4');
  await run(
    COPY,
    "INSERT INTO exhibition (title, body, opens, closes) VALUES ('Dye vats', '', '2026-10-01', '2026-11-01')",
  );
  await done(studio, await pushOnto(studio, COPY, LIVE));
  expect(await one(LIVE, "SELECT room FROM exhibition WHERE title = 'Dye vats'")).toBe(4);
});

it('does not offer what cannot be done without loss, and says why', async () => {
  await run(
    COPY,
    'ALTER TABLE menu ADD COLUMN weight int',
    'UPDATE menu SET weight = 1',
    'ALTER TABLE menu ALTER COLUMN weight SET NOT NULL',
  );
  await run(LIVE, "INSERT INTO menu (label, target, position) VALUES ('Live', '/', 1)");
  const forecast = await forecastOf(studio, COPY, LIVE);
  const weight = (await items(forecast)).find((item) => item.id === 'schema:menu.weight');
  expect(weight?.collisions[0]).toMatchObject({
    allowed: ['destination'],
    words: expect.stringContaining('has no default'),
  });
  const { code, out } = await tessarion(studio, ['forecast', '--from', COPY, '--onto', LIVE]);
  // Something collides: a script sees it too.
  expect([code, out]).toEqual([4, expect.stringContaining('schema:menu.weight')]);
  await run(COPY, 'ALTER TABLE menu DROP COLUMN weight');
});

it('writes nothing when the destination’s tables have changed since the forecast, and makes nothing that is not used', async () => {
  await run(
    COPY,
    'ALTER TABLE notice ADD COLUMN tone text',
    "INSERT INTO notice (title, body) VALUES ('Open late', '')",
  );
  const wishes = { settlements: take('schema:notice.tone') };
  const forecast = await forecastOf(studio, COPY, LIVE, { wishes });
  await run(LIVE, 'ALTER TABLE notice ADD COLUMN tone int');
  const failed = await ended(
    studio,
    await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }),
  );
  expect([failed.state, failed.failure?.code]).toEqual(['failed', 'outdated']);
  expect(failed.failure?.next).toContain('tessarion forecast');
  expect(await one(LIVE, "SELECT count(*)::int FROM notice WHERE title = 'Open late'")).toBe(0);
  await run(LIVE, 'ALTER TABLE notice DROP COLUMN tone');
  // A push that fails before its commit takes away what it made.
  const other = await forecastOf(studio, COPY, LIVE, { wishes });
  await run(
    LIVE,
    "CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'not today'; END $$",
    'CREATE TRIGGER refuse BEFORE INSERT ON notice FOR EACH ROW EXECUTE FUNCTION refuse()',
  );
  const refused = await ended(
    studio,
    await studio.client.call('pushCreate', { body: { forecast: other.id, confirm: LIVE } }),
  );
  expect([refused.state, refused.failure?.message]).toEqual([
    'failed',
    expect.stringContaining('a function of the site'),
  ]);
  expect(
    await one(
      LIVE,
      "SELECT count(*)::int FROM information_schema.columns WHERE table_name = 'notice' AND column_name = 'tone'",
    ),
  ).toBe(0);
});
