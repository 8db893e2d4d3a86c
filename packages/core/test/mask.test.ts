import { createHmac } from 'node:crypto';
import {
  BlockCutter,
  keepsUnique,
  looksPersonal,
  type MaskRule,
  maskValue,
  nameFault,
  proposeName,
  readLine,
  writeLine,
} from '../src/index.js';
import { describe, expect, fc, it } from './support.js';

const hash = (key: string) => (value: string) => createHmac('sha256', key).update(value, 'latin1').digest();
const RULES: MaskRule[] = ['mail', 'name', 'phone', 'street', 'free-text', { fixed: 'x' }, 'null'];

describe('masks', () => {
  it('are deterministic by key, never give the value back, and keep null and empty', () => {
    fc.assert(
      fc.property(
        fc.constantFrom(...RULES),
        fc.string({ minLength: 6 }).filter((text) => text.trim().length > 5),
        (rule, value) => {
          expect(maskValue(rule, value, hash('k'))).toBe(maskValue(rule, value, hash('k')));
          if (rule !== 'phone') expect(maskValue(rule, value, hash('k'))).not.toBe(value);
          expect(maskValue(rule, null, hash('k'))).toBeNull();
          expect(maskValue(rule, '', hash('k'))).toBe('');
        },
      ),
    );
    expect(maskValue('mail', 'a@b.example', hash('k'))).not.toBe(maskValue('mail', 'a@b.example', hash('other')));
    expect(maskValue('keep', 'a', hash('k'))).toBe('a');
  });

  it('keep mails apart and phones in form', () => {
    const mails = new Set(Array.from({ length: 20_000 }, (_one, i) => maskValue('mail', `u${i}@x.example`, hash('k'))));
    expect(mails.size).toBe(20_000);
    expect(maskValue('phone', '+47 (22) 31-40-15', hash('k'))).toMatch(/^\+47 \(\d\d\) \d\d-\d\d-\d\d$/);
    expect(maskValue('free-text', 'one two\nthree', hash('k'))).toMatch(/^\w+ \w+\n\w+$/);
  });

  it('let different values stay different where a unique column needs it', () => {
    const many = (make: (i: number) => string, rule: MaskRule): number =>
      new Set(Array.from({ length: 5000 }, (_one, i) => maskValue(rule, make(i), hash('k')))).size;
    expect(many((i) => `+47 ${String(i).padStart(8, '0')}`, 'phone')).toBe(5000);
    expect(many((i) => `0${String(i % 10)}${String(i % 100)}${i}`.slice(0, 3), 'phone')).toBeGreaterThan(90);
    expect(many((i) => `10.0.${i >> 8}.${i & 255}`, 'internet-address')).toBe(5000);
    expect(many((i) => `2001:db8::${i.toString(16)}`, 'internet-address')).toBe(5000);
    const all = new Set(Array.from({ length: 1000 }, (_one, i) => maskValue('phone', `47${i + 1000}`, hash('k'))));
    expect(all.size).toBe(1000);
    const rules: MaskRule[] = [
      'mail',
      'phone',
      'date',
      'internet-address',
      'null',
      'name',
      'street',
      'free-text',
      { fixed: 'x' },
    ];
    expect(rules.filter(keepsUnique)).toEqual(['mail', 'phone', 'date', 'internet-address', 'null']);
  });

  it('shift dates by one distance, and keep their form', () => {
    const shifted = (value: string): string => maskValue('date', value, hash('k')) as string;
    expect(shifted('1990-03-01')).toMatch(/^19(89|90)-\d\d-\d\d$/);
    const days = (value: string): number =>
      (Date.parse(value.slice(0, 10)) - Date.parse(shifted(value).slice(0, 10))) / 86_400_000;
    expect(new Set(['1990-03-01', '2024-02-29 12:30:00+00', '0044-03-15'].map(days)).size).toBe(1);
    expect(shifted('2024-02-29 12:30:00.123+00')).toMatch(/ 12:30:00\.123\+00$/);
    expect(shifted('infinity')).toBe('infinity');
    expect(shifted('31.01.1990')).toMatch(/^31\.\d\d\.\d{4}$/);
  });

  it('keep the family and prefix of internet addresses', () => {
    const masked = (value: string): string => maskValue('internet-address', value, hash('k')) as string;
    expect(masked('198.51.100.7')).toMatch(/^\d+\.\d+\.\d+\.\d+$/);
    expect(masked('198.51.100.0/24')).toMatch(/\/24$/);
    expect(masked('2001:db8::1')).toBe(masked('2001:0db8:0:0:0:0:0:1'));
    expect(masked('::ffff:198.51.100.7')).toMatch(/^[0-9a-f:]+$/);
    expect(masked('not an address 12')).not.toBe('');
  });

  it('are asked for where a column looks personal', () => {
    expect(['email', 'customer_email', 'phone', 'first_name', 'ip_address'].every(looksPersonal)).toBe(true);
    expect(['title', 'mailing', 'phonetic', 'description'].some(looksPersonal)).toBe(false);
  });
});

describe('names', () => {
  it('that are proposed are free and without fault', () => {
    fc.assert(
      fc.property(fc.string(), fc.array(fc.string()), (wish, taken) => {
        const name = proposeName(wish, new Set(taken));
        expect(nameFault(name)).toBeUndefined();
        expect(taken).not.toContain(name);
      }),
    );
  });
});

describe('rows as lines', () => {
  it('come back as they were', () => {
    const value = fc.option(fc.uint8Array().map((bytes) => String.fromCharCode(...bytes)));
    fc.assert(
      fc.property(fc.array(value, { minLength: 1 }), (row) => {
        expect(readLine(writeLine(row))).toEqual(row);
      }),
    );
  });

  it('are cut at places that depend on the rows, so that one change touches few blocks', () => {
    const cut = (rows: string[]): string[] => {
      const blocks: string[] = [];
      const cutter = new BlockCutter(
        (line) => createHmac('md5', '').update(line).digest().readUInt32LE(0),
        (block) => blocks.push(block),
      );
      for (let at = 0; at < rows.length; at += 97) cutter.add(`${rows.slice(at, at + 97).join('\n')}\n`);
      cutter.end();
      return blocks;
    };
    const rows = Array.from({ length: 20_000 }, (_one, i) => `${i}\tsome text of row ${i}\t${'x'.repeat(i % 60)}`);
    const before = cut(rows);
    const after = cut(rows.toSpliced(9000, 1, 'changed').toSpliced(300, 0, 'inserted'));
    expect(before.join('')).toBe(`${rows.join('\n')}\n`);
    expect(after.filter((block) => !before.includes(block)).length).toBeLessThan(6);
    expect(before.join('').length / before.length).toBeGreaterThan(4000);
    expect(before.join('').length / before.length).toBeLessThan(16_000);
  });
});
