import { createHmac } from 'node:crypto';
import {
  BlockCutter,
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
