import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { KeptSite } from './support/kept-site.js';
import {
  done,
  ended,
  folderOf,
  forecastOf,
  makeCopy,
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
  kept = await KeptSite.of(studio, LIVE, COPY);
}, 120_000);
afterAll(() => studio?.stop());

type Rows = Record<string, unknown>[];
const rows = (path: string, sql: string): Promise<Rows> => onSite(studio, path, (query) => query(sql));
const one = async (path: string, sql: string): Promise<unknown> => Object.values((await rows(path, sql))[0] ?? {})[0];
const run = async (path: string, ...statements: string[]): Promise<void> => {
  await onSite(studio, path, async (query) => {
    for (const sql of statements) await query(sql);
  });
};
const items = async (forecast: { id: string }) =>
  (await studio.client.call('forecastItems', { params: { id: forecast.id }, query: {} })).items;
const say = (forecast: { sentence: readonly { text: string }[] }): string =>
  forecast.sentence.map((piece) => piece.text).join('');
const insertPage = (slug: string, title: string): string =>
  `INSERT INTO page (slug, title, body) VALUES ('${slug}', '${title}', '')`;

describe('work on a copy while live goes on', () => {
  beforeEach(async () => {
    await kept.restore();
  });

  it('brings what the copy changed, and keeps what live changed, cell by cell', async () => {
    await run(COPY, "UPDATE product SET title = 'Linen apron, russet' WHERE slug = 'apron'");
    await run(COPY, "UPDATE page SET title = 'Dyes' WHERE slug = 'dye'");
    await run(LIVE, "UPDATE product SET description = 'Three pockets.', stock = stock - 1 WHERE slug = 'apron'");
    await run(LIVE, "UPDATE page SET title = 'Welcome' WHERE slug = 'home'", insertPage('news', 'Made on live'));
    const forecast = await forecastOf(studio, COPY, LIVE);
    expect(say(forecast)).toMatch(/^Write 1 (page and 1 product|product and 1 page) from/);
    expect(forecast).toMatchObject({ direction: 'up', method: 'merge', unsettled: 0, lost: [] });
    await done(studio, await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }));
    expect(await rows(LIVE, "SELECT title, description, stock FROM product WHERE slug = 'apron'")).toEqual([
      { title: 'Linen apron, russet', description: 'Three pockets.', stock: 99 },
    ]);
    expect(await one(LIVE, "SELECT title FROM page WHERE slug = 'home'")).toBe('Welcome');
    expect(await one(LIVE, "SELECT title FROM page WHERE slug = 'news'")).toBe('Made on live');
    expect((await forecastOf(studio, COPY, LIVE)).written, 'a second one is empty').toEqual([]);
  });

  it('brings live’s news down without touching the work, and says so', async () => {
    await run(COPY, "UPDATE page SET body = 'In the works' WHERE slug = 'dye'", insertPage('draft', 'A draft'));
    await run(
      LIVE,
      "UPDATE page SET title = 'News of live' WHERE slug = 'home'",
      "INSERT INTO customer (name, email) VALUES ('Berit Holm', 'berit@post.example')",
      "UPDATE product SET stock = 55 WHERE slug = 'throw'",
    );
    const upload = (path: string, file: string): string => join(folderOf(studio, path), 'main/media/uploads', file);
    await fs.mkdir(upload(LIVE, 'reviews'), { recursive: true });
    await fs.writeFile(upload(LIVE, 'reviews/throw.svg'), '<svg>warm</svg>');
    await fs.symlink('reviews/throw.svg', upload(LIVE, 'latest.svg'));
    await fs.writeFile(upload(COPY, 'test.svg'), '<svg>of a test</svg>');
    const forecast = await forecastOf(studio, LIVE, COPY);
    expect(forecast.direction).toBe('down');
    expect(say(forecast)).toMatch(
      /^Bring 1 page.* from threadmill\/live into threadmill\/staging; 2 pages that staging/,
    );
    const pull = await done(studio, await pullInto(studio, LIVE, COPY));
    expect(pull.kind).toBe('pull');
    expect(await one(COPY, "SELECT title FROM page WHERE slug = 'home'")).toBe('News of live');
    expect(await one(COPY, "SELECT body FROM page WHERE slug = 'dye'")).toBe('In the works');
    expect(await one(COPY, "SELECT count(*)::int FROM page WHERE slug = 'draft'")).toBe(1);
    expect(await one(COPY, "SELECT stock FROM product WHERE slug = 'throw'")).toBe(55);
    expect(await fs.readFile(upload(COPY, 'reviews/throw.svg'), 'utf8')).toBe('<svg>warm</svg>');
    expect(await fs.readlink(upload(COPY, 'latest.svg'))).toBe('reviews/throw.svg');
    await expect(fs.stat(upload(COPY, 'test.svg')), 'test files give way').rejects.toThrow();
    const mails = (await rows(COPY, 'SELECT email FROM customer')).map((row) => String(row.email));
    expect(mails.length).toBeGreaterThan(1);
    for (const mail of mails) expect(mail, 'personal data stays masked').toMatch(/@masked\.example$/);
    expect((await forecastOf(studio, LIVE, COPY)).written, 'a second one is empty').toEqual([]);
    const push = await forecastOf(studio, COPY, LIVE);
    expect(push.written).toEqual([{ count: 2, kind: 'page', plural: 'pages' }]);
    await run(LIVE, "DELETE FROM customer WHERE email = 'berit@post.example'");
  });

  it('can be taken back out of the copy', async () => {
    const upload = join(folderOf(studio, COPY), 'main/media/uploads/late.svg');
    await fs.mkdir(join(folderOf(studio, LIVE), 'main/media/uploads'), { recursive: true });
    await fs.writeFile(join(folderOf(studio, LIVE), 'main/media/uploads/late.svg'), '<svg/>');
    const before = await one(COPY, "SELECT title FROM page WHERE slug = 'dye'");
    await run(LIVE, "UPDATE page SET title = 'Not wanted below' WHERE slug = 'dye'");
    const pull = await done(studio, await pullInto(studio, LIVE, COPY));
    expect(await one(COPY, "SELECT title FROM page WHERE slug = 'dye'")).toBe('Not wanted below');
    await fs.stat(upload);
    await done(studio, await undo(studio, pull.id));
    expect(await one(COPY, "SELECT title FROM page WHERE slug = 'dye'")).toBe(before);
    await expect(fs.stat(upload)).rejects.toThrow();
    expect((await forecastOf(studio, LIVE, COPY)).written.length, 'and is offered again').toBeGreaterThan(0);
  });

  it('asks where both changed one thing, and remembers what was decided', async () => {
    await run(COPY, "UPDATE product SET description = 'Ours.', title = 'Bag of ours' WHERE slug = 'bag'");
    await run(LIVE, "UPDATE product SET description = 'Theirs.' WHERE slug = 'bag'");
    const forecast = await forecastOf(studio, COPY, LIVE);
    expect(forecast.unsettled).toBe(1);
    expect(say(forecast)).toContain('1 collision to settle');
    const [bag] = await items(forecast);
    expect(bag).toMatchObject({ kind: 'product', outcome: 'needs-you' });
    const [collision] = bag?.collisions ?? [];
    expect(collision).toMatchObject({
      field: 'description',
      settled: null,
      allowed: ['source', 'destination', 'edited'],
    });
    expect(bag?.fields.find((field) => field.name === 'description')).toMatchObject({
      base: 'Twelve kilos.',
      source: 'Ours.',
      before: 'Theirs.',
      after: 'Theirs.',
    });
    await expect(
      studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }),
    ).rejects.toMatchObject({ problem: { type: 'tessarion:unsettled' } });

    const id = collision?.id as string;
    const decided = await settled(studio, forecast.id, {
      settlements: { [id]: { take: 'edited', value: 'Of us all.' } },
    });
    expect(decided.unsettled).toBe(0);
    await done(studio, await studio.client.call('pushCreate', { body: { forecast: decided.id, confirm: LIVE } }));
    expect(await rows(LIVE, "SELECT title, description FROM product WHERE slug = 'bag'")).toEqual([
      { title: 'Bag of ours', description: 'Of us all.' },
    ]);
    expect((await forecastOf(studio, COPY, LIVE)).unsettled, 'nobody is asked twice').toBe(0);
  });

  it('tells apart what both made under one number, and follows it ever after', async () => {
    await run(COPY, insertPage('autumn', 'Autumn'));
    const key = Number(await one(COPY, "SELECT id FROM page WHERE slug = 'autumn'"));
    await run(COPY, `INSERT INTO menu (label, target, page_id, position) VALUES ('Autumn', '/page/autumn', ${key}, 9)`);
    await run(LIVE, `SELECT setval('page_id_seq', ${key - 1})`, insertPage('fair', 'The fair'));
    expect(Number(await one(LIVE, "SELECT id FROM page WHERE slug = 'fair'"))).toBe(key);
    await done(studio, await pushOnto(studio, COPY, LIVE));
    const fresh = Number(await one(LIVE, "SELECT id FROM page WHERE slug = 'autumn'"));
    expect(fresh).not.toBe(key);
    expect(await one(LIVE, `SELECT slug FROM page WHERE id = ${key}`)).toBe('fair');
    expect(await one(LIVE, "SELECT page_id FROM menu WHERE label = 'Autumn'")).toBe(fresh);

    await run(COPY, "UPDATE page SET title = 'Autumn, again' WHERE slug = 'autumn'");
    await done(studio, await pushOnto(studio, COPY, LIVE));
    expect(await rows(LIVE, "SELECT id, title FROM page WHERE slug IN ('autumn', 'fair') ORDER BY id")).toEqual([
      { id: key, title: 'The fair' },
      { id: fresh, title: 'Autumn, again' },
    ]);
    await done(studio, await pullInto(studio, LIVE, COPY));
    const below = await rows(COPY, "SELECT id, slug FROM page WHERE slug IN ('autumn', 'fair') ORDER BY slug");
    expect(below.map((row) => row.slug)).toEqual(['autumn', 'fair']);
    expect(below[0]?.id).not.toBe(below[1]?.id);
    expect((await forecastOf(studio, COPY, LIVE)).written).toEqual([]);
    expect((await forecastOf(studio, LIVE, COPY)).written).toEqual([]);
  });

  it('moves what was chosen and what that needs, and nothing else', async () => {
    await run(COPY, insertPage('winter', 'Winter'), "UPDATE page SET title = 'Not yet' WHERE slug = 'home'");
    await run(
      COPY,
      "INSERT INTO menu (label, target, page_id, position) SELECT 'Winter', '/page/winter', id, 10 FROM page WHERE slug = 'winter'",
    );
    const menu = Number(await one(COPY, "SELECT id FROM menu WHERE label = 'Winter'"));
    const forecast = await forecastOf(studio, COPY, LIVE, { wishes: { only: [`menu:${menu}`] } });
    const shown = await items(forecast);
    expect(shown.find((item) => item.title === 'Winter' && item.kind === 'page')).toMatchObject({
      outcome: 'written',
      takenAlongFor: 'Winter',
    });
    expect(shown.find((item) => item.title === 'Not yet')).toMatchObject({ outcome: 'left-out' });
    await done(studio, await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }));
    expect(await one(LIVE, "SELECT count(*)::int FROM page WHERE slug = 'winter'")).toBe(1);
    expect(await one(LIVE, "SELECT count(*)::int FROM page WHERE title = 'Not yet'")).toBe(0);
    const rest = await forecastOf(studio, COPY, LIVE);
    expect((await items(rest)).map((item) => item.title)).toEqual(['Not yet']);
  });

  it('never deletes what was sold, and asks', async () => {
    await run(COPY, "DELETE FROM product WHERE slug = 'throw'");
    const product = Number(await one(LIVE, "SELECT id FROM product WHERE slug = 'throw'"));
    await run(
      LIVE,
      "INSERT INTO customer (id, name, email) VALUES (900, 'A', 'a@post.example')",
      "INSERT INTO purchase (id, customer_id, total, payment_mode) VALUES (900, 900, 89, 'live')",
      `INSERT INTO purchase_line (purchase_id, product_id, quantity, price) VALUES (900, ${product}, 1, 89)`,
    );
    const forecast = await forecastOf(studio, COPY, LIVE);
    const [item] = await items(forecast);
    expect(item).toMatchObject({ outcome: 'needs-you', change: 'deleted' });
    expect(item?.usedBy).toEqual([{ count: 1, kind: 'order', plural: 'orders' }]);
    expect(item?.collisions[0]).toMatchObject({
      allowed: ['destination'],
      words: expect.stringContaining('purchase_line'),
    });
    const decided = await settled(studio, forecast.id, { rest: 'destination' });
    expect(decided.unsettled).toBe(0);
    await done(studio, await studio.client.call('pushCreate', { body: { forecast: decided.id, confirm: LIVE } }));
    expect(await one(LIVE, "SELECT count(*)::int FROM product WHERE slug = 'throw'")).toBe(1);
    expect((await items(await forecastOf(studio, COPY, LIVE))).length, 'nobody is asked twice').toBe(0);
  });

  it('knows what triggers and types made of what it wrote', async () => {
    await run(
      LIVE,
      `CREATE FUNCTION tidy() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.title := btrim(NEW.title); NEW.updated_at := now(); RETURN NEW; END $$`,
      'CREATE TRIGGER tidy BEFORE INSERT OR UPDATE ON product FOR EACH ROW EXECUTE FUNCTION tidy()',
    );
    try {
      await run(COPY, "UPDATE product SET title = '  Apron  ', price = 51 WHERE slug = 'apron'");
      await run(COPY, "INSERT INTO product (slug, title, description, price) VALUES ('shawl', ' Shawl ', '', 80)");
      await run(LIVE, "UPDATE product SET price = 52 WHERE slug = 'apron'");
      const forecast = await forecastOf(studio, COPY, LIVE);
      const id = (await items(forecast)).flatMap((item) => item.collisions)[0]?.id as string;
      const decided = await settled(studio, forecast.id, { settlements: { [id]: { take: 'edited', value: '48' } } });
      const before = await rows(
        LIVE,
        "SELECT title, price FROM product WHERE slug IN ('apron', 'shawl') ORDER BY slug",
      );
      const push = await done(
        studio,
        await studio.client.call('pushCreate', { body: { forecast: decided.id, confirm: LIVE } }),
      );
      expect(
        await rows(LIVE, "SELECT title, price FROM product WHERE slug IN ('apron', 'shawl') ORDER BY slug"),
      ).toEqual([
        { title: 'Apron', price: '48.00' },
        { title: 'Shawl', price: '80.00' },
      ]);
      for (const [from, onto] of [
        [COPY, LIVE],
        [LIVE, COPY],
      ] as const)
        expect(await items(await forecastOf(studio, from, onto)), `nothing is left from ${from}`).toEqual([]);
      const undone = await done(studio, await undo(studio, push.id));
      expect(undone.remains).toEqual([]);
      expect(
        await rows(LIVE, "SELECT title, price FROM product WHERE slug IN ('apron', 'shawl') ORDER BY slug"),
      ).toEqual(before);
    } finally {
      await run(LIVE, 'DROP FUNCTION tidy CASCADE');
    }
  });

  it('merges files as it does rows', async () => {
    const at = (path: string, file: string): string => join(folderOf(studio, path), 'main', file);
    await fs.writeFile(at(COPY, 'styles/new.css'), '.new {}\n');
    await fs.appendFile(at(COPY, 'styles/site.css'), '\n.copy {}\n');
    await fs.appendFile(at(LIVE, 'templates/page.html'), '\n<!-- of live -->\n');
    await done(studio, await pushOnto(studio, COPY, LIVE));
    expect(await fs.readFile(at(LIVE, 'styles/new.css'), 'utf8')).toBe('.new {}\n');
    expect(await fs.readFile(at(LIVE, 'templates/page.html'), 'utf8')).toContain('of live');

    await fs.appendFile(at(COPY, 'styles/site.css'), '\n.ours {}\n');
    await fs.appendFile(at(LIVE, 'styles/site.css'), '\n.theirs {}\n');
    const forecast = await forecastOf(studio, COPY, LIVE);
    expect(forecast.unsettled).toBe(1);
    const end = await ended(studio, await pushOnto(studio, COPY, LIVE, { wishes: { rest: 'source' } }));
    expect(end.state).toBe('done');
    expect(await fs.readFile(at(LIVE, 'styles/site.css'), 'utf8')).toContain('.ours');
  });
});

describe('a document in a row', () => {
  const front = async (path: string): Promise<unknown> =>
    JSON.parse(String(await one(path, "SELECT value FROM option WHERE name = 'front'")));
  const setFront = (value: unknown): string =>
    `INSERT INTO option VALUES ('front', '${JSON.stringify(value)}') ON CONFLICT (name) DO UPDATE SET value = excluded.value`;
  let original: string;
  let profile: string;

  beforeAll(async () => {
    profile = (await studio.client.call('siteShow', { params: { site: 'threadmill' } })).profile as string;
    original = (await studio.client.call('profileShow', { params: { name: profile }, query: {} })).text;
  });
  beforeEach(async () => {
    await kept.restore();
    const text = original
      .replace('option: { class: authored }', 'option: { class: authored, columns: { value: { merge: members } } }')
      .replace(
        '\nreferences:\n',
        '\nreferences:\n  - { from: option.value, to: page.id, when: { name: [front] }, path: "$..lead" }\n',
      );
    await saveProfile(studio.client, profile, text);
    await run(LIVE, setFront({ lead: 1, colour: 'red', size: 's' }));
    await done(studio, await studio.client.call('resetCreate', { body: { from: LIVE, onto: COPY } }));
  });
  afterAll(() => saveProfile(studio.client, profile, original));

  it('is merged member by member, and the numbers in it follow the things that they name', async () => {
    await run(COPY, insertPage('tour', 'A tour'));
    const key = Number(await one(COPY, "SELECT id FROM page WHERE slug = 'tour'"));
    await run(COPY, setFront({ lead: key, colour: 'red', size: 's', more: [{ lead: key }] }));
    await run(LIVE, `SELECT setval('page_id_seq', ${key - 1})`, insertPage('stall', 'A stall'));
    await run(LIVE, setFront({ lead: 1, colour: 'blue', size: 's' }));
    const forecast = await forecastOf(studio, COPY, LIVE);
    expect(forecast.unsettled).toBe(0);
    await done(studio, await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }));
    const fresh = Number(await one(LIVE, "SELECT id FROM page WHERE slug = 'tour'"));
    expect(fresh).not.toBe(key);
    expect(await front(LIVE)).toEqual({ lead: fresh, colour: 'blue', size: 's', more: [{ lead: fresh }] });
    expect((await forecastOf(studio, COPY, LIVE)).written, 'a second one is empty').toEqual([]);

    await done(studio, await pullInto(studio, LIVE, COPY));
    expect(await front(COPY)).toEqual({ lead: key, colour: 'blue', size: 's', more: [{ lead: key }] });
    for (const [from, onto] of [
      [COPY, LIVE],
      [LIVE, COPY],
    ] as const)
      expect((await forecastOf(studio, from, onto)).written, `nothing is left from ${from}`).toEqual([]);
  });

  it('collides where both changed one member', async () => {
    await run(COPY, setFront({ lead: 1, size: 'ours' }));
    await run(LIVE, setFront({ lead: 1, size: 'theirs' }));
    expect((await forecastOf(studio, COPY, LIVE)).unsettled).toBe(1);
  });

  it('does not come down while a mask would make unique values meet', async () => {
    const text = original.replace(
      'email: { personal: mail }',
      'email: { personal: mail }\n          login: { personal: name }',
    );
    await saveProfile(studio.client, profile, text);
    const failed = (await forecastOf(studio, LIVE, COPY)).checks.filter((check) => check.state === 'failed');
    expect(failed.map((check) => [check.name, check.message, check.remedy])).toEqual([
      ['masks', expect.stringContaining('editor.login'), expect.stringContaining('profile')],
    ]);
  });

  it('is not written while the profile lets it refer to what is not there', async () => {
    const text = original.replace('\nreferences:\n', '\nreferences:\n  - { from: option.value, to: page.number }\n');
    await saveProfile(studio.client, profile, text);
    const failed = (await forecastOf(studio, COPY, LIVE)).checks.filter((check) => check.state === 'failed');
    expect(failed.map((check) => [check.name, check.message, check.remedy])).toEqual([
      ['references', expect.stringContaining('page.number'), expect.stringContaining('profile')],
    ]);
  });
});

describe('a text file that both changed', () => {
  it('is merged line by line, and goes down again as it is', async () => {
    await kept.restore();
    const at = (path: string): string => join(folderOf(studio, path), 'main/styles/site.css');
    const base = await fs.readFile(at(LIVE), 'utf8');
    await fs.writeFile(at(COPY), `.of-copy {}\n${base}`);
    await fs.writeFile(at(LIVE), `${base}\n.of-live {}\n`);
    const forecast = await forecastOf(studio, COPY, LIVE);
    expect((await items(forecast)).map((item) => [item.title, item.outcome, item.reason])).toEqual([
      ['styles/site.css', 'written', expect.stringContaining('different lines')],
    ]);
    await done(studio, await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }));
    expect(await fs.readFile(at(LIVE), 'utf8')).toBe(`.of-copy {}\n${base}\n.of-live {}\n`);
    expect((await items(await forecastOf(studio, COPY, LIVE))).length).toBe(0);
    await done(studio, await pullInto(studio, LIVE, COPY));
    expect(await fs.readFile(at(COPY), 'utf8')).toBe(`.of-copy {}\n${base}\n.of-live {}\n`);
  });
});

describe('a variant, which is a copy of a copy', () => {
  it('goes up by itself, with its own work and that of its source, and without masked values', async () => {
    await kept.restore();
    await run(COPY, "UPDATE page SET title = 'Of the source' WHERE slug = 'dye'");
    await done(
      studio,
      await studio.client.call('environmentCreate', {
        params: { site: 'threadmill' },
        body: { name: 'variant', kind: 'staging', from: COPY },
      }),
    );
    await run('threadmill/variant', "UPDATE page SET title = 'Of the variant' WHERE slug = 'home'");
    await run(LIVE, "UPDATE product SET title = 'Of live' WHERE slug = 'bag'");
    const forecast = await forecastOf(studio, 'threadmill/variant', LIVE);
    expect(forecast.unsettled).toBe(0);
    expect((await items(forecast)).map((item) => [item.title, item.outcome]).sort()).toEqual([
      ['Of the source', 'written'],
      ['Of the variant', 'written'],
    ]);
    await done(studio, await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }));
    expect(await one(LIVE, "SELECT count(*)::int FROM editor WHERE email LIKE '%masked%'")).toBe(0);
    expect(await one(LIVE, "SELECT title FROM product WHERE slug = 'bag'")).toBe('Of live');
    expect((await forecastOf(studio, 'threadmill/variant', LIVE)).written).toEqual([]);
    expect((await forecastOf(studio, COPY, LIVE)).unsettled, 'the source sees the same change on both sides').toBe(0);
  });
});

describe('the proof after a transfer', () => {
  it('says point by point what holds, and names what does not', async () => {
    await kept.restore();
    await makeCopy(studio, 'threadmill', 'beside');
    const { addresses } = await studio.client.call('environmentShow', {
      params: { site: 'threadmill', environment: 'beside' },
    });
    await run(COPY, "UPDATE page SET title = 'Proved' WHERE slug = 'home'", insertPage('proved', 'New and proved'));
    await fs.writeFile(join(folderOf(studio, COPY), 'main/styles/proved.css'), '.proved {}\n');
    const push = await done(studio, await pushOnto(studio, COPY, LIVE));
    const shown = await studio.client.call('transferShow', { params: { id: push.id } });
    expect(shown.proof.map((point) => [point.name, point.state]).filter(([name]) => name !== 'pages')).toEqual([
      ['rows', 'passed'],
      ['files', 'passed'],
      ['what visitors made', 'passed'],
      ['addresses', 'passed'],
      ['open to all', 'passed'],
    ]);
    expect(shown.proof[0]?.message).toMatch(/^2 rows read again, each as written/);
    expect(shown.proof[2]?.message).toMatch(/^Each single row of before is there in \d+ tables/);
    expect(shown.proof.filter((point) => point.name === 'pages').length).toBeGreaterThan(0);

    await run(COPY, `UPDATE page SET body = 'See ${addresses[0]?.url}/page/proved' WHERE slug = 'proved'`);
    const forecast = await forecastOf(studio, COPY, LIVE);
    const host = new URL(addresses[0]?.url as string).host;
    expect(forecast.checks.filter((check) => check.state === 'warning').map((check) => check.message)).toEqual([
      expect.stringContaining(host),
    ]);
    const again = await done(
      studio,
      await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }),
    );
    const { proof } = await studio.client.call('transferShow', { params: { id: again.id } });
    expect(proof.filter((point) => point.state !== 'passed').map((point) => point.message)).toEqual([
      expect.stringContaining(host),
    ]);
  });
});

describe('a choice or decision that makes no sense', () => {
  it('is named, with the next step, and nothing is written', async () => {
    await kept.restore();
    await run(COPY, "UPDATE page SET title = 'Chosen' WHERE slug = 'home'");
    const unnamed = await forecastOf(studio, COPY, LIVE, { wishes: { only: ['page:4711'] } });
    expect(unnamed.checks.find((check) => check.state === 'failed')?.message).toContain('page:4711');
    await expect(
      studio.client.call('pushCreate', { body: { forecast: unnamed.id, confirm: LIVE } }),
    ).rejects.toMatchObject({ problem: { type: 'tessarion:checks-failed' } });
    const idle = await forecastOf(studio, COPY, LIVE, {
      wishes: { settlements: { 'page:1/title': { take: 'source' } } },
    });
    expect(idle.checks.find((check) => check.state === 'failed')?.message).toContain('page:1/title');
    const down = await forecastOf(studio, LIVE, COPY);
    await expect(
      studio.client.call('pushCreate', { body: { forecast: down.id, confirm: COPY } }),
    ).rejects.toMatchObject({ problem: { type: 'tessarion:conflict' } });
  });
});

describe('on the command line', () => {
  it('a collision ends with 4 and says how to settle it; a pull brings news', async () => {
    await kept.restore();
    await run(COPY, "UPDATE page SET title = 'Ours' WHERE slug = 'home'");
    await run(LIVE, "UPDATE page SET title = 'Theirs' WHERE slug = 'home'");
    const key = await one(LIVE, "SELECT id FROM page WHERE slug = 'home'");
    const refused = await tessarion(studio, ['push', '--from', COPY, '--confirm', LIVE]);
    expect([refused.code, refused.out, refused.err]).toEqual([
      4,
      expect.stringContaining(`page:${key}/title`),
      expect.stringContaining('--take'),
    ]);
    const pushed = await tessarion(studio, ['push', '--from', COPY, '--confirm', LIVE, '--take', `page:${key}/title`]);
    expect(pushed.code, pushed.err).toBe(0);
    expect(await one(LIVE, "SELECT title FROM page WHERE slug = 'home'")).toBe('Ours');
    await run(LIVE, "UPDATE page SET title = 'News' WHERE slug = 'home'");
    const pulled = await tessarion(studio, ['pull', '--onto', COPY, '--yes']);
    expect(pulled.code, pulled.err).toBe(0);
    expect(await one(COPY, "SELECT title FROM page WHERE slug = 'home'")).toBe('News');
    expect((await tessarion(studio, ['pull', '--from', COPY, '--onto', LIVE, '--yes'])).code).toBe(3);
  });

  it('compares two environments both ways', async () => {
    await kept.restore();
    await run(
      COPY,
      "UPDATE page SET title = 'Ours alone' WHERE slug = 'dye'",
      "UPDATE page SET title = 'Ours' WHERE slug = 'home'",
    );
    await run(LIVE, "UPDATE page SET title = 'Theirs' WHERE slug = 'home'");
    const shown = await tessarion(studio, ['compare', COPY, LIVE]);
    expect(shown.code, shown.err).toBe(0);
    expect(shown.out).toContain(`${COPY} has 2 that ${LIVE} has not`);
    expect(shown.out).toContain(`${LIVE} has 1 that ${COPY} has not`);
    expect(shown.out).toMatch(/Ours +changed +collides/);
    const [up, down] = JSON.parse((await tessarion(studio, ['compare', COPY, LIVE, '--json'])).out).sides;
    expect([up.items.length, down.items.length, up.direction, down.direction]).toEqual([2, 1, 'up', 'down']);
  });

  it('moves what one person changed, or what was changed since a time', async () => {
    await kept.restore();
    await run(
      COPY,
      "UPDATE page SET title = 'By Runa', updated_by = 1, updated_at = '2026-11-20 10:00:00+00' WHERE slug = 'dye'",
      "UPDATE page SET title = 'By Ivar', updated_by = 2, updated_at = '2026-11-22 10:00:00+00' WHERE slug = 'home'",
    );
    const titles = async (...only: string[]) =>
      (await items(await forecastOf(studio, COPY, LIVE, { wishes: { only } })))
        .filter((item) => item.outcome === 'written')
        .map((item) => item.title);
    expect(await titles('by:1')).toEqual(['By Runa']);
    expect(await titles('since:2026-11-21')).toEqual(['By Ivar']);
    expect(await titles('until:2026-11-20T10:00:01Z')).toEqual(['By Runa']);
  });

  it('shows a changed file as each side and a snapshot have it, settings by their names', async () => {
    await kept.restore();
    const settings = join(folderOf(studio, COPY), 'main/config/site.env');
    const secret = /DATABASE_PASSWORD=["']?([^"'\n]+)/.exec(await fs.readFile(settings, 'utf8'))?.[1] as string;
    const item = 'file:main/config/site.env';
    const add = (line: string): Promise<void> => fs.appendFile(settings, `${line}\n`);
    const shown = async (id: string, side: 'source' | 'destination' | 'base'): Promise<string> => {
      const file = await studio.client.call('forecastFile', { params: { id }, query: { item, side } });
      return file.is === 'text' ? file.text : file.is;
    };
    await add('FIRST=1');
    await done(studio, await studio.client.call('snapshotTake', { body: { environment: COPY } }));
    const [snapshot] = await studio.client.call('snapshotList', { query: { environment: COPY } });
    await add('SECOND=2');
    const { id } = await forecastOf(studio, COPY, LIVE);
    const [source, destination, base] = [
      await shown(id, 'source'),
      await shown(id, 'destination'),
      await shown(id, 'base'),
    ];
    expect(secret.length).toBeGreaterThan(5);
    for (const text of [source, destination, base]) {
      expect(text).toContain('‹database-password›');
      expect(text).not.toContain(secret);
    }
    expect(source).toContain('SECOND=2');
    expect([destination, base].join()).not.toMatch(/FIRST|SECOND/);
    const former = await forecastOf(studio, COPY, LIVE, { snapshot: snapshot?.id as string });
    expect(await shown(former.id, 'source')).toMatch(/FIRST=1(?![\s\S]*SECOND)/);
    await expect(
      studio.client.call('forecastFile', { params: { id }, query: { item: 'file:main/index.html', side: 'source' } }),
    ).rejects.toThrow(/lists no file/);
  });

  it('brings back a part of a snapshot', async () => {
    const key = await one(LIVE, "SELECT id FROM page WHERE slug = 'home'");
    const was = await one(LIVE, "SELECT title FROM page WHERE slug = 'home'");
    const taken = await tessarion(studio, ['snapshot', 'take', LIVE]);
    expect(taken.code, taken.err).toBe(0);
    const [snapshot] = await studio.client.call('snapshotList', { query: { environment: LIVE } });
    await run(
      LIVE,
      "UPDATE page SET title = 'Spoilt' WHERE slug = 'home'",
      "UPDATE page SET title = 'Good' WHERE slug = 'dye'",
    );
    const restored = await tessarion(studio, [
      ...['snapshot', 'restore', snapshot?.id as string, '--onto', LIVE],
      ...['--only', `page:${key}`, '--confirm', LIVE],
    ]);
    expect(restored.code, restored.err).toBe(0);
    expect(await one(LIVE, "SELECT title FROM page WHERE slug = 'home'")).toBe(was);
    expect(await one(LIVE, "SELECT title FROM page WHERE slug = 'dye'")).toBe('Good');
  });
});
