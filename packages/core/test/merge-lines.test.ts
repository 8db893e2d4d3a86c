import { isLineText, mergeLines } from '../src/index.js';
import { describe, expect, fc, it } from './support.js';

const text = (...lines: string[]): string => lines.map((line) => `${line}\n`).join('');

describe('texts that both sides changed', () => {
  it('come together where they changed different lines', () => {
    const base = text('one', 'two', 'three', 'four', 'five');
    expect(
      mergeLines(base, text('ONE', 'two', 'three', 'four', 'five'), text('one', 'two', 'three', 'four', 'FIVE')),
    ).toBe(text('ONE', 'two', 'three', 'four', 'FIVE'));
    expect(
      mergeLines(base, text('one', 'three', 'four', 'five'), text('one', 'two', 'three', 'four', 'five', 'six')),
    ).toBe(text('one', 'three', 'four', 'five', 'six'));
  });

  it('are left to a person where they changed the same lines differently, and not where alike', () => {
    const base = text('one', 'two');
    expect(mergeLines(base, text('one', 'ours'), text('one', 'theirs'))).toBeUndefined();
    expect(mergeLines(base, text('one', 'alike'), text('one', 'alike'))).toBe(text('one', 'alike'));
  });

  it('keep a missing last newline, and every byte', () => {
    expect(mergeLines('a\nb', 'x\nb', 'a\nb')).toBe('x\nb');
    expect(mergeLines('a\nb\nc', 'a\nb\nc\n', 'z\nb\nc')).toBe('z\nb\nc\n');
    expect(isLineText('a\0b')).toBe(false);
  });

  it('are the side that changed when only one did', () => {
    const some = fc.array(fc.constantFrom('a\n', 'b\n', '\n', 'c'), { maxLength: 12 }).map((parts) => parts.join(''));
    fc.assert(
      fc.property(some, some, (base, changed) => {
        expect(mergeLines(base, changed, base)).toBe(changed);
        expect(mergeLines(base, base, changed)).toBe(changed);
        expect(mergeLines(base, changed, changed)).toBe(changed);
      }),
      { numRuns: 2000 },
    );
  });
});
