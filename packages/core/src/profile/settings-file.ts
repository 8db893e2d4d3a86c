import { isMap, isScalar, type Node, type Scalar } from 'yaml';
import type { ByteString } from '../address/place.js';
import { MARKER } from '../address/token.js';
import { toBytes, toText } from '../rows/condition.js';
import { parseBounded, UnboundedDocumentError } from './bounded-yaml.js';

/** Formats of settings files that are read and written. */
export type SettingsFormat = 'env' | 'ini' | 'json' | 'yaml';

/** A key that a settings file lacks, holds twice, or whose value is not a single scalar. */
export class SettingNotFoundError extends Error {
  override readonly name = 'SettingNotFoundError';
}

/** Where a setting's value stands, in bytes, and how a new one is written there. */
interface Spot {
  readonly start: number;
  readonly end: number;
  readonly read: () => string;
  readonly write: (value: string) => ByteString;
}

/**
 * Replaces the value of one key; every other byte stays as it is.
 *
 * @param key `NAME` for env; `section.key` or `key` for ini; a dotted path for json and yaml
 * @throws {SettingNotFoundError} when the key is missing or stands there twice
 */
export function writeSetting(content: ByteString, format: SettingsFormat, key: string, value: string): ByteString {
  const spot = findSpot(content, format, key);
  return content.slice(0, spot.start) + spot.write(value) + content.slice(spot.end);
}

/** Reads the value of one key. @throws {SettingNotFoundError} */
export function readSetting(content: ByteString, format: SettingsFormat, key: string): string {
  return findSpot(content, format, key).read();
}

function findSpot(content: ByteString, format: SettingsFormat, key: string): Spot {
  const spots =
    format === 'env'
      ? envSpots(content, key)
      : format === 'ini'
        ? iniSpots(content, key)
        : documentSpots(content, format, key);
  const [first, second] = spots;
  if (!first) throw new SettingNotFoundError(`The key "${key}" is missing.`);
  if (second) throw new SettingNotFoundError(`The key "${key}" stands there ${spots.length} times.`);
  return first;
}

/** A quoted value at the beginning of a text, with its quotes. */
const DOUBLE_QUOTED = /^"(?:[^"\\\n]|\\[^\n])*"/;
const SINGLE_QUOTED = /^'[^'\n]*'/;

/**
 * The value that stands at the beginning of the rest of a line, before a comment. One that is not quoted ends before the space
 * there; a quote that more than a comment follows belongs to the value.
 */
function valueIn(rest: ByteString, quotes: readonly RegExp[], comment: RegExp): ByteString {
  for (const quote of quotes) {
    const quoted = quote.exec(rest)?.[0];
    if (quoted !== undefined && trimmedEnd(beforeComment(rest.slice(quoted.length), comment)) === '') return quoted;
  }
  return trimmedEnd(beforeComment(rest, comment));
}

function beforeComment(text: ByteString, comment: RegExp): ByteString {
  const at = text.search(comment);
  return at === -1 ? text : text.slice(0, at);
}

const trimmedEnd = (text: ByteString): ByteString => {
  let end = text.length;
  while (end > 0 && (text[end - 1] === ' ' || text[end - 1] === '\t')) end--;
  return text.slice(0, end);
};

const unquoted = (raw: ByteString): string =>
  toText(
    raw.length > 1 && raw.startsWith('"')
      ? raw.slice(1, -1).replace(/\\(.)/g, '$1')
      : raw.length > 1 && raw.startsWith("'")
        ? raw.slice(1, -1)
        : raw,
  );

/** Lines without their ends, and where each begins. */
function* linesOf(content: ByteString): Generator<{ readonly text: ByteString; readonly start: number }> {
  for (let start = 0; start <= content.length; ) {
    const end = content.indexOf('\n', start);
    const stop = end === -1 ? content.length : end;
    const text = content.slice(start, stop);
    yield { text: text.endsWith('\r') ? text.slice(0, -1) : text, start };
    start = stop + 1;
  }
}

function envSpots(content: ByteString, key: string): Spot[] {
  const spots: Spot[] = [];
  for (const { text, start: at } of linesOf(content)) {
    const found = /^[ \t]*(?:export[ \t]+)?([^= \t]+)[ \t]*=[ \t]*/.exec(text);
    if (found?.[1] !== key) continue;
    // A comment begins with a space, which may be the one after the sign.
    const isEmpty = /[ \t]$/.test(found[0]) && text[found[0].length] === '#';
    const start = found[0].length - (isEmpty ? 1 : 0);
    const raw = valueIn(text.slice(start), [DOUBLE_QUOTED, SINGLE_QUOTED], /[ \t]#/);
    spots.push({
      start: at + start,
      end: at + start + raw.length,
      read: () => unquoted(raw),
      write: (value) => writeQuoted(toBytes(value), raw),
    });
  }
  return spots;
}

function writeQuoted(value: ByteString, former: ByteString): ByteString {
  if (/[\n\r]/.test(value))
    throw new SettingNotFoundError('A value of more than one line cannot stand in this format.');
  if (former.startsWith("'") && !value.includes("'")) return `'${value}'`;
  if (!former.startsWith('"') && /^[A-Za-z0-9_./:@%+,=?&~-]+$/.test(value)) return value;
  return `"${value.replace(/["\\$`]/g, '\\$&')}"`;
}

function iniSpots(content: ByteString, key: string): Spot[] {
  const dot = key.indexOf('.');
  const [section, name] = dot === -1 ? ['', key] : [key.slice(0, dot), key.slice(dot + 1)];
  const spots: Spot[] = [];
  let current = '';
  for (const { text, start: at } of linesOf(content)) {
    const header = /^[ \t]*\[([^\]]+)\][ \t]*$/.exec(text);
    if (header) current = (header[1] as string).trim();
    const sign = text.indexOf('=');
    if (sign === -1 || current !== section || text.slice(0, sign).trim() !== name) continue;
    const start = sign + 1 + (/^[ \t]*/.exec(text.slice(sign + 1)) as RegExpExecArray)[0].length;
    const raw = valueIn(text.slice(start), [DOUBLE_QUOTED], /[;#]/);
    spots.push({
      start: at + start,
      end: at + start + raw.length,
      read: () => (raw.startsWith('"') ? unquoted(raw) : toText(raw)),
      write: (value) => writeQuoted(toBytes(value), raw),
    });
  }
  return spots;
}

function documentSpots(content: ByteString, format: 'json' | 'yaml', key: string): Spot[] {
  const document = readDocument(content);
  const error = document.errors[0];
  if (error)
    throw new SettingNotFoundError(
      `The file is not well-formed ${format.toUpperCase()}: ${error.message.split('\n')[0]}`,
    );
  let nodes: (Node | null)[] = [document.contents];
  for (const part of key.split('.')) {
    nodes = nodes.flatMap((node) =>
      isMap(node)
        ? node.items
            .filter((pair) => isScalar(pair.key) && String(pair.key.value) === part)
            .map((pair) => pair.value as Node | null)
        : [],
    );
  }
  return nodes.map((node): Spot => {
    if (!isScalar(node) || !node.range) throw new SettingNotFoundError(`"${key}" is not a single value.`);
    const [start, end] = node.range;
    return {
      start,
      end,
      read: () => toText(String(node.value ?? '')),
      write: (value) => writeScalar(value, node, format),
    };
  });
}

/** @throws {SettingNotFoundError} for one that takes more to read than its length warrants */
function readDocument(content: ByteString): ReturnType<typeof parseBounded> {
  try {
    return parseBounded(content, { schema: 'core' });
  } catch (error) {
    if (error instanceof UnboundedDocumentError)
      throw new SettingNotFoundError(`The file cannot be read: ${error.message}`);
    throw error;
  }
}

function writeScalar(value: string, former: Scalar, format: 'json' | 'yaml'): ByteString {
  const formerIsToken = former.type === 'PLAIN' && String(former.value).startsWith(MARKER);
  if (value.startsWith(MARKER) && typeof former.value !== 'string') return value;
  if (formerIsToken && /^(?:true|false|null|-?(?:0|[1-9]\d*)(?:\.\d+)?)$/.test(value)) return value;
  if (typeof former.value === 'boolean' && (value === 'true' || value === 'false')) return value;
  if (typeof former.value === 'number' && /^-?(0|[1-9]\d*)(\.\d+)?$/.test(value)) return value;
  if (format === 'yaml' && former.type === 'PLAIN' && /^[A-Za-z][A-Za-z0-9_./-]*$/.test(value)) return value;
  return toBytes(JSON.stringify(value));
}

/** Every key of a settings file with its value; of json and yaml, those of scalars. What does not parse has none. */
export function settingsIn(content: ByteString, format: SettingsFormat): { key: string; value: string }[] {
  if (format === 'env' || format === 'ini') {
    const found: { key: string; value: string }[] = [];
    let section = '';
    for (const { text } of linesOf(content)) {
      const heading = /^[ \t]*\[([^\]]+)\][ \t]*$/.exec(text);
      if (heading) section = heading[1] as string;
      const pair = /^\s*(?:export\s+)?([A-Za-z_][\w.-]*)\s*=(.*)$/.exec(text);
      if (!pair) continue;
      const value = (pair[2] as string).trim().replace(/^(["'])(.*)\1$/, '$2');
      const key = format === 'ini' && section !== '' ? `${section}.${pair[1]}` : (pair[1] as string);
      found.push({ key, value: toText(value) });
    }
    return found;
  }
  const document = boundedOrNone(toText(content));
  if (!document || document.errors.length > 0) return [];
  const found: { key: string; value: string }[] = [];
  const walk = (node: unknown, path: readonly string[]): void => {
    if (isMap(node)) {
      for (const pair of node.items) if (isScalar(pair.key)) walk(pair.value, [...path, String(pair.key.value)]);
    } else if (isScalar(node) && path.length > 0 && !path.some((part) => part.includes('.')))
      found.push({ key: path.join('.'), value: String(node.value) });
  };
  walk(document.contents, []);
  return found;
}

function boundedOrNone(text: string): ReturnType<typeof parseBounded> | undefined {
  try {
    return parseBounded(text);
  } catch (error) {
    if (error instanceof UnboundedDocumentError) return undefined;
    throw error;
  }
}
