import * as fs from 'node:fs';
import { tmpdir } from 'node:os';
import { compareKeys, readLine } from '@tessarion/core';
import fc from 'fast-check';
import { afterEach, describe, expect, it } from 'vitest';
import { type SortOrder, sortedRows } from '../src/store/sorted-rows.js';

async function* inBatches(lines: readonly string[], size: number): AsyncGenerator<string> {
  for (let at = 0; at < lines.length; at += size) yield `${lines.slice(at, at + size).join('\n')}\n`;
}

async function sorted(lines: readonly string[], order: SortOrder, runBytes: number, size = 3): Promise<string[]> {
  const batches: string[] = [];
  for await (const batch of sortedRows(inBatches(lines, size), order, runBytes)) {
    expect(batch.endsWith('\n')).toBe(true);
    batches.push(batch);
  }
  return batches.length === 0 ? [] : batches.join('').slice(0, -1).split('\n');
}

const WHOLE: SortOrder = { keyColumns: [], orders: [] };
const field = fc.oneof(
  fc.constant('\\N'),
  fc.string({ unit: fc.constantFrom('a', 'b', '~', '\u00ff', '\\t', '0', '9'), maxLength: 6 }),
);
const openFiles = (): string[] =>
  fs.readdirSync('/proc/self/fd').filter((one) => {
    try {
      return fs.readlinkSync(`/proc/self/fd/${one}`).includes('tessarion-sort-');
    } catch {
      return false;
    }
  });

describe('sorting rows that have no order of their own', () => {
  afterEach(() => {
    expect(openFiles()).toEqual([]);
    expect(fs.readdirSync(tmpdir()).filter((name) => name.startsWith('tessarion-sort-'))).toEqual([]);
  });

  it('gives every line once, in the order of its bytes, however small the runs are', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.tuple(field, field), { maxLength: 60 }),
        fc.constantFrom(1, 10, 50, 1000),
        fc.integer({ min: 1, max: 9 }),
        async (rows, runBytes, size) => {
          const lines = rows.map((row) => row.join('\t'));
          expect(await sorted(lines, WHOLE, runBytes, size)).toEqual([...lines].sort());
        },
      ),
      { numRuns: 300 },
    );
  });

  it('orders by key columns, nulls last, and equal keys by the whole line', async () => {
    const integer = fc.oneof(fc.constant('\\N'), fc.bigInt({ min: -(10n ** 20n), max: 10n ** 20n }).map(String));
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.tuple(field, integer, field), { maxLength: 40 }),
        fc.constantFrom(1, 40, 5000),
        async (rows, runBytes) => {
          const order: SortOrder = { keyColumns: [1, 0], orders: ['integer', 'bytes'] };
          const lines = rows.map((row) => row.join('\t'));
          const keyOf = (line: string): (string | null)[] => {
            const values = readLine(line);
            return [values[1] ?? null, values[0] ?? null];
          };
          const expected = [...lines].sort(
            (a, b) => compareKeys(keyOf(a), keyOf(b), order.orders) || (a < b ? -1 : a > b ? 1 : 0),
          );
          expect(await sorted(lines, order, runBytes)).toEqual(expected);
        },
      ),
      { numRuns: 200 },
    );
  });

  it('holds one run in memory and leaves the others on disk, unreadable', async () => {
    const lines = Array.from({ length: 30_000 }, (_one, i) => `${(i * 7919) % 30_000}\ta secret of somebody`);
    const batches = sortedRows(inBatches(lines, 500), { keyColumns: [0], orders: ['integer'] }, 100_000);
    const first = await batches.next();
    expect((first.value as string).split('\n')[0]).toBe('0\ta secret of somebody');
    const files = openFiles();
    expect(files.length).toBeGreaterThan(5);
    for (const file of files) {
      const content = fs.readFileSync(`/proc/self/fd/${file}`);
      expect(content.length).toBeGreaterThan(50_000);
      expect(content.includes('secret')).toBe(false);
    }
    await batches.return(undefined);
  });

  it('lets go of its files when the rows end in an error', async () => {
    async function* broken(): AsyncGenerator<string> {
      yield* inBatches(['b', 'a', 'c'], 1);
      throw new Error('the connection is gone');
    }
    const read = async (): Promise<void> => {
      for await (const _batch of sortedRows(broken(), WHOLE, 1)) expect.unreachable();
    };
    await expect(read()).rejects.toThrow('the connection is gone');
  });
});
