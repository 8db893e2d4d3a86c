import {
  areaOf,
  checkProfile,
  matchesPath,
  type Profile,
  personalFields,
  pushLane,
  resetLane,
  rulesForTable,
} from '../src/index.js';
import { describe, expect, it } from './support.js';

const GOOD = `tessarion: profile/1
name: shop
title: A shop
areas:
  - { name: code, path: ., class: authored, text: ['templates/**'] }
  - { name: media, path: media, class: authored }
  - { name: uploads, path: media/uploads, class: collected }
databases:
  main:
    tables:
      page: { class: authored }
      "log_*": { class: derived }
      "log_sale_*": { class: collected }
      product:
        class: authored
        columns: { stock: { class: collected }, email: { personal: mail } }
        rows: [{ when: { type: [cache, "tmp-*"] }, class: derived }]
        staff: { role: [editor] }
`;
const profile = (): Profile => {
  const checked = checkProfile(GOOD);
  if (!checked.ok) throw new Error(JSON.stringify(checked.mistakes));
  return checked.profile;
};

const inMain = (name: string) => ({ database: 'main', schema: 'public', name });

describe('a profile', () => {
  it('names the fields of an item that hold something personal, in its own table or a dependant', () => {
    const items = [
      { kind: 'product', table: 'product', title: 'id', dependants: [{ table: 'page', column: 'product' }] },
    ];
    const given = { ...profile(), items } as Profile;
    const of = (kind: string, part: string): string[] => [
      ...personalFields(given, { kind, part, fields: [{ name: 'id' }, { name: 'email' }] }),
    ];
    expect(of('product', 'page')).toEqual(['email']);
    expect(of('row', 'product')).toEqual(['email']);
    expect(of('row', 'page')).toEqual([]);
    expect(personalFields(undefined, { kind: 'row', part: 'product', fields: [{ name: 'email' }] }).size).toBe(0);
  });

  it('gives each table its class: its own, the longest pattern, or none', () => {
    const classOf = (table: string): string => rulesForTable(profile(), inMain(table), ['id']).class;
    expect(['page', 'log_x', 'log_sale_x', 'nobody'].map(classOf)).toEqual([
      'authored',
      'derived',
      'collected',
      'unclassified',
    ]);
    expect(rulesForTable(undefined, inMain('page'), []).class).toBe('unclassified');
  });

  it('gives columns and row groups their own classes', () => {
    const rules = rulesForTable(profile(), inMain('product'), ['id', 'type', 'stock', 'email', 'role']);
    expect(rules.columns.map((column) => column.class)).toEqual([
      'authored',
      'authored',
      'collected',
      'authored',
      'authored',
    ]);
    expect(['page', 'cache', 'tmp-7'].map((type) => rules.classOf(['1', type, '0', null, null]))).toEqual([
      'authored',
      'derived',
      'derived',
    ]);
    expect(rules.isStaff(['1', null, null, null, 'editor'])).toBe(true);
  });

  it('gives each file the area with the longest path', () => {
    const areas = profile().areas;
    expect(
      ['index.html', 'media/a.jpg', 'media/uploads/b.jpg', 'mediathek/c'].map((path) => areaOf(areas, path).name),
    ).toEqual(['code', 'media', 'uploads', 'code']);
    expect(
      ['templates/a/b.html', 'templates', 'x/templates/a'].map((path) => matchesPath('templates/**', path)),
    ).toEqual([true, false, false]);
    expect(matchesPath('**/*.css', 'a/b.css') && matchesPath('**/*.css', 'b.css')).toBe(true);
  });

  const mistakes: [string, string, number, RegExp][] = [
    ['an unknown key', GOOD.replace('title:', 'titel:'), 3, /titel/],
    ['an unknown class', GOOD.replace('page: { class: authored }', 'page: { class: mine }'), 11, /authored/],
    ['a path upward', GOOD.replace('path: media/uploads', 'path: ../up'), 7, /below the root/],
    [
      'no area for everything',
      GOOD.replace("path: ., class: authored, text: ['templates/**']", 'path: src, class: authored'),
      4,
      /"\."/,
    ],
    ['a reference to nothing', `${GOOD}references:\n  - { from: page.id, to: nothing.id }\n`, 20, /no table "nothing"/],
    [
      'a secret with values',
      `${GOOD}settings:\n  - { name: key, in: { file: a.env, format: env, key: K }, values: { dev: a, staging: b, live: c }, secret: true }\n`,
      20,
      /never holds a secret/,
    ],
    ['a key twice', `${GOOD}name: again\n`, 19, /unique/i],
  ];
  it.each(mistakes)('with %s is refused, with its line', (_what, text, line, message) => {
    const checked = checkProfile(text);
    expect(checked.ok).toBe(false);
    if (checked.ok) return;
    expect(checked.mistakes.map((one) => one.line)).toContain(line);
    expect(checked.mistakes.map((one) => `${one.path} ${one.message}`).join('\n')).toMatch(message);
  });
});

describe('lanes', () => {
  const at = (kind: 'dev' | 'staging' | 'live', site = 'a', name: string = kind) => ({
    path: `${site}/${name}`,
    site,
    kind,
  });
  it.each([
    ['dev', 'staging', true],
    ['staging', 'live', true],
    ['dev', 'live', false],
    ['live', 'staging', false],
    ['staging', 'dev', false],
  ] as const)('a push from %s to %s: %s', (from, onto, allowed) =>
    expect(pushLane(at(from), at(onto)).allowed).toBe(allowed),
  );
  it.each([
    ['live', 'staging', true],
    ['live', 'dev', true],
    ['staging', 'dev', true],
    ['dev', 'staging', false],
    ['staging', 'live', false],
  ] as const)('a reset from %s to %s: %s', (from, onto, allowed) =>
    expect(resetLane(at(from), at(onto)).allowed).toBe(allowed),
  );
  it('never crosses sites, and says what to do instead', () => {
    const verdict = pushLane(at('staging', 'a'), at('live', 'b'));
    expect(verdict).toMatchObject({ allowed: false });
    if (!verdict.allowed) expect(verdict.next).not.toBe('');
  });
});
