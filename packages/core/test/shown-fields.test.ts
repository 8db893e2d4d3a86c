import { describe, expect, it } from 'vitest';
import { bothTexts, checkProfile, type Profile, shownFields } from '../src/index.js';

const profileOf = (columns: string): Profile => {
  const checked = checkProfile(`
tessarion: profile/1
name: shop
title: A shop
areas: [{ name: code, path: ., class: authored }]
databases:
  main:
    tables:
      product: { class: authored, key: [number], columns: ${columns} }
      product_line: { class: authored, columns: { amount: { label: How many } } }
      editor: { class: authored }
items:
  - kind: product
    table: product
    title: name
    changed: { at: touched, by: toucher, name: editor.name }
    dependants: [{ table: product_line, column: product }]
`);
  if (!checked.ok) throw new Error(JSON.stringify(checked.mistakes));
  return checked.profile;
};

const field = (name: string, source: string | null, before: string | null = null) => ({
  name,
  base: null,
  source,
  before,
  after: source,
});
const looksOf = (profile: Profile | undefined, fields: ReturnType<typeof field>[]) =>
  shownFields(profile, { kind: 'product', part: 'product', fields }).map(({ name, label, show, isHidden }) => [
    name,
    label,
    show,
    isHidden,
  ]);

describe('fields of an item', () => {
  it('stand in the order of the profile, by its names and as it says; keys and bookkeeping come last', () => {
    const profile = profileOf('{ name: { label: Title }, text: { show: page }, secret: { hidden: true } }');
    expect(
      looksOf(profile, [
        field('number', '7'),
        field('secret', 'x'),
        field('touched', '2026-11-30 10:00:00+00'),
        field('toucher', '3'),
        field('text', 'plain words'),
        field('stock', '4'),
        field('name', 'Wool throw'),
      ]),
    ).toEqual([
      ['name', 'Title', 'text', false],
      ['text', 'Text', 'page', false],
      ['stock', 'Stock', 'text', false],
      ['secret', 'Secret', 'text', true],
      ['number', 'Number', 'text', true],
      ['touched', 'Touched', 'moment', true],
      ['toucher', 'Toucher', 'text', true],
    ]);
  });

  it('are read by what they are called and hold, where nobody said how', () => {
    expect(
      looksOf(undefined, [
        field('shippingStreet', 'Kelpmakers Row'),
        field('published_at', '2026-11-29 19:24:56.869442+00', '2026-11-30T01:00:00Z'),
        field('unit_price', '34.00'),
        field('price', '34'),
        field('image', 'products/apron.svg'),
        field('file', 'a letter.svg'),
        field('body', '<p>Madder</p>'),
        field('sum', null),
        field('less', 'a < b and c > d'),
        field('id', '4'),
      ]),
    ).toEqual([
      ['shippingStreet', 'Shipping street', 'text', false],
      ['published_at', 'Published at', 'moment', false],
      ['unit_price', 'Unit price', 'money', false],
      ['price', 'Price', 'text', false],
      ['image', 'Image', 'picture', false],
      ['file', 'File', 'text', false],
      ['body', 'Body', 'page', false],
      ['sum', 'Sum', 'text', false],
      ['less', 'Less', 'text', false],
      ['id', 'Id', 'text', true],
    ]);
  });

  it('of what belongs to an item go by the names of their own table', () => {
    expect(looksOf(profileOf('{}'), [field('amount', '2')])).toEqual([['amount', 'How many', 'text', false]]);
  });

  it('name people by a column of a table that there is', () => {
    const checked = checkProfile(`
tessarion: profile/1
name: shop
title: A shop
areas: [{ name: code, path: ., class: authored }]
databases: { main: { tables: { page: { class: authored } } } }
items: [{ kind: page, table: page, title: title, changed: { at: touched, by: toucher, name: crew.name } }]
`);
    expect(checked).toMatchObject({ ok: false });
    expect(!checked.ok && checked.mistakes[0]?.message).toContain('crew');
  });
});

describe('both texts in one', () => {
  it('hold what each side changed, and both where they changed the same words', () => {
    const base = 'Two pockets. Wash at 40 degrees.';
    expect(bothTexts(base, 'Two deep pockets. Wash at 40 degrees.', 'Two pockets. Wash at 30 degrees.')).toBe(
      'Two deep pockets. Wash at 30 degrees.',
    );
    expect(bothTexts('price 34', 'price 38', 'price 36')).toBe('price 38 36');
    expect(bothTexts('', 'one', '')).toBe('one');
    expect(bothTexts(base, base, base)).toBe(base);
  });
});
