import { isMap, isScalar, type Node, parseDocument, type Scalar } from 'yaml';
import type { ByteString } from '../address/place.js';
import { MARKER } from '../address/token.js';
import { toBytes, toText } from '../rows/condition.js';

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

function envSpots(content: ByteString, key: string): Spot[] {
  const name = key.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');
  const pattern = new RegExp(
    `^[ \\t]*(?:export[ \\t]+)?${name}[ \\t]*=[ \\t]*("(?:[^"\\\\\\n]|\\\\.)*"|'[^'\\n]*'|[^\\n\\r]*?)(?=[ \\t]*(?:[ \\t]#[^\\n]*)?\\r?$)`,
    'gm',
  );
  return [...content.matchAll(pattern)].map((match) => {
    const raw = match[1] as string;
    const start = match.index + match[0].length - raw.length;
    return {
      start,
      end: start + raw.length,
      read: () =>
        toText(
          raw.startsWith('"') ? raw.slice(1, -1).replace(/\\(.)/g, '$1') : raw.startsWith("'") ? raw.slice(1, -1) : raw,
        ),
      write: (value) => writeQuoted(toBytes(value), raw),
    };
  });
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
  for (const line of content.matchAll(/^[^\n]*$/gm)) {
    const header = /^[ \t]*\[([^\]]+)\][ \t]*\r?$/.exec(line[0]);
    if (header) current = (header[1] as string).trim();
    const entry = /^([ \t]*([^=;#\s][^=]*?)[ \t]*=[ \t]*)("(?:[^"\\]|\\.)*"|[^;#\r]*?)[ \t]*(?:[;#].*)?\r?$/.exec(
      line[0],
    );
    if (!entry || current !== section || entry[2] !== name) continue;
    const raw = entry[3] as string;
    const start = line.index + (entry[1] as string).length;
    spots.push({
      start,
      end: start + raw.length,
      read: () => toText(raw.startsWith('"') ? raw.slice(1, -1).replace(/\\(.)/g, '$1') : raw),
      write: (value) => writeQuoted(toBytes(value), raw),
    });
  }
  return spots;
}

function documentSpots(content: ByteString, format: 'json' | 'yaml', key: string): Spot[] {
  const document = parseDocument(content, { uniqueKeys: false, schema: 'core' });
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
    for (const line of content.split(/\r?\n/)) {
      const heading = /^\s*\[([^\]]+)\]\s*$/.exec(line);
      if (heading) section = heading[1] as string;
      const pair = /^\s*(?:export\s+)?([A-Za-z_][\w.-]*)\s*=\s*(.*?)\s*$/.exec(line);
      if (!pair) continue;
      const value = (pair[2] as string).replace(/^(["'])(.*)\1$/, '$2');
      const key = format === 'ini' && section !== '' ? `${section}.${pair[1]}` : (pair[1] as string);
      found.push({ key, value: toText(value) });
    }
    return found;
  }
  const document = parseDocument(toText(content));
  if (document.errors.length > 0) return [];
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
