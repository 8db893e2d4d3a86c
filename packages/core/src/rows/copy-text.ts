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

export function writeField(value: ByteString | null): ByteString {
  if (value === null) return NULL_FIELD;
  return /[\b\f\n\r\t\v\\]/.test(value) ? value.replace(/[\b\f\n\r\t\v\\]/g, (one) => ESCAPE[one] as string) : value;
}

/** Splits a line (without its newline) into values. */
export const readLine = (line: ByteString): (ByteString | null)[] => line.split('\t').map(readField);

export const writeLine = (values: readonly (ByteString | null)[]): ByteString => values.map(writeField).join('\t');

/**
 * Rewrites the fields of whole lines in which `search` hits, and copies everything else untouched: the cost is that
 * of the search plus that of the fields hit.
 *
 * @param lines whole lines, each ended by a newline
 * @param search a global pattern that no COPY escape can hide
 * @param change receives the unescaped value and the column's position; returns the new value
 */
export function mapHitFields(
  lines: ByteString,
  search: RegExp,
  change: (value: ByteString, column: number) => ByteString,
): ByteString {
  search.lastIndex = 0;
  let hit = search.exec(lines);
  if (!hit) return lines;
  const out: ByteString[] = [];
  let copied = 0;
  let lineStart = 0;
  while (hit) {
    const newline = lines.lastIndexOf('\n', hit.index) + 1;
    if (newline > lineStart) lineStart = newline;
    const start = Math.max(lines.lastIndexOf('\t', hit.index) + 1, lineStart);
    const end = fieldEnd(lines, hit.index);
    const field = lines.slice(start, end);
    const value = readField(field);
    if (value !== null) {
      const changed = change(value, countTabs(lines, lineStart, start));
      if (changed !== value) {
        out.push(lines.slice(copied, start), writeField(changed));
        copied = end;
      }
    }
    search.lastIndex = end;
    hit = search.exec(lines);
  }
  if (copied === 0) return lines;
  out.push(lines.slice(copied));
  return out.join('');
}

function fieldEnd(lines: ByteString, from: number): number {
  for (let at = from; at < lines.length; at++) {
    const code = lines.charCodeAt(at);
    if (code === 9 || code === 10) return at;
  }
  return lines.length;
}

function countTabs(lines: ByteString, from: number, to: number): number {
  let tabs = 0;
  for (let at = lines.indexOf('\t', from); at !== -1 && at < to; at = lines.indexOf('\t', at + 1)) tabs++;
  return tabs;
}
