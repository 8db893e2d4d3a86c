import { type ByteString, toBytes } from '@tessarion/core';
import { EngineError } from '../ports/errors.js';
import type { ColumnShape } from '../ports/shapes.js';

/** A name as it stands in statements. */
export const quoteName = (name: string): string => `\`${name.replaceAll('`', '``')}\``;

const ESCAPES: Readonly<Record<string, string>> = {
  '\0': '\\0',
  '\n': '\\n',
  '\r': '\\r',
  '\u001a': '\\Z',
  "'": "\\'",
  '\\': '\\\\',
};

// biome-ignore lint/suspicious/noControlCharactersInRegex: They are what a literal must not hold (MariaDB, *String Literals*).
const SPECIAL = /[\0\n\r\u001a'\\]/g;

/** A text as a literal; our sessions speak UTF-8, and backslashes escape. */
export const quoteText = (text: string): string => `'${text.replace(SPECIAL, (one) => ESCAPES[one] as string)}'`;

/**
 * The text of bytes that a client can send.
 *
 * @throws {EngineError} `value-refused` for bytes that are no UTF-8, which the server takes from no client
 */
export function textOf(bytes: ByteString): string {
  const text = Buffer.from(bytes, 'latin1').toString('utf8');
  if (text.includes('\ufffd') && toBytes(text) !== bytes)
    throw new EngineError(
      'value-refused',
      'A value holds bytes that are no UTF-8, which no client can write to MariaDB.',
      'Correct it where it comes from, or leave the row out.',
    );
  return text;
}

/** How values of a type are read and written. */
type Family = 'binary' | 'bit' | 'float' | 'number' | 'text' | 'other';

const FAMILIES: readonly (readonly [RegExp, Family])[] = [
  [/^(?:tiny|medium|long)?blob|^(?:var)?binary|^(?:geometry|point|linestring|polygon|multi\w+)/, 'binary'],
  [/^bit/, 'bit'],
  [/^float/, 'float'],
  [/^(?:tiny|small|medium|big)?int|^decimal|^double|^year/, 'number'],
  [/^(?:var)?char|^(?:tiny|medium|long)?text|^enum|^set/, 'text'],
];

/** @param type as the server writes it, such as `varchar(20)` */
export const familyOf = (type: string): Family => FAMILIES.find(([pattern]) => pattern.test(type))?.[1] ?? 'other';

/** How a type is written whose values are whole numbers. */
export const isInteger = (type: string): boolean => /^(?:tiny|small|medium|big)?int/.test(type);

/** Character sets whose bytes are UTF-8 already. */
const UTF8 = new Set(['utf8', 'utf8mb3', 'utf8mb4', 'ascii']);

/**
 * An expression that reads a column exactly: floats lose digits as text, bits and other character sets come as they are
 * understood (design, *MariaDB, Values*).
 *
 * @param charset of a text column
 */
export function readExpression(name: string, type: string, charset: string | null): string {
  const column = quoteName(name);
  const family = familyOf(type);
  if (family === 'float') return `CAST(${column} AS DOUBLE)`;
  if (family === 'bit') return `${column}+0`;
  if (charset !== null && !UTF8.has(charset)) return `CONVERT(${column} USING utf8mb4)`;
  return column;
}

/** Bytes stand in rows as PostgreSQL writes them: text that is never taken for anything else. */
const HEX = '\\x';

/** A value that was read, as rows hold it. */
export const asRead = (value: Buffer | null, isBinary: boolean): ByteString | null =>
  value === null ? null : isBinary ? `${HEX}${value.toString('hex')}` : value.toString('latin1');

const GEOMETRY = /^(?:geometry|point|linestring|polygon|multi\w+)/;

/** A shape as the server keeps it: its reference system, then its well-known binary (MariaDB, *ST_GeomFromWKB*). */
function geometry(value: ByteString): string {
  const kept = Buffer.from(value.slice(HEX.length), 'hex');
  return `ST_GeomFromWKB(x'${kept.toString('hex', 4)}', ${kept.readUInt32LE(0)})`;
}

/** A value of a row as a literal of its column. */
export function literal(value: ByteString | null, { type }: Pick<ColumnShape, 'type'>): string {
  if (value === null) return 'NULL';
  const family = familyOf(type);
  if (GEOMETRY.test(type)) return geometry(value);
  if (family === 'binary' && value.startsWith(HEX)) return value === HEX ? "''" : `x'${value.slice(HEX.length)}'`;
  // A quoted number is taken for the bits of its digits.
  if (family === 'bit' && /^\d+$/.test(value)) return value;
  return quoteText(textOf(value));
}

/**
 * An expression that makes a column's value of what LOAD DATA put into a variable, in the bytes of the row's text; undefined
 * where that is taken as it is (design, *MariaDB, Loading*).
 */
export function loadExpression(variable: string, type: string, charset: string | null): string | undefined {
  const family = familyOf(type);
  // What is kept in bytes stands in rows as `\x…`.
  if (family === 'binary') return `UNHEX(SUBSTRING(${variable}, ${HEX.length + 1}))`;
  if (family === 'bit') return `CAST(${variable} AS UNSIGNED)`;
  if (/^(?:uuid|inet)/.test(type)) return `CONVERT(${variable} USING ascii)`;
  return charset !== null && !UTF8.has(charset) ? `CONVERT(${variable} USING utf8mb4)` : undefined;
}

/** Which of some rows it is, in tables of ours that are joined with a site's. */
export const N = '`~n`';

/** The i-th column of such a table: no site's column is called so, and none need be named in full. */
export const mine = (i: number): string => `\`~${i}\``;
