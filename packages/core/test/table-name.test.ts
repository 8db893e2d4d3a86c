import {
  calledIn,
  checkProfile,
  ItemCollector,
  inconsistencies,
  isCalledAlike,
  keyUses,
  meansTable,
  type Profile,
  readTableId,
  readTablePath,
  type TableName,
  tableId,
  tableLabel,
  tablePath,
} from '../src/index.js';
import { describe, expect, fc, it } from './support.js';

const table = (database: string, name: string, schema = 'public'): TableName => ({ database, schema, name });

/** Two databases, in which some tables are called alike. */
function profileWith(more: string): Profile {
  const checked = checkProfile(`tessarion: profile/1
name: x
title: x
areas: [{ name: code, path: ., class: authored }]
databases:
  main: { tables: { page: { class: authored }, purchase: { class: collected }, "log_*": { class: derived } } }
  shop: { tables: { "*": { class: authored }, till.receipt: { class: collected } } }
${more}`);
  if (!checked.ok) throw new Error(JSON.stringify(checked));
  return checked.profile;
}

const REFERRING = (name: TableName, columns: readonly string[] = ['id', 'product_id']) => ({
  table: name,
  columns,
  key: ['id'],
  references: [],
});

describe('a table', () => {
  const part = fc.string({ minLength: 1, maxLength: 12 });
  const database = fc.stringMatching(/^[a-z][a-z0-9-]{0,8}$/);

  it('is told from all others of its site by its id, whatever it and its schema are called', () => {
    fc.assert(
      fc.property(fc.tuple(database, part, part), fc.tuple(database, part, part), (a, b) => {
        const [one, other] = [table(a[0], a[2], a[1]), table(b[0], b[2], b[1])];
        expect(readTableId(tableId(one))).toEqual(one);
        expect(readTablePath(tablePath(one))).toEqual({ schema: a[1], name: a[2] });
        expect(tableId(one) === tableId(other)).toBe(a.join('\0') === b.join('\0'));
        expect(isCalledAlike(one, other)).toBe(tablePath(one) === tablePath(other));
      }),
    );
  });

  it('is called without the usual schema, or without any', () => {
    expect(tableLabel(table('main', 'page'))).toBe('page');
    expect(tableLabel(table('main', 'page', ''))).toBe('page');
    expect(tableLabel(table('main', 'receipt', 'till'))).toBe('till.receipt');
  });

  it('is called with its database where another one has a table of that name first', () => {
    const profile = profileWith('');
    const called = (one: TableName): string => calledIn(profile, one);
    expect([table('main', 'page'), table('shop', 'page')].map(called)).toEqual(['page', 'shop/page']);
    expect([table('main', 'product'), table('shop', 'product')].map(called)).toEqual(['main/product', 'product']);
    expect(called(table('shop', 'log_x'))).toBe('shop/log_x');
    expect(calledIn(undefined, table('shop', 'page'))).toBe('page');
  });

  it('is meant by its name in any database, or in the one that is named, or in the one named beside it', () => {
    const [page, theirs] = [table('main', 'page'), table('shop', 'page')];
    const meant = (text: string, beside?: string) => [page, theirs].map((one) => meansTable(text, one, beside));
    expect(meant('page')).toEqual([true, true]);
    expect(meant('shop/page')).toEqual([false, true]);
    expect(meant('page', 'shop/brand')).toEqual([false, true]);
    expect(meant('main/page', 'shop/brand')).toEqual([true, false]);
    expect(meansTable('till.receipt', table('shop', 'receipt', 'till'))).toBe(true);
  });
});

describe('a profile of two databases', () => {
  it('names tables of any schema and database, and no others', () => {
    const profile = profileWith(`references:
  - { from: main/purchase.product_id, to: shop/product.id }
  - { from: shop/till.receipt.page_id, to: main/page.id }
items: [{ kind: good, table: shop/product, title: title }]
mentions: [{ in: { table: shop/till.receipt, column: note }, files: "media/**" }]`);
    expect(inconsistencies(profile)).toEqual([]);
    const wrong = profileWith('items: [{ kind: good, table: shop/product, title: title }]');
    const items = [{ kind: 'good', table: 'main/product', title: 'title' }];
    expect(inconsistencies({ ...wrong, items })).toMatchObject([{ message: /no table "main\/product"/ }]);
  });

  it('leads from one into the other only where it says so', () => {
    const tables = [table('main', 'purchase'), table('main', 'product'), table('shop', 'product')].map((one) =>
      REFERRING(one),
    );
    const usesOf = (rule: string): string[] =>
      (keyUses(tables, profileWith(`references: [${rule}]`)).get('main/public.purchase') ?? [])
        .filter((use) => use.column === 1)
        .map((use) => use.table);
    expect(usesOf('{ from: purchase.product_id, to: product.id }')).toEqual(['main/public.product']);
    expect(usesOf('{ from: purchase.product_id, to: shop/product.id }')).toEqual([]);
    expect(usesOf('{ from: main/purchase.product_id, to: shop/product.id }')).toEqual(['shop/public.product']);
  });

  it('has items of one kind in both, which are two things', () => {
    const profile = profileWith('items: [{ kind: page, table: page, title: title }]');
    const gathered = new ItemCollector(profile, (text) => text);
    for (const database of ['main', 'shop'])
      gathered.addRow(
        { part: 'row', database, table: 'public.page', key: ['1'], op: 'insert', row: { id: '1', title: database } },
        { id: '1', title: database },
        false,
      );
    expect([...gathered.items.values()].map(({ id, title, part }) => [id, title, part])).toEqual([
      ['page:1', 'main', 'page'],
      ['page:shop/1', 'shop', 'shop/page'],
    ]);
    expect([...gathered.parts.keys()]).toEqual(['page', 'shop/page']);
  });
});
