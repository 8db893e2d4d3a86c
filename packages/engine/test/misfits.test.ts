import { misfitText, Rewriter, type RowChange, toBytes } from '@tessarion/core';
import type { SiteDatabase } from '@tessarion/engine';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { misfitsInCopy, misfitsOfChanges } from '../src/deliver/misfits.js';
import { PostgresLoader } from '../src/postgres/loader.js';
import { PostgresView } from '../src/postgres/view.js';
import type { LeftOut } from '../src/site/left-out.js';
import { profileOf, Yard } from './support/pair.js';

let yard: Yard;
beforeAll(async () => {
  yard = await Yard.open();
}, 60_000);
afterAll(() => yard?.close());

const AUTHORED = profileOf(`
areas: [{ name: code, path: ., class: authored }]
databases: { main: { tables: {
  link: { class: authored, columns: { feed: { rewrite: never } } },
  visit: { class: local },
  note: { class: authored, columns: { body: { personal: free-text } } },
  "*": { class: authored } } } }`);
const LIVE = 'https://loom.example';
const COPY = 'http://loom--a-rather-long-name.localhost:7400';
const NOTHING: LeftOut = { tables: [], areas: [], paths: [] };

const ends = async (sql: string, copy = COPY) => {
  const live = await yard.environment('live', LIVE, AUTHORED, { kind: 'live', sql });
  const there = await yard.environment('copy', copy, AUTHORED);
  const [database] = live.environment.databases as [SiteDatabase];
  const tried = async (leftOut = NOTHING) => {
    const view = await PostgresView.open(database);
    await view.close();
    return misfitsInCopy(database, view.schema.tables, live.environment, there.environment, leftOut);
  };
  return { live, there, login: database.login, tried };
};

describe('values that a copy would not take', () => {
  it('names each that would be too long, by row and column, and no other', async () => {
    const { tried } = await ends(`
      CREATE DOMAIN address AS varchar(40);
      CREATE TABLE link (id int PRIMARY KEY, url varchar(40) NOT NULL, second address, feed varchar(40), free text);
      INSERT INTO link VALUES
        (1, '${LIVE}/short', NULL, NULL, '${LIVE}/as/long/as/it/likes/because/nothing/limits/it'),
        (2, 'elsewhere, and as long as it may be.....', NULL, NULL, NULL),
        (3, '${LIVE}', '${LIVE}/ü', '${LIVE}/feed/never/changes', NULL),
        (4, 'no address', '//loom.example x //loom.example', NULL, NULL);
      CREATE TABLE visit (id int PRIMARY KEY, url varchar(40));
      INSERT INTO visit VALUES (1, '${LIVE}/never/copied');
      CREATE TABLE note (id int PRIMARY KEY, body varchar(40));
      INSERT INTO note VALUES (1, '${LIVE}/masked/anyway');`);
    const { found, tried: rows } = await tried();
    expect(found.map(misfitText).sort()).toEqual([
      `link 1: url would be ${COPY.length + 6} characters long and has room for 40: "${COPY}/short"`,
      `link 3: second would be ${COPY.length + 2} characters long and has room for 40: "${COPY}/ü"`,
      `link 3: url would be ${COPY.length} characters long and has room for 40: "${COPY}"`,
      'link 4: second would be 85 characters long and has room for 40: "//loom--a-rather-long-name.localhost:7400 x //loom--a-rat…"',
    ]);
    expect(rows).toBe(3);
    expect((await tried({ ...NOTHING, tables: ['link'] })).found).toEqual([]);
  });

  it('finds nothing where the copy has a shorter address, and reads nothing', async () => {
    const { tried } = await ends(
      `CREATE TABLE link (id int PRIMARY KEY, url varchar(28), feed text); INSERT INTO link SELECT i, '${LIVE}/' || i FROM generate_series(1, 900) i`,
      'https://l.example',
    );
    expect(await tried()).toEqual({ found: [], tried: 0, untried: 0 });
  });

  it('tries check constraints with the rest of the row as it is', async () => {
    const { tried } = await ends(`
      CREATE TABLE link (id int PRIMARY KEY, kind text, feed text, url text,
        CONSTRAINT secure CHECK (kind <> 'outer' OR url LIKE 'https:%'), CONSTRAINT positive CHECK (id > 0));
      INSERT INTO link VALUES (1, 'outer', NULL, '${LIVE}/a'), (2, 'inner', NULL, '${LIVE}/b'), (3, 'outer', NULL, 'https://other.example')`);
    const { found } = await tried();
    expect(found).toEqual([
      {
        table: 'link',
        key: '1',
        what: `breaks the constraint "secure": ((kind <> 'outer'::text) OR (url ~~ 'https:%'::text))`,
      },
    ]);
  });

  it('says how many it passed over where there are too many', async () => {
    const { tried } = await ends(
      `CREATE TABLE link (id int PRIMARY KEY, feed text, url text CHECK (url <> '')); INSERT INTO link SELECT i, NULL, '${LIVE}/' || i FROM generate_series(1, 20050) i`,
    );
    const { found, tried: rows, untried } = await tried();
    expect([found.length, rows, untried > 0]).toEqual([0, 20_000, true]);
  });

  it('is told by name when only loading finds it', async () => {
    const { login } = await ends(
      "CREATE TABLE link (id int, url text CHECK (url LIKE 'https:%')); INSERT INTO link VALUES (1, 'https:a'), (2, 'https:a')",
    );
    const loader = await PostgresLoader.open(login);
    async function* lines(): AsyncGenerator<string> {
      yield '7\thttp:unsafe\n';
    }
    await expect(loader.loadRows({ schema: 'public', name: 'link' }, ['id', 'url'], lines())).rejects.toMatchObject({
      code: 'value-refused',
      message: expect.not.stringContaining('unsafe'),
    });
    await expect(
      loader.runSchema(Buffer.from('CREATE UNIQUE INDEX one_url ON public.link (url);')),
    ).rejects.toMatchObject({
      code: 'value-refused',
      message: 'The database refuses a value: could not create unique index "one_url" (link).',
    });
    await loader.close();
  });
});

describe('changes that a destination would not take', () => {
  const SQL = `
    CREATE TABLE page (id int PRIMARY KEY, slug varchar(12) NOT NULL UNIQUE, parent int, place int, data jsonb, tags text[],
      UNIQUE (parent, place), CHECK (place >= 0), CHECK (data IS NULL OR jsonb_typeof(data) = 'object'));
    INSERT INTO page (id, slug, parent, place) VALUES (1, 'home', 0, 1), (2, 'dye', 0, 2), (3, 'wool', 0, 3);`;
  const on = { part: 'row', database: 'main', table: 'public.page' } as const;
  const insert = (id: string, row: Record<string, string | null>): RowChange => ({
    ...on,
    op: 'insert',
    key: [id],
    row: { id, slug: `s${id}`, parent: null, place: null, data: null, tags: null, ...row },
  });
  const update = (id: string, cells: Record<string, string | null>): RowChange => ({
    ...on,
    op: 'update',
    key: [id],
    cells: Object.fromEntries(Object.entries(cells).map(([name, after]) => [name, { before: 'x', after }])),
  });
  const remove = (id: string): RowChange => ({ ...on, op: 'delete', key: [id], row: {} });

  const found = async (...changes: RowChange[]): Promise<string[]> => {
    const { environment } = await yard.environment('live', LIVE, AUTHORED, { kind: 'live', sql: SQL });
    const [database] = environment.databases as [SiteDatabase];
    return (await misfitsOfChanges(database, changes, new Rewriter(environment.place))).found.map(misfitText).sort();
  };

  it('lets through what fits: swaps, values of deleted rows, nulls, arrays and JSON', async () => {
    expect(
      await found(
        update('1', { slug: 'dye' }),
        update('2', { slug: 'home', tags: '{a,"b c"}' }),
        remove('3'),
        insert('4', { slug: 'wool', parent: '0', place: '3', data: '{"a": [1, "ü"]}' }),
        insert('5', {}),
        insert('6', {}),
      ),
    ).toEqual([]);
  });

  it('names the row that has a unique value already, also a composite one', async () => {
    expect(await found(update('1', { slug: 'dye' }), insert('9', { parent: '0', place: '3' }))).toEqual([
      'page 1: wants the slug "dye", which 2 has',
      'page 9: wants the parent, place "0, 3", which 3 has',
    ]);
  });

  it('names what would be empty and must not be, also where the source knows nothing of the column', async () => {
    const more = `ALTER TABLE page ADD author text, ADD rank int NOT NULL DEFAULT 0, ADD mood text NOT NULL DEFAULT 'calm';
      UPDATE page SET author = 'x'; ALTER TABLE page ALTER author SET NOT NULL`;
    const { environment } = await yard.environment('live', LIVE, AUTHORED, { kind: 'live', sql: `${SQL}; ${more}` });
    const [database] = environment.databases as [SiteDatabase];
    const changes = [
      update('1', { slug: null }),
      insert('7', { mood: null }),
      insert('8', { author: 'y' }),
      remove('2'),
    ];
    const { found } = await misfitsOfChanges(database, changes, new Rewriter(environment.place));
    expect(found.map(misfitText).sort()).toEqual([
      'page 1: slug would be empty, and must not be',
      'page 7: author would be empty, and must not be',
      'page 7: mood would be empty, and must not be',
    ]);
  });

  it('names two changes that want the same', async () => {
    expect(await found(insert('8', { slug: 'same' }), insert('9', { slug: 'same' }))).toEqual([
      'page 8: wants the slug "same", which 9 wants too',
    ]);
  });

  it('names broken constraints and lengths once the destination’s address stands in the value', async () => {
    expect(
      await found(
        update('2', { place: '-1' }),
        insert('7', { data: '[1]' }),
        insert('8', { slug: new Rewriter({ addresses: [], roots: [] }).canonicalise('much too long').value }),
        insert('9', { slug: toBytes('zwölf Zeichn') }),
      ),
    ).toEqual([
      'page 2: breaks the constraint "page_place_check": (place >= 0)',
      `page 7: breaks the constraint "page_data_check": ((data IS NULL) OR (jsonb_typeof(data) = 'object'::text))`,
      'page 8: slug would be 13 characters long and has room for 12: "much too long"',
    ]);
  });

  it('agrees with what the server does, whatever is changed', async () => {
    const { environment, query } = await yard.environment('live', LIVE, AUTHORED, { kind: 'live' });
    const [database] = environment.databases as [SiteDatabase];
    const rewriter = new Rewriter(environment.place);
    let [fits, refused] = [0, 0];
    for (let seed = 1; seed <= 60; seed++) {
      const pick = (n: number, salt: number): number => ((seed * 7919 + salt * 104729) >>> 3) % n;
      await query(`DROP TABLE IF EXISTS page; ${SQL}`);
      const slug = (salt: number): string =>
        ['home', 'dye', 'a slug too long', 'wool', 'n1', 'n2', 'n3', 'n4', 'n5'][pick(9, salt)] as string;
      const changes = [
        update('1', { slug: slug(1) }),
        ...(pick(2, 2) ? [update('2', { slug: slug(3), place: String(pick(9, 4) - 1) })] : [remove('2')]),
        insert('4', { slug: slug(5), parent: '0', place: String(pick(9, 6)) }),
      ];
      const foreseen = (await misfitsOfChanges(database, changes, rewriter)).found;
      const statements = [
        'ALTER TABLE page DROP CONSTRAINT page_slug_key, DROP CONSTRAINT page_parent_place_key',
        ...changes.map((change) => {
          if (change.op === 'delete') return `DELETE FROM page WHERE id = ${change.key[0]}`;
          if (change.op === 'update')
            return `UPDATE page SET ${Object.entries(change.cells).map(([name, cell]) => `${name} = '${cell.after}'`)} WHERE id = ${change.key[0]}`;
          return `INSERT INTO page (id, slug, parent, place) VALUES (4, '${change.row.slug}', 0, ${change.row.place})`;
        }),
        'ALTER TABLE page ADD UNIQUE (slug), ADD UNIQUE (parent, place)',
      ];
      const taken = await query(statements.join('; ')).then(
        () => true,
        () => false,
      );
      expect({ seed, foreseen: foreseen.length === 0 }).toEqual({ seed, foreseen: taken });
      if (taken) fits++;
      else refused++;
    }
    expect(Math.min(fits, refused)).toBeGreaterThan(3);
  });
});
