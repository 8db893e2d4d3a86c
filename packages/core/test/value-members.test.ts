import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { keysInside, mergeValues, readKeyPath, toBytes } from '../src/index.js';

const swap = (value: string, path: string, keys: Record<string, string>): string =>
  keysInside(path).replace(value, (key) => keys[key] ?? key);

describe('keys inside a value', () => {
  it.each([
    ['a member', '{"page": 12, "n": 12}', '$.page', '{"page": 40, "n": 12}'],
    ['a string', '{"page":"12"}', '$.page', '{"page":"40"}'],
    ['all of a list', '[12, 3, "12"]', '$[*]', '[40, 3, "40"]'],
    ['one of a list', '[12, 12]', '$[1]', '[12, 40]'],
    ['members of members', '{"rows":[{"page":12},{"page":7}]}', '$.rows[*].page', '{"rows":[{"page":40},{"page":7}]}'],
    [
      'any below',
      '{"a":{"page":12},"b":[{"page":12}],"id":12}',
      '$..page',
      '{"a":{"page":40},"b":[{"page":40}],"id":12}',
    ],
    ['a quoted name', '{"the page":12}', "$['the page']", '{"the page":40}'],
    ['serialised numbers', 'a:2:{s:4:"page";i:12;s:1:"n";i:12;}', '$.page', 'a:2:{s:4:"page";i:40;s:1:"n";i:12;}'],
    ['serialised strings, their lengths anew', 'a:1:{i:0;s:2:"12";}', '$[*]', 'a:1:{i:0;s:2:"40";}'],
    ['objects', 'O:4:"Menu":1:{s:4:"page";i:12;}', '$.page', 'O:4:"Menu":1:{s:4:"page";i:40;}'],
    [
      'beside values that stand for others by number',
      'a:2:{s:4:"page";i:12;s:4:"same";R:2;}',
      '$.page',
      'a:2:{s:4:"page";i:40;s:4:"same";R:2;}',
    ],
    [
      'beside objects that stand for others',
      'a:3:{i:0;O:4:"Menu":1:{s:4:"page";i:12;}i:1;r:2;i:2;i:12;}',
      '$..page',
      'a:3:{i:0;O:4:"Menu":1:{s:4:"page";i:40;}i:1;r:2;i:2;i:12;}',
    ],
    [
      'beside cases of an enumeration and what a class writes itself',
      'a:3:{s:1:"s";E:11:"Suit:Hearts";s:1:"c";C:3:"Bag":5:{i:12;}s:4:"page";i:12;}',
      '$.page',
      'a:3:{s:1:"s";E:11:"Suit:Hearts";s:1:"c";C:3:"Bag":5:{i:12;}s:4:"page";i:40;}',
    ],
    [
      'beside texts whose lengths count characters',
      toBytes('a:2:{s:4:"name";s:6:"Würzen";s:4:"page";i:12;}'),
      '$.page',
      toBytes('a:2:{s:4:"name";s:6:"Würzen";s:4:"page";i:40;}'),
    ],
    [
      'nothing beside a number that is none',
      'a:2:{s:1:"n";i:1.5;s:4:"page";i:12;}',
      '$.page',
      'a:2:{s:1:"n";i:1.5;s:4:"page";i:12;}',
    ],
    ['nothing in what is no document', 'page 12', '$..page', 'page 12'],
    ['nothing where no path leads', '{"other": 12}', '$.page', '{"other": 12}'],
    ['the document itself', '12', '$', '40'],
  ])('%s', (_name, value, path, expected) => {
    expect(swap(value, path, { '12': '40' })).toBe(expected);
  });

  it('writes the length of a longer key', () => {
    expect(swap('a:1:{i:0;s:2:"99";}', '$[*]', { '99': '1000' })).toBe('a:1:{i:0;s:4:"1000";}');
  });

  it('goes through a stand-in and back, in both formats', () => {
    for (const value of ['{"page": 12, "also": "12"}', 'a:2:{s:4:"page";i:12;s:4:"also";s:2:"12";}']) {
      const standing = swap(value, '$.*', { '12': '\0arriving main/public.page\x0012' });
      expect(standing).not.toBe(value);
      expect(swap(standing, '$.*', { '\0arriving main/public.page\x0012': '12' })).toBe(value);
    }
  });

  it('knows what it cannot read', () => {
    const { isReadable } = keysInside('$.page');
    for (const value of ['{"page":12}', 'a:1:{s:4:"page";R:1;}', '12', '', ' '])
      expect(isReadable(value), value).toBe(true);
    for (const value of ['page 12', '{"page":12', 'a:2:{s:4:"page";i:12;}', 'X:1;'])
      expect(isReadable(value), value).toBe(false);
  });

  it('knows what is no path', () => {
    for (const path of ['page', '$.', '$[', '$[x]', '$page', '$.a b']) expect(readKeyPath(path), path).toBeUndefined();
  });
});

describe('a value that both changed', () => {
  it.each([
    ['different members', '{"a":1,"b":2}', '{"a":9,"b":2}', '{"a":1,"b":8}', { a: 9, b: 8 }],
    ['one added, one removed', '{"a":1,"b":2}', '{"a":1,"b":2,"c":3}', '{"b":2}', { b: 2, c: 3 }],
    ['deep members', '{"a":{"x":1,"y":1}}', '{"a":{"x":2,"y":1}}', '{"a":{"x":1,"y":2}}', { a: { x: 2, y: 2 } }],
    ['the same', '{"a":1}', '{"a":2}', '{"a":2}', { a: 2 }],
  ])('%s', (_name, base, source, destination, expected) => {
    expect(JSON.parse(mergeValues(base, source, destination) ?? 'null')).toEqual(expected);
  });

  it.each([
    ['one member to different values', '{"a":1}', '{"a":2}', '{"a":3}'],
    ['a member that one removed and one changed', '{"a":1}', '{}', '{"a":3}'],
    ['lists', '[1]', '[1,2]', '[1,3]'],
    ['what is no document', 'a', 'b', 'c'],
    ['different formats', '{"a":1}', 'a:0:{}', '{"a":2}'],
  ])('collides in %s', (_name, base, source, destination) => {
    expect(mergeValues(base, source, destination)).toBeUndefined();
  });

  it('keeps counts of serialised maps', () => {
    expect(
      mergeValues('a:1:{s:1:"a";i:1;}', 'a:2:{s:1:"a";i:1;s:1:"b";i:2;}', 'a:2:{s:1:"a";i:1;s:1:"c";s:1:"x";}'),
    ).toBe('a:3:{s:1:"a";i:1;s:1:"c";s:1:"x";s:1:"b";i:2;}');
  });

  it('takes lengths for what they count', () => {
    const [bytes, characters] = ['s:7:"Würzen";', 's:6:"Würzen";'].map(toBytes) as [string, string];
    const map = (...values: string[]): string =>
      `a:${values.length}:{${values.map((value, i) => `i:${i};${value}`).join('')}}`;
    const plain = map('s:1:"a";', 's:1:"b";');
    const there = map('s:1:"a";', 's:1:"c";');
    expect(mergeValues(plain, map(characters, 's:1:"b";'), there)).toBe(map(characters, 's:1:"c";'));
    expect(mergeValues(plain, map(bytes, 's:1:"b";'), map('s:1:"a";', characters))).toBeUndefined();
  });

  const flat = fc.dictionary(fc.constantFrom('a', 'b', 'c', 'd', 'é"\\'), fc.integer({ min: 0, max: 3 }));
  const text = (value: unknown): string => Buffer.from(JSON.stringify(value)).toString('latin1');

  it('holds what either side changed, and collides only where both did', () => {
    fc.assert(
      fc.property(flat, flat, flat, (base, source, destination) => {
        const merged = mergeValues(text(base), text(source), text(destination));
        const names = new Set([base, source, destination].flatMap(Object.keys));
        const expected: Record<string, number | undefined> = {};
        let collides = false;
        for (const name of names) {
          const [b, s, d] = [base[name], source[name], destination[name]];
          if (s !== d && s !== b && d !== b) collides = true;
          const value = s === b ? d : s;
          if (value !== undefined) expected[name] = value;
        }
        if (collides) expect(merged).toBeUndefined();
        else expect(JSON.parse(Buffer.from(merged as string, 'latin1').toString())).toEqual(expected);
      }),
    );
  });
});
