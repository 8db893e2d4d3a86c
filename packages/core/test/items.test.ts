import { createHash } from 'node:crypto';
import { checkProfile, type FileChange, ItemCollector, type Profile, pluralOf, type RowChange } from '../src/index.js';
import { describe, expect, fc, it } from './support.js';

const digest = (text: string): string => createHash('sha256').update(text).digest('hex').slice(0, 16);

const checked = checkProfile(`tessarion: profile/1
name: loom
title: Loom
areas: [{ name: code, path: ., class: authored }]
databases: { main: { tables: { page: { class: authored }, person: { class: authored, columns: { name: { personal: name } } }, block: { class: authored }, odd: { class: authored } } } }
items:
  - { kind: page, table: page, title: title, dependants: [{ table: block, column: page_id }] }
  - { kind: author, table: person, title: name }
  - { kind: picture, plural: pictures, files: "media/*.svg" }
`);
if (!checked.ok) throw new Error(JSON.stringify(checked.mistakes));
const PROFILE: Profile = checked.profile;

const on = (table: string, key: string) =>
  ({ part: 'row', database: 'main', table: `public.${table}`, key: [key] }) as const;
const page = (key: string, title: string): RowChange => ({
  ...on('page', key),
  op: 'update',
  cells: { title: { before: 'was', after: title } },
});
const block = (key: string, owner: string): RowChange => ({
  ...on('block', key),
  op: 'insert',
  row: { id: key, page_id: owner, text: 'new text' },
});
const collector = (): ItemCollector => new ItemCollector(PROFILE, digest);
const file = (path: string, before: 'absent' | 'file', after: 'absent' | 'file'): FileChange => {
  const state = (type: 'absent' | 'file', piece: string): FileChange['before'] =>
    type === 'absent' ? { type } : { type, mode: 0o644, size: 10, pieces: [piece] };
  return { part: 'file', root: 'main', path, before: state(before, 'a'), after: state(after, 'b') };
};

describe('items', () => {
  it('are one thing to people, however many rows they are made of', () => {
    const gathered = collector();
    gathered.addRow(page('7', 'Dyes'), { id: '7', title: 'Dyes' }, false);
    gathered.addRow(block('70', '7'), { id: '70', page_id: '7' }, false);
    gathered.addRow(block('71', '7'), { id: '71', page_id: '7' }, true);
    const items = [...gathered.items.values()];
    expect(items).toHaveLength(1);
    expect(items[0]).toMatchObject({ id: 'page:7', kind: 'page', title: 'Dyes', change: 'changed', overwrites: true });
    expect(items[0]?.fields.map((one) => one.name)).toEqual([
      'title',
      'id',
      'page_id',
      'text',
      'id',
      'page_id',
      'text',
    ]);
    expect(gathered.parts.get('block')).toMatchObject({ type: 'table', inserted: 2, updated: 0, deleted: 0 });
  });

  it('go by no name that is personal: a title goes where nobody asks who may see it', () => {
    const gathered = collector();
    const person: RowChange = { ...on('person', '4'), op: 'insert', row: { id: '4', name: 'Ingrid Solheim' } };
    gathered.addRow(person, { id: '4', name: 'Ingrid Solheim' }, false);
    expect([...gathered.items.values()].map(({ id, title }) => [id, title])).toEqual([['author:4', 'author 4']]);
  });

  it('that only gain a part are changed, not new; those whose own row comes or goes are new or deleted', () => {
    const gathered = collector();
    gathered.addRow(block('70', '7'), { id: '70', page_id: '7' }, false);
    gathered.addRow({ ...on('page', '8'), op: 'insert', row: { id: '8', title: 'New' } }, { title: 'New' }, false);
    gathered.addRow({ ...on('page', '9'), op: 'delete', row: { id: '9', title: 'Old' } }, { title: 'Old' }, false);
    gathered.addRow(block('90', '9'), { id: '90', page_id: '9' }, false);
    expect([...gathered.items.values()].map((one) => `${one.id} ${one.change}`)).toEqual([
      'page:7 changed',
      'page:8 new',
      'page:9 deleted',
    ]);
  });

  it('are rows where the profile knows no better, and files by their patterns', () => {
    const gathered = collector();
    gathered.addRow({ ...on('odd', 'x y'), op: 'insert', row: { id: 'x y' } }, { id: 'x y' }, false);
    gathered.addFile('code', file('media/loom.svg', 'absent', 'file'), false);
    gathered.addFile('code', file('index.php', 'file', 'file'), true);
    gathered.addFile('code', file('old.php', 'file', 'absent'), false);
    expect([...gathered.items.values()].map(({ kind, title, change }) => [kind, title, change])).toEqual([
      ['row', 'odd x y', 'new'],
      ['picture', 'media/loom.svg', 'new'],
      ['file', 'index.php', 'changed'],
      ['file', 'old.php', 'deleted'],
    ]);
    expect(gathered.parts.get('code')).toEqual({
      name: 'code',
      type: 'area',
      inserted: 1,
      updated: 1,
      deleted: 1,
      bytes: 20,
    });
  });

  it('that stay are told apart from those that are written, and are in no fingerprint', () => {
    const gathered = collector();
    const empty = gathered.fingerprint();
    const goes: RowChange = { ...on('page', '3'), op: 'delete', row: { id: '3', title: 'Sold' } };
    const stays = {
      outcome: 'kept',
      fields: [],
      collisions: [],
      reason: '2 rows of sale refer to it',
      standsFor: null,
    } as const;
    gathered.addRow(goes, { id: '3', title: 'Sold' }, false, stays);
    expect(gathered.fingerprint()).toBe(empty);
    expect(gathered.amounts((one) => one.outcome === 'kept')).toEqual([{ count: 1, kind: 'page', plural: 'pages' }]);
    expect(gathered.amounts((one) => one.outcome === 'written')).toEqual([]);
  });

  it('show long values cut, and text as text', () => {
    const gathered = collector();
    const long = Buffer.from('ü'.repeat(3000)).toString('latin1');
    gathered.addRow(page('1', long), { title: long }, false);
    const [item] = gathered.items.values();
    expect([...(item?.title ?? '')].length).toBe(401);
    expect(item?.fields[0]?.after?.startsWith('üüü')).toBe(true);
    expect(item?.fields[0]?.after?.endsWith('…')).toBe(true);
  });
});

describe('the fingerprint', () => {
  const change = fc.record({ key: fc.constantFrom('1', '2', '3'), title: fc.constantFrom('a', 'b', 'c') });
  const of = (changes: readonly { key: string; title: string }[]): string => {
    const gathered = collector();
    for (const { key, title } of changes) gathered.addRow(page(key, title), { title }, false);
    return gathered.fingerprint();
  };

  it('is the same for the same changes in any order of items, and another one for any other change', () => {
    fc.assert(
      fc.property(fc.uniqueArray(change, { selector: (one) => one.key, minLength: 1 }), (changes) => {
        expect(of(changes.toReversed())).toBe(of(changes));
        const [first, ...rest] = changes as [(typeof changes)[0], ...typeof changes];
        expect(of([{ ...first, title: `${first.title}!` }, ...rest])).not.toBe(of(changes));
        expect(of(rest)).not.toBe(of(changes));
      }),
    );
  });

  it('changes when what would be overwritten changes, though what is written stays the same', () => {
    const written = (before: string): string => {
      const gathered = collector();
      gathered.addRow(
        { ...on('page', '1'), op: 'update', cells: { title: { before, after: 'same' } } },
        { title: 'same' },
        false,
      );
      return gathered.fingerprint();
    };
    expect(written('one')).not.toBe(written('another'));
  });
});

describe('plurals', () => {
  it.each([
    ['page', 'pages'],
    ['menu', 'menus'],
    ['box', 'boxes'],
    ['dish', 'dishes'],
    ['branch', 'branches'],
    ['story', 'stories'],
    ['day', 'days'],
    ['picture', 'pictures'],
  ])('of %s is %s', (kind, plural) => expect(pluralOf(PROFILE, kind)).toBe(plural));

  it('are the profile’s own where it gives them', () => {
    const own: Profile = { ...PROFILE, items: [{ kind: 'person', plural: 'people', table: 'p', title: 'name' }] };
    expect(pluralOf(own, 'person')).toBe('people');
  });
});
