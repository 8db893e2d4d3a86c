import { type ByteString, Rewriter, type RowChange, readLine, tablePath, writeLine } from '@tessarion/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { DatabaseSystem, DatabaseView, RowWriter, SiteDatabase } from '../../src/ports/database.js';
import type { Mode } from '../../src/ports/rows.js';
import type { TableShape } from '../../src/ports/shapes.js';

/** A table as any kind of database can have it. */
export interface PlainTable {
  readonly name: string;
  /** `length` of texts that have a limit; `isRequired` where nothing may not stand. */
  readonly columns: readonly {
    readonly name: string;
    readonly type: 'number' | 'text';
    readonly length?: number;
    readonly isRequired?: boolean;
  }[];
  /** Empty for a table without one. */
  readonly key: readonly string[];
  /** Whether the key draws its values from a counter. */
  readonly draws?: boolean;
  readonly uniques?: readonly (readonly string[])[];
  readonly references?: readonly { readonly column: string; readonly table: string; readonly target: string }[];
}

/** A kind of database, and how a test makes and fills one without it. */
export interface KindUnderTest {
  readonly system: DatabaseSystem;
  /** An empty database with a login of its own. */
  fresh(): Promise<SiteDatabase>;
  /** Makes tables, as the program of a site would. */
  make(database: SiteDatabase, tables: readonly PlainTable[]): Promise<void>;
  /** Somebody else's rows, a value for each column. */
  put(database: SiteDatabase, table: string, rows: readonly (readonly (string | null)[])[]): Promise<void>;
  /** Somebody else changes a row, found by one of its columns. */
  change(
    database: SiteDatabase,
    table: string,
    where: readonly [string, string],
    column: string,
    value: string | null,
  ): Promise<void>;
  remove(database: SiteDatabase, table: string, where: readonly [string, string]): Promise<void>;
  close(): Promise<void>;
}

const text = (value: string): ByteString => Buffer.from(value).toString('latin1');

const PAGE: PlainTable = {
  name: 'page',
  columns: [
    { name: 'id', type: 'number', isRequired: true },
    { name: 'slug', type: 'text', length: 20 },
    { name: 'title', type: 'text' },
  ],
  key: ['id'],
  draws: true,
  uniques: [['slug']],
};
const NOTE: PlainTable = {
  name: 'note',
  columns: [
    { name: 'id', type: 'number', isRequired: true },
    { name: 'page_id', type: 'number' },
    { name: 'kind', type: 'text' },
    { name: 'text', type: 'text' },
  ],
  key: ['id'],
  references: [{ column: 'page_id', table: 'page', target: 'id' }],
};
const TAG: PlainTable = {
  name: 'tag',
  columns: [
    { name: 'name', type: 'text', isRequired: true },
    { name: 'label', type: 'text' },
  ],
  key: ['name'],
};
/** Rows that nothing tells apart. */
const LOG: PlainTable = { name: 'log', columns: [{ name: 'line', type: 'text' }], key: [] };

/** Tables of a small site. */
export const SITE: readonly PlainTable[] = [PAGE, NOTE, TAG, LOG];
const PAGES = [
  ['1', 'home', 'Home'],
  ['2', 'dye', 'Dyes'],
  ['10', 'shop', 'The “shop”\tand more\n\\N'],
  ['9', null, null],
] as const;

async function fresh(kind: KindUnderTest): Promise<SiteDatabase> {
  const database = await kind.fresh();
  await kind.make(database, SITE);
  await kind.put(database, 'page', PAGES);
  await kind.put(database, 'note', [
    ['1', '1', 'a', 'one'],
    ['2', '1', 'a', 'two'],
    ['3', '2', 'b', 'see media/loom.svg'],
  ]);
  await kind.put(database, 'tag', [
    ['b', 'B'],
    ['Z', 'Zed'],
    ['é', null],
  ]);
  await kind.put(database, 'log', [['same'], ['same'], ['other']]);
  return database;
}

const named = (tables: readonly TableShape[], name: string): TableShape =>
  tables.find((one) => one.name === name) as TableShape;

async function rowsOf(view: DatabaseView, name: string): Promise<(ByteString | null)[][]> {
  let all = '';
  for await (const lines of view.readRows(named(view.schema.tables, name))) all += lines;
  return all.split('\n').slice(0, -1).map(readLine);
}

/** All rows of a table, as a view reads them. */
export async function all(database: SiteDatabase, name: string): Promise<(ByteString | null)[][]> {
  const view = await database.system.view(database);
  try {
    return await rowsOf(view, name);
  } finally {
    await view.close();
  }
}

async function* each<T>(items: readonly T[]): AsyncGenerator<T> {
  yield* items;
}

/** What every kind of database must do; the next kind only has to be listed. */
export function databaseSuite(title: string, open: () => Promise<KindUnderTest>): void {
  describe(title, () => {
    let kind: KindUnderTest;
    beforeAll(async () => {
      kind = await open();
    });
    afterAll(() => kind?.close());

    describe('a view', () => {
      it('says how tables are made', async () => {
        const database = await fresh(kind);
        const view = await kind.system.view(database);
        const { tables } = view.schema;
        expect(tables.map((one) => [one.database, one.name])).toEqual([
          [database.name, 'log'],
          [database.name, 'note'],
          [database.name, 'page'],
          [database.name, 'tag'],
        ]);
        const page = named(tables, 'page');
        expect(page).toMatchObject({ key: ['id'], keyOrders: ['integer'], drawsKey: true });
        expect(page.columns.map((one) => [one.name, one.isText, one.maxLength, one.isRequired])).toEqual([
          ['id', false, undefined, true],
          ['slug', true, 20, false],
          ['title', true, undefined, false],
        ]);
        expect(page.uniques.map((columns) => columns.map((one) => one.name))).toEqual([['slug']]);
        expect(named(tables, 'note')).toMatchObject({ drawsKey: false });
        expect(named(tables, 'note').references).toMatchObject([
          { columns: ['page_id'], table: { schema: page.schema, name: 'page' }, targetColumns: ['id'] },
        ]);
        expect(named(tables, 'tag').keyOrders).toEqual(['bytes']);
        expect(named(tables, 'log').key).toEqual([]);
        expect(view.bytes).toBeGreaterThan(0);
        await view.close();
      });

      it('reads rows in the order of their keys, whole and in ranges, to the last byte', async () => {
        const view = await kind.system.view(await fresh(kind));
        expect((await rowsOf(view, 'page')).map((row) => row[0])).toEqual(['1', '2', '9', '10']);
        expect((await rowsOf(view, 'page'))[3]).toEqual(['10', 'shop', text('The “shop”\tand more\n\\N')]);
        expect((await rowsOf(view, 'page'))[2]).toEqual(['9', null, null]);
        expect((await rowsOf(view, 'tag')).map((row) => row[0])).toEqual(['Z', 'b', text('é')]);
        expect((await rowsOf(view, 'log')).map((row) => row[0]).sort()).toEqual(['other', 'same', 'same']);
        const page = named(view.schema.tables, 'page');
        let within = '';
        const ranges = [
          { from: undefined, to: '2' },
          { from: '9', to: '10' },
        ];
        for await (const lines of view.readRows(page, ranges)) within += lines;
        expect(
          within
            .split('\n')
            .slice(0, -1)
            .map((line) => readLine(line)[0]),
        ).toEqual(['1', '9']);
        expect(await view.countRows(page)).toBe(4);
        await view.close();
      });

      it('shows one moment, whatever is written meanwhile', async () => {
        const database = await fresh(kind);
        const view = await kind.system.view(database);
        await kind.change(database, 'page', ['id', '1'], 'title', 'Changed');
        await kind.remove(database, 'page', ['id', '9']);
        expect((await rowsOf(view, 'page')).map((row) => row[2])).toContain('Home');
        expect(await view.countRows(named(view.schema.tables, 'page'))).toBe(4);
        await view.close();
        expect((await all(database, 'page')).map((row) => row[2])).toEqual([
          'Changed',
          'Dyes',
          PAGES[2][2] && text(PAGES[2][2]),
        ]);
      });

      it('tells what was written since a moment, where it can', async () => {
        const database = await fresh(kind);
        const before = await kind.system.view(database);
        const moment = await before.moment();
        await before.close();
        expect(moment !== undefined).toBe(kind.system.can.toldSince);
        if (!moment) return;
        await kind.change(database, 'page', ['id', '2'], 'title', 'Inks');
        const after = await kind.system.view(database);
        const page = named(after.schema.tables, 'page');
        expect((await after.moment())?.database).toBe(moment.database);
        expect(await after.writtenSince(page, moment.transaction, 10)).toEqual({ rows: 4, written: 1, keys: ['2'] });
        expect(await after.countStill(page, ['2', '9'], moment.transaction)).toEqual([1, 0, 2]);
        expect(await after.heldKeys(page, ['1', '3', '10'])).toEqual(['1', '10']);
        await after.close();
      });
    });

    it('fills a fresh database with all that another one has', async () => {
      const [from, onto] = [await fresh(kind), await kind.fresh()];
      const view = await kind.system.view(from);
      const loader = await kind.system.load(onto.login);
      await loader.runSchema(await view.dumpSchema('before'));
      for (const table of view.schema.tables)
        await loader.loadRows(
          table,
          table.columns.map((one) => one.name),
          view.readRows(table),
        );
      await loader.setSequences(view.schema.sequences);
      await loader.runSchema(await view.dumpSchema('after'));
      await loader.close();
      await kind.system.refreshStatistics(onto.login);
      const copy = await kind.system.view(onto);
      expect(
        copy.schema.tables.map(({ columns, key, uniques, references }) => ({ columns, key, uniques, references })),
      ).toEqual(
        view.schema.tables.map(({ columns, key, uniques, references }) => ({ columns, key, uniques, references })),
      );
      for (const { name } of SITE) expect((await rowsOf(copy, name)).sort()).toEqual((await rowsOf(view, name)).sort());
      await Promise.all([view.close(), copy.close()]);
      // The counter goes on where its source's stands.
      const [drawn] = await kind.system.drawKeys(onto, named(copy.schema.tables, 'page'), 'id', 1, new Set());
      expect(Number(drawn)).toBeGreaterThan(1);
    });

    describe('questions', () => {
      it('find rows, and what refers to them, mentions them, or holds the same', async () => {
        const database = await fresh(kind);
        const questions = await kind.system.ask(database, 'test');
        const { tables } = questions.schema;
        const [page, note, tag] = [named(tables, 'page'), named(tables, 'note'), named(tables, 'tag')];
        const found = await questions.rowsWhere(page, ['id'], [['2'], ['77'], [null]]);
        expect(found).toBe(`${writeLine(['2', 'dye', 'Dyes'])}\n`);
        expect(await questions.rowsWhere(tag, ['name'], [[text('é')]])).toBe(`${writeLine([text('é'), null])}\n`);
        const refers = { table: note, column: 'page_id', keys: ['1', '2', '9'] };
        expect([...(await questions.countReferring(refers))].sort()).toEqual([
          ['1', 2],
          ['2', 1],
        ]);
        expect([...(await questions.countReferring({ ...refers, when: { kind: ['a', 'c'] } }))]).toEqual([['1', 2]]);
        expect([...(await questions.countReferring({ ...refers, keys: ['1'], distinct: 'kind' }))]).toEqual([['1', 1]]);
        expect([...(await questions.countReferring({ ...refers, without: [['1'], ['3']] }))]).toEqual([['1', 1]]);
        const mentions = { table: note, searches: [{ column: 'text', texts: ['media/loom.svg', 'media/none.svg'] }] };
        expect([...(await questions.countMentioning(mentions))]).toEqual([['media/loom.svg', 1]]);
        expect([
          ...(await questions.countMentioning({ table: page, searches: [{ column: undefined, texts: ['x'] }] })),
        ]).toEqual([['x', 4]]);
        expect(await questions.holders(page, ['slug'], [['none'], ['dye']])).toEqual([{ at: 1, key: ['2'] }]);
        expect([...(await questions.valuesByKey(page, 'title', ['1', '9', '77']))]).toEqual([['1', 'Home']]);
        expect(await questions.cell(note, { kind: 'b' }, 'text')).toBe('see media/loom.svg');
        expect(await questions.cell(page, { id: '9' }, 'title')).toBe(null);
        expect(await questions.cell(page, { id: '77' }, 'title')).toBe(undefined);
        await questions.close();
      });

      it('tell later whether each row of before is there', async () => {
        const database = await fresh(kind);
        const questions = await kind.system.ask(database, 'test');
        const note = named(questions.schema.tables, 'note');
        const before = await questions.heldRows(note);
        expect(before).toMatchObject({ rows: 3, keys: { highest: '3' } });
        await kind.put(database, 'note', [['4', '2', 'b', 'late']]);
        expect(await questions.heldRows(note, '3')).toEqual({ rows: 4, keys: before.keys });
        await kind.remove(database, 'note', ['id', '2']);
        expect((await questions.heldRows(note, '3')).keys?.sum).not.toBe(before.keys?.sum);
        expect((await questions.heldRows(named(questions.schema.tables, 'tag'))).keys).toBe(null);
        await questions.close();
      });

      it('name rows that would not fit', async () => {
        const questions = await kind.system.ask(await fresh(kind), 'test');
        const page = named(questions.schema.tables, 'page');
        expect([...questions.judgedColumns(page)].sort()).toEqual(['id', 'slug']);
        const row = (slug: string, op: 'insert' | 'update' = 'update', key = '1') =>
          ({ op, key: [key], cells: op === 'insert' ? { id: key, slug } : { slug } }) as const;
        expect(await questions.tryRows(page, [row('free')])).toEqual([]);
        expect(await questions.tryRows(page, [row('x'.repeat(21))])).toMatchObject([
          { table: 'page', key: '1', what: expect.stringContaining('21 characters') },
        ]);
        expect(await questions.tryRows(page, [row('dye')])).toMatchObject([
          { key: '1', what: expect.stringContaining('"dye", which 2 has') },
        ]);
        // What goes with the same transfer is in nobody's way.
        expect(await questions.tryRows(page, [row('dye'), row('home', 'update', '2')])).toEqual([]);
        expect(await questions.tryRows(page, [row('new', 'insert', '20'), row('new', 'insert', '21')])).toHaveLength(1);
        const crowded = await questions.crowdedRows(page, [{ name: 'slug', maxLength: 20 }], ['dye'], 18, 10);
        expect(crowded).toEqual([['2', 'dye', 'Dyes']]);
        expect(await questions.crowdedRows(page, [{ name: 'slug', maxLength: 20 }], ['dye'], 17, 10)).toEqual([]);
        await questions.close();
      });

      it('show what columns hold, and where it stands as a key', async () => {
        const questions = await kind.system.ask(await fresh(kind), 'test');
        const { tables } = questions.schema;
        const [page, note] = [named(tables, 'page'), named(tables, 'note')];
        const samples = await questions.samples(page, 200, 4);
        expect(samples.rows).toBe(4);
        expect(new Set(samples.values.get('title'))).toEqual(new Set(['Home', 'Dyes', 'The ']));
        expect([...samples.nullable].sort()).toEqual(['slug', 'title']);
        expect((await questions.differentValues(note, 'page_id', undefined, 10))?.toSorted()).toEqual(['1', '2']);
        expect(await questions.differentValues(note, 'page_id', { column: 'kind', value: 'b' }, 10)).toEqual(['2']);
        expect(await questions.countKeys(page, ['1', '2', '77'])).toBe(2);
        expect((await questions.size()).bytes).toBeGreaterThan(0);
        expect((await questions.counts()) instanceof Map).toBe(true);
        await questions.close();
      });
    });

    describe('a writer', () => {
      const on = (table: string, key: string) => ({ part: 'row', database: 'main', table, key: [key] }) as const;
      const rewriter = new Rewriter({ addresses: [], roots: [] });
      const changesOf = (shape: (name: string) => string): RowChange[] => [
        { ...on(shape('page'), '2'), op: 'update', cells: { title: { before: 'Dyes', after: 'Inks' } } },
        { ...on(shape('page'), '20'), op: 'insert', row: { id: '20', slug: 'new', title: 'New' } },
        { ...on(shape('note'), '30'), op: 'insert', row: { id: '30', page_id: '20', kind: 'a', text: 'of the new' } },
        { ...on(shape('tag'), 'Z'), op: 'delete', row: { name: 'Z', label: 'Zed' } },
      ];

      async function staged(
        database: SiteDatabase,
        changes: (shape: (name: string) => string) => RowChange[],
        mode: Mode = 'strict',
      ): Promise<RowWriter> {
        const writer = await kind.system.write(database, 'transfer of a test', mode);
        const pathOf = (name: string): string => tablePath(named(writer.schema.tables, name));
        await writer.stage(each(changes(pathOf)), rewriter, (_table, columns) => new Set(columns));
        return writer;
      }
      const nothing = () => [];

      it('writes all of it when it commits, and nothing before; its mark tells which', async () => {
        const database = await fresh(kind);
        const before = await all(database, 'page');
        const writer = await staged(database, changesOf);
        const { mark, applied } = await writer.write(new Set(), nothing);
        expect(applied).toMatchObject({ inserted: 2, updated: 1, deleted: 1, remains: [] });
        expect(await all(database, 'page')).toEqual(before);
        expect(await kind.system.fateOf(database.login, mark)).toBe('open');
        await writer.commit();
        await writer.close();
        expect(await kind.system.fateOf(database.login, mark)).toBe('committed');
        expect((await all(database, 'page')).map((row) => row[2])).toEqual([
          'Home',
          'Inks',
          null,
          text('The “shop”\tand more\n\\N'),
          'New',
        ]);
        expect((await all(database, 'tag')).map((row) => row[0])).toEqual(['b', text('é')]);
        expect((await all(database, 'note')).at(-1)).toEqual(['30', '20', 'a', 'of the new']);
        // A counter has passed what was brought along.
        const drawn = await kind.system.drawKeys(
          database,
          named(writer.schema.tables, 'page'),
          'id',
          2,
          new Set(['22']),
        );
        expect(drawn.every((key) => Number(key) > 20 && key !== '22')).toBe(true);
      });

      it('leaves nothing when it ends without a commit, or is ended by its purpose', async () => {
        const database = await fresh(kind);
        const before = await all(database, 'page');
        const writer = await staged(database, changesOf);
        const { mark } = await writer.write(new Set(), nothing);
        await writer.close();
        expect(await kind.system.fateOf(database.login, mark)).toBe('gone');
        const other = await staged(database, changesOf);
        const { mark: second } = await other.write(new Set(), nothing);
        await kind.system.endSessions(database.login, 'transfer of a test');
        await expect(other.commit()).rejects.toThrow();
        await other.close().catch(() => undefined);
        expect(await kind.system.fateOf(database.login, second)).toBe('gone');
        expect(await all(database, 'page')).toEqual(before);
      });

      it('refuses when anything is not as it was compared, and leaves it where it may', async () => {
        const database = await fresh(kind);
        await kind.change(database, 'page', ['id', '2'], 'title', 'Somebody else’s');
        const strict = await staged(database, changesOf);
        await expect(strict.write(new Set(), nothing)).rejects.toMatchObject({
          code: 'outdated',
          message: expect.stringContaining('page 2: was changed meanwhile (title)'),
        });
        await strict.close();
        const lenient = await staged(database, changesOf, 'lenient');
        const { applied } = await lenient.write(new Set(), nothing);
        expect(applied).toMatchObject({ inserted: 2, updated: 0, deleted: 1 });
        expect(applied.remains).toMatchObject([{ table: 'page', key: '2' }]);
        await lenient.commit();
        await lenient.close();
        expect((await all(database, 'page'))[1]?.[2]).toBe(text('Somebody else’s'));
        const over = await staged(
          database,
          (shape) => [{ ...on(shape('page'), '2'), op: 'update', cells: { title: { before: 'Dyes', after: 'Over' } } }],
          'over',
        );
        await over.write(new Set(), nothing);
        await over.commit();
        await over.close();
        expect((await all(database, 'page'))[1]?.[2]).toBe('Over');
      });

      it('lets two rows exchange what no two may share', async () => {
        const database = await fresh(kind);
        const writer = await staged(database, (shape) => [
          { ...on(shape('page'), '1'), op: 'update', cells: { slug: { before: 'home', after: 'dye' } } },
          { ...on(shape('page'), '2'), op: 'update', cells: { slug: { before: 'dye', after: 'home' } } },
        ]);
        await writer.write(new Set(), nothing);
        await writer.commit();
        await writer.close();
        expect((await all(database, 'page')).map((row) => row[1]).slice(0, 2)).toEqual(['dye', 'home']);
      });

      it('keeps what something refers to, in this database or by what another one says', async () => {
        const database = await fresh(kind);
        const goes = (shape: (name: string) => string): RowChange[] => [
          { ...on(shape('tag'), 'b'), op: 'delete', row: { name: 'b', label: 'B' } },
          { ...on(shape('tag'), 'Z'), op: 'delete', row: { name: 'Z', label: 'Zed' } },
        ];
        const asked = await staged(database, goes, 'lenient');
        const { applied } = await asked.write(new Set(), (table) =>
          table.name === 'tag' ? [{ called: 'sale', by: async (keys) => keys.filter((key) => key === 'b') }] : [],
        );
        expect(applied).toMatchObject({ deleted: 1, remains: [{ key: 'b', what: 'stays, since sale refers to it' }] });
        await asked.close();
        const note = named(asked.schema.tables, 'note');
        await kind.put(database, 'note', [['5', null, 'b', 'a note of the kind b']]);
        const strict = await staged(database, goes);
        await expect(
          strict.write(new Set(), (table) =>
            table.name === 'tag' ? [{ called: 'note', by: { table: note, column: 'kind' } }] : [],
          ),
        ).rejects.toMatchObject({ code: 'outdated', message: expect.stringContaining('since note refers to it') });
        await strict.close();
      });

      it('reads back what tables made of unsure values', async () => {
        const database = await fresh(kind);
        const writer = await staged(database, changesOf);
        const path = tablePath(named(writer.schema.tables, 'page'));
        const { read } = await writer.write(new Set([path]), nothing);
        const lines = read.flatMap((one) => one.lines.map(readLine));
        expect(lines.map((line) => line.slice(0, 4)).sort()).toEqual([
          ['2', 'dye', 'Inks', 'update'],
          ['20', 'new', 'New', 'insert'],
        ]);
        await writer.close();
      });
    });

    it('makes what one table has and another one has not', async () => {
      const [from, onto] = [await fresh(kind), await kind.fresh()];
      await kind.make(onto, [{ ...PAGE, columns: PAGE.columns.slice(0, 2) }]);
      const [questions, other] = [await kind.system.ask(from, 'test'), await kind.system.ask(onto, 'test')];
      const label = (table: TableShape): string => table.name;
      const makes = await kind.system.makes(from, questions.schema.tables, label);
      const theirs = await kind.system.makes(onto, other.schema.tables, label);
      await Promise.all([questions.close(), other.close()]);
      const path = tablePath(named(questions.schema.tables, 'page'));
      const [source, destination] = [makes.get(path), theirs.get(path)];
      const column = source?.columns.find((one) => one.name === 'title');
      if (!source || !destination || !column) throw new Error('not described');
      expect(destination.columns.map((one) => one.name)).toEqual(['id', 'slug']);
      const { making } = kind.system;
      const added = making.addColumn(source, column, destination);
      await kind.system.changeTables(onto.login, added.statements, false, 'test');
      const tag = makes.get(tablePath(named(questions.schema.tables, 'tag')));
      if (tag) await kind.system.changeTables(onto.login, making.addTable(tag).statements, false, 'test');
      const made = await kind.system.view(onto);
      expect(named(made.schema.tables, 'page').columns.map((one) => one.name)).toEqual(['id', 'slug', 'title']);
      expect(named(made.schema.tables, 'tag')).toMatchObject({ key: ['name'] });
      await made.close();
      await kind.system.changeTables(onto.login, added.revert, false, 'test');
      const reverted = await kind.system.view(onto);
      expect(named(reverted.schema.tables, 'page').columns.map((one) => one.name)).toEqual(['id', 'slug']);
      await reverted.close();
      await expect(kind.system.changeTables(onto.login, ['no such words'], false, 'test')).rejects.toMatchObject({
        code: 'schema-unsupported',
      });
    });

    it('lets in whom it knows, and says plainly whom not', async () => {
      const database = await kind.fresh();
      await kind.system.reach(database.login);
      expect(await kind.system.isStrong(database.login)).toBe(false);
      const wrong = { ...database, login: { ...database.login, password: 'another one' } };
      for (const open of [
        () => kind.system.reach(wrong.login),
        () => kind.system.view(wrong),
        () => kind.system.ask(wrong, 'test'),
        () => kind.system.write(wrong, 'test', 'strict'),
        () => kind.system.load(wrong.login),
      ])
        await expect(open()).rejects.toMatchObject({ code: 'database-refused' });
      const nobody = { ...database.login, port: 1 };
      await expect(kind.system.reach(nobody, [500])).rejects.toMatchObject({ code: 'database-unreachable' });
    });
  });
}
