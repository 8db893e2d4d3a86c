import { createHmac } from 'node:crypto';
import { checkProfile, type MaskRule, maskValue, personalPlaces, toBytes, toText } from '../src/index.js';
import { describe, expect, fc, it } from './support.js';

const hash = (value: string) => createHmac('sha256', 'k').update(value, 'latin1').digest();
const masked = (value: string, inside: Record<string, string>): string | null => {
  const bytes = maskValue({ inside } as MaskRule, toBytes(value), hash);
  return bytes === null ? null : toText(bytes);
};
const mail = (address: string): string => toText(maskValue('mail', toBytes(address), hash) as string);

/** A string, list or map in PHP's serialisation format (php.net, `serialize`). */
function serialised(value: unknown): string {
  if (typeof value === 'number') return `i:${value};`;
  if (typeof value === 'string') return `s:${Buffer.byteLength(value)}:"${value}";`;
  const entries = Object.entries(value as object);
  const key = (name: string): string => (Array.isArray(value) ? `i:${name};` : serialised(name));
  return `a:${entries.length}:{${entries.map(([name, one]) => key(name) + serialised(one)).join('')}}`;
}

const IDA = 'ida@copperlane.example';
const ORDER = { no: 12, by: { mail: IDA, tel: '+47 22 31 40 15' }, cc: [IDA, 'odd@post.example'], say: 'ü "hi"\n' };
const MASKED = { ...ORDER, by: { mail: mail(IDA), tel: ORDER.by.tel }, cc: [mail(IDA), mail('odd@post.example')] };
const MAILS = { '$.by.mail': 'mail', '$.cc': 'mail' };

describe('masks inside a value', () => {
  it('reach what the path names and all below it, and leave the rest byte for byte', () => {
    expect(masked(JSON.stringify(ORDER), MAILS)).toBe(JSON.stringify(MASKED));
    const spaced = JSON.stringify(ORDER, null, 2);
    expect(masked(spaced, MAILS)).toBe(JSON.stringify(MASKED, null, 2));
    expect(masked(serialised(ORDER), MAILS)).toBe(serialised(MASKED));
  });

  it('give the same for the same person as a mask of a whole column does, however it is spelled', () => {
    const escaped = '{"m": "ida\\u0040copperlane.example"}';
    expect(masked(escaped, { '$.m': 'mail' })).toBe(`{"m": "${mail(IDA)}"}`);
  });

  it('write nothing, numbers and fixed texts so that the value stays what it was', () => {
    expect(masked('{"a":"x","b":7,"c":"0012"}', { '$.a': 'null', '$.b': 'phone', '$.c': 'phone' })).toMatch(
      /^\{"a":null,"b":("\d"|\d),"c":"\d{4}"\}$/,
    );
    expect(masked(serialised({ a: 'x', b: 'y' }), { '$.a': 'null' })).toBe('a:2:{s:1:"a";N;s:1:"b";s:1:"y";}');
    const fixed = maskValue({ inside: { '$..a': { fixed: 'a "b"' } } }, '{"a":"x"}', hash);
    expect(fixed).toBe('{"a":"a \\"b\\""}');
  });

  it('mask a value that they cannot read as a whole, and keep nothing and null', () => {
    const broken = `a:1:{s:4:"mail";s:9:"${IDA}";}`;
    expect(masked(broken, MAILS)).not.toContain(IDA);
    expect(masked(`written to ${IDA}`, MAILS)).not.toContain(IDA);
    expect(masked('', MAILS)).toBe('');
    expect(maskValue({ inside: { '$.a': 'mail' } }, null, hash)).toBeNull();
  });

  it('leave no original behind, whatever the value is made of', () => {
    const leaf = fc.constantFrom(IDA, 'odd@post.example', 'a\\"b@c.example', 'ü@ø.example');
    const { tree } = fc.letrec((tie) => ({
      tree: fc.oneof(
        { depthSize: 'small' },
        fc.integer({ min: 0 }),
        fc.dictionary(fc.constantFrom('mail', 'a', 'b', '0', 'é "'), fc.oneof(leaf, tie('tree')), { maxKeys: 4 }),
        fc.array(fc.oneof(leaf, tie('tree')), { maxLength: 3 }),
      ),
    }));
    fc.assert(
      fc.property(tree, fc.constantFrom(JSON.stringify, serialised), (value, write) => {
        const text = write(value);
        const out = masked(text, { $: 'mail' });
        for (const one of ['copperlane', 'post.example', 'c.example', 'ø']) expect(out).not.toContain(one);
        expect(masked(text, { '$.elsewhere': 'mail' })).toBe(text);
        if (write === JSON.stringify) expect(() => JSON.parse(out as string)).not.toThrow();
      }),
    );
  });

  it('are named in a profile by paths', () => {
    const profile = (inside: string) =>
      checkProfile(`tessarion: profile/1
name: loom
title: A shop
databases: { main: { tables: { purchase: { class: collected, columns: { facts: { personal: { inside: ${inside} } } } } } } }
areas: [{ name: code, path: ., class: authored }]
`);
    expect(profile('{ "$.by.mail": mail, "$..note": free-text }').ok).toBe(true);
    expect(profile('{ mail: mail }').ok).toBe(false);
    expect(profile('{}').ok).toBe(false);
    expect(profile('{ "$.a": { inside: { "$.b": mail } } }').ok).toBe(false);
  });
});

describe('places inside values that hold something of people', () => {
  it('are found in JSON and serialised values, lists and numbered members together', () => {
    const found = [
      { path: '$.by.mail', looks: 'mail addresses' },
      { path: '$.by.tel', looks: 'phone numbers' },
      { path: '$.cc[*]', looks: 'mail addresses' },
    ];
    expect(personalPlaces([JSON.stringify(ORDER)], true)).toEqual(found);
    expect(personalPlaces([serialised(ORDER)], true)).toEqual(found);
    expect(personalPlaces([JSON.stringify(ORDER)], false)).toEqual(
      found.filter(({ looks }) => looks !== 'phone numbers'),
    );
    expect(personalPlaces([JSON.stringify({ "o'mail": { 'e-mail': IDA } })], false)).toEqual([
      { path: `$["o'mail"].e-mail`, looks: 'mail addresses' },
    ]);
  });

  it('are none in plain texts, titles and what is no value', () => {
    expect(
      personalPlaces(['', 'Market Bag', IDA, '{"a": ', '{"title":"Market Bag"}', '[1,2]', 'a:1:{'], false),
    ).toEqual([]);
  });
});
