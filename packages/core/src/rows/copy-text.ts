import type { ByteString } from '../address/place.js';

/**
 * PostgreSQL's COPY text format (postgresql.org, "COPY", File Formats): one line a row, columns apart by tabs,
 * `\N` for null, backslash escapes. Canonical rows are stored in it, so that a person can read a snapshot with
 * ordinary tools, and MariaDB's rows are written in it too.
 */
export const NULL_FIELD = '\\N';

const UNESCAPE: Record<string, string> = { b: '\b', f: '\f', n: '\n', r: '\r', t: '\t', v: '\v' };
const ESCAPE: Record<string, string> = {
  '\b': '\\b',
  '\f': '\\f',
  '\n': '\\n',
  '\r': '\\r',
  '\t': '\\t',
  '\v': '\\v',
  '\\': '\\\\',
};

/** The value of one field, or null. */
export function readField(field: ByteString): ByteString | null {
  if (field === NULL_FIELD) return null;
  if (!field.includes('\\')) return field;
  return field.replace(
    /\\(?:([0-7]{1,3})|x([0-9A-Fa-f]{1,2})|([\s\S]))/g,
    (_all, octal?: string, hex?: string, one?: string) => {
      if (octal !== undefined) return String.fromCharCode(Number.parseInt(octal, 8) & 255);
      if (hex !== undefined) return String.fromCharCode(Number.parseInt(hex, 16));
      return UNESCAPE[one as string] ?? (one as string);
    },
  );
}

/** Writes one value as a field of a line; null as its own sign. */
export function writeField(value: ByteString | null): ByteString {
  if (value === null) return NULL_FIELD;
  return /[\b\f\n\r\t\v\\]/.test(value) ? value.replace(/[\b\f\n\r\t\v\\]/g, (one) => ESCAPE[one] as string) : value;
}

/** Splits a line (without its newline) into values. */
export const readLine = (line: ByteString): (ByteString | null)[] => line.split('\t').map(readField);

/** Joins values into a line, without its newline. */
export const writeLine = (values: readonly (ByteString | null)[]): ByteString => values.map(writeField).join('\t');
