import { compileCondition, compilePattern, matchesPath, readLayer, readSetting, settingsIn } from '../src/index.js';
import { describe, expect, fc, it } from './support.js';

const escaped = (text: string): string => text.replace(/[.+?^${}()|[\]\\*]/g, '\\$&');

/** What the patterns mean, as regular expressions say it. */
const byExpression = (pattern: string, text: string): boolean =>
  new RegExp(`^${pattern.split('*').map(escaped).join('.*')}$`, 's').test(text);
const pathByExpression = (pattern: string, path: string): boolean => {
  const parts = pattern
    .split(/(\*\*\/|\*\*|\*)/)
    .map((part) => (part === '**/' ? '(?:.*/)?' : part === '**' ? '.*' : part === '*' ? '[^/]*' : escaped(part)));
  return new RegExp(`^${parts.join('')}$`, 's').test(path);
};

const of = (...signs: string[]) => fc.array(fc.constantFrom(...signs), { maxLength: 12 }).map((all) => all.join(''));

describe('patterns', () => {
  it('mean what an expression would, for any text', () =>
    fc.assert(
      fc.property(of('a', 'b', '*', '.', '\n'), of('a', 'b', '.', '\n'), (pattern, text) => {
        expect(compilePattern(pattern)(text)).toBe(byExpression(pattern, text));
      }),
      { numRuns: 5000 },
    ));

  it('mean what an expression would, for any path', () =>
    fc.assert(
      fc.property(of('a', 'b', '*', '**', '/', '**/'), of('a', 'b', '/', '/a'), (pattern, path) => {
        expect(matchesPath(pattern, path)).toBe(pathByExpression(pattern, path));
      }),
      { numRuns: 5000 },
    ));

  it('are followed through any text without trying ways again and again', () => {
    const text = 'a'.repeat(5000);
    const pattern = `${'*a'.repeat(200)}*b`;
    expect(compilePattern(pattern)(text)).toBe(false);
    expect(matchesPath(`${'**a'.repeat(40)}**b`, text)).toBe(false);
    expect(matchesPath(`${'*a'.repeat(200)}*b`, text)).toBe(false);
    expect(compileCondition({ word: [pattern] }, ['word'])([text])).toBe(false);
  });
});

describe('documents that somebody made to be slow', () => {
  const PROFILE = 'tessarion: profile/1\nname: x\ntitle: X\nareas: [{ name: a, path: ., class: authored }]\n';
  it.each([
    ['brackets', `a: ${'['.repeat(50_000)}`, 'nested'],
    ['brackets that close', `a: ${'['.repeat(50_000)}${']'.repeat(50_000)}`, 'nested'],
    ['braces', '{a: '.repeat(50_000), 'nested'],
    ['dashes', '- '.repeat(50_000), 'nested'],
    ['indentation', Array.from({ length: 1000 }, (_, i) => `${' '.repeat(i)}a:`).join('\n'), 'nested'],
    ['keys that stand twice', `${PROFILE}${'k: 1\n'.repeat(50_000)}`, 'unique'],
    ['keys', PROFILE + Array.from({ length: 5000 }, (_, i) => `k${i}: 1`).join('\n'), 'not a key that is known'],
    ['quotes', '"'.repeat(20_000), ''],
    ['brackets that never opened', ']\n'.repeat(20_000), ''],
    ['length', 'a'.repeat(2_000_000), 'longer'],
    [
      'references',
      `a: &a [x]\n${Array.from({ length: 30 }, (_, i) => `b${i}: &b${i} [*${i ? `b${i - 1}` : 'a'}, *${i ? `b${i - 1}` : 'a'}]`).join('\n')}`,
      'refers to the same too often',
    ],
  ])('are refused as profiles: %s', (_what, text, words) => {
    const read = readLayer(text);
    expect(read.ok).toBe(false);
    if (read.ok) return;
    expect(read.mistakes.length).toBeLessThanOrEqual(100);
    expect(read.mistakes[0]?.message).toContain(words);
  });

  it.each([
    ['yaml', '['.repeat(50_000)],
    ['json', '{"a":'.repeat(50_000)],
    ['yaml', '- '.repeat(50_000)],
    ['yaml', '"'.repeat(20_000)],
    ['env', `${' '.repeat(100_000)}x`],
    ['env', `NAME=${' '.repeat(100_000)}x`],
    ['env', `NAME=x${' \t'.repeat(50_000)}y`],
    ['env', `NAME="${'\\"'.repeat(50_000)}`],
    ['ini', `${' '.repeat(100_000)}x`],
    ['ini', `name${' '.repeat(100_000)}x`],
    ['ini', `NAME=x${' '.repeat(100_000)}y`],
  ] as const)('are read, or refused, as settings: %s %#', (format, text) => {
    try {
      readSetting(text, format, 'NAME');
    } catch (error) {
      expect(String(error)).toMatch(/is missing|well-formed|cannot be read/);
    }
    expect(settingsIn(text, format).length).toBeLessThan(3);
  });
});
