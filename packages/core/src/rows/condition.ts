import type { ByteString } from '../address/place.js';
import { compilePattern } from '../pattern.js';

/** A group of rows: every named column holds one of its values; `*` in a value stands for any text. */
export type RowCondition = Readonly<Record<string, readonly string[]>>;

/** Compiles a condition for rows of the given columns. Columns that the table lacks make it match nothing. */
export function compileCondition(
  condition: RowCondition,
  columns: readonly string[],
): (row: readonly (ByteString | null)[]) => boolean {
  const tests = Object.entries(condition).map(([column, values]) => ({
    index: columns.indexOf(column),
    patterns: values.map((value) => compilePattern(toBytes(value))),
  }));
  return (row) =>
    tests.every(({ index, patterns }) => {
      const value = row[index];
      return value !== undefined && value !== null && patterns.some((matches) => matches(value));
    });
}

/** Most texts. */
const ASCII = /^[\0-\x7f]*$/;

/** UTF-8 bytes of a text as a byte string. */
export function toBytes(text: string): ByteString {
  if (ASCII.test(text)) return text;
  let out = '';
  for (const byte of new TextEncoder().encode(text)) out += String.fromCharCode(byte);
  return out;
}

/** The text of a byte string; invalid UTF-8 shows as U+FFFD. */
export function toText(bytes: ByteString): string {
  if (ASCII.test(bytes)) return bytes;
  return new TextDecoder().decode(Uint8Array.from(bytes, (one) => one.charCodeAt(0)));
}
