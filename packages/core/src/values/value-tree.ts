import type { ByteString } from '../address/place.js';
import { type CountedText, lengthIn, type PartsOfSerialised, readSerialised, type Unit } from './serialised.js';

/** A part of a structured value, with where it stands in the text. */
export type ValueNode = MapNode | ListNode | ScalarNode;

interface Spot {
  readonly start: number;
  readonly end: number;
}
/** Names with values: a JSON object, or a serialised array or object. */
export interface MapNode extends Spot {
  readonly is: 'map';
  readonly entries: readonly ValueEntry[];
  /** What stands before the count of entries, in serialised values: `a` or `O:4:"Page"`. */
  readonly head: ByteString;
}
/** Values in order, named by their positions. */
export interface ListNode extends Spot {
  readonly is: 'list';
  readonly entries: readonly ValueEntry[];
}
/** A value without parts. */
export interface ScalarNode extends Spot {
  readonly is: 'scalar';
  /** Text of a string or number; undefined for truth values, null, and strings that hold escapes. */
  readonly text: ByteString | undefined;
  readonly isString: boolean;
}
/** One part of a structured value, with its name. */
export interface ValueEntry {
  readonly name: ByteString;
  /** As it is written. */
  readonly key: ByteString;
  readonly node: ValueNode;
}

/** A JSON document (RFC 8259) or a value in PHP's serialisation format (php.net, `serialize`). */
export interface ValueTree {
  readonly format: 'json' | 'serialised';
  /** What the lengths in it count, where it is serialised. */
  readonly unit: Unit;
  readonly text: ByteString;
  readonly root: ValueNode;
  /** Some of its values stand for others by their number: members that come or go would make them others'. */
  readonly isNumbered: boolean;
}

/** Reads a structured value; undefined when it is not exactly one. Stand-ins for keys count as numbers. */
export function readValueTree(text: ByteString): ValueTree | undefined {
  const json = new JsonReader(text).document();
  if (json) return { format: 'json', unit: 'bytes', text, root: json, isNumbered: false };
  const read = readSerialised(text, () => new SerialisedTree(text));
  if (!read?.parts.root) return undefined;
  const { root, isNumbered } = read.parts;
  return { format: 'serialised', unit: read.unit, text, root, isNumbered };
}

class Unreadable extends Error {}

const MAX_DEPTH = 200;
/** A number, or what stands for a key until it is drawn (see key-translation.ts). */
const NUMBER = /-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?|\0[^\0]*\0-?\d+/y;

class JsonReader {
  private at = 0;
  constructor(private readonly text: ByteString) {}

  document(): ValueNode | undefined {
    try {
      const node = this.value(0);
      this.space();
      return this.at === this.text.length ? node : undefined;
    } catch (error) {
      if (error instanceof Unreadable) return undefined;
      throw error;
    }
  }

  private space(): void {
    while (' \t\r\n'.includes(this.text[this.at] ?? 'x')) this.at++;
  }
  private take(text: string): void {
    if (!this.text.startsWith(text, this.at)) throw new Unreadable();
    this.at += text.length;
  }
  private match(pattern: RegExp): ByteString {
    pattern.lastIndex = this.at;
    const found = pattern.exec(this.text)?.[0];
    if (found === undefined) throw new Unreadable();
    this.at += found.length;
    return found;
  }

  private value(depth: number): ValueNode {
    if (depth > MAX_DEPTH) throw new Unreadable();
    this.space();
    const start = this.at;
    const first = this.text[start];
    if (first === '{' || first === '[') {
      const entries = this.#entries(first === '{' ? '}' : ']', depth);
      return first === '{'
        ? { is: 'map', head: '', entries, start, end: this.at }
        : { is: 'list', entries, start, end: this.at };
    }
    if (first === '"') {
      const written = this.match(STRING);
      const text = written.slice(1, -1);
      return { is: 'scalar', text: text.includes('\\') ? undefined : text, isString: true, start, end: this.at };
    }
    const word = ['true', 'false', 'null'].find((one) => this.text.startsWith(one, start));
    if (word) {
      this.take(word);
      return { is: 'scalar', text: undefined, isString: false, start, end: this.at };
    }
    return { is: 'scalar', text: this.match(NUMBER), isString: false, start, end: this.at };
  }

  #entries(close: string, depth: number): ValueEntry[] {
    const entries: ValueEntry[] = [];
    this.at++;
    this.space();
    while (this.text[this.at] !== close) {
      if (entries.length > 0) this.take(',');
      this.space();
      let key = '';
      if (close === '}') {
        key = this.match(STRING);
        this.space();
        this.take(':');
      }
      const name = close === '}' ? nameIn(key) : String(entries.length);
      entries.push({ name, key, node: this.value(depth + 1) });
      this.space();
    }
    this.at++;
    return entries;
  }
}

/** The name that a JSON string spells; escapes beyond those of JSON make the whole unreadable. */
function nameIn(key: ByteString): ByteString {
  try {
    return JSON.parse(key) as string;
  } catch {
    throw new Unreadable();
  }
}

const STRING = /"(?:[^"\\\n]|\\[\s\S])*"/y;

/** A map that has begun, and the name of the value to come. */
interface OpenMap {
  readonly map: MapNode & { end: number; entries: ValueEntry[] };
  key: ScalarNode | undefined;
}

/** Makes a tree of the parts of a serialised value. */
class SerialisedTree implements PartsOfSerialised {
  root: ValueNode | undefined;
  isNumbered = false;
  readonly #open: OpenMap[] = [];

  constructor(private readonly value: ByteString) {}

  text({ start: from, end: to, isOpaque }: CountedText, start: number, end: number): void {
    if (isOpaque) this.#put({ is: 'scalar', text: undefined, isString: false, start, end });
    else this.#put({ is: 'scalar', text: this.value.slice(from, to), isString: true, start, end });
  }

  number(text: ByteString, start: number, end: number): void {
    this.#put({ is: 'scalar', text, isString: false, start, end });
  }

  other(is: 'plain' | 'reference', start: number, end: number): void {
    if (is === 'reference') this.isNumbered = true;
    this.#put({ is: 'scalar', text: undefined, isString: false, start, end });
  }

  open(head: ByteString, start: number): void {
    this.#open.push({ map: { is: 'map', head, entries: [], start, end: start }, key: undefined });
  }

  close(end: number): void {
    const { map } = this.#open.pop() as OpenMap;
    map.end = end;
    this.#put(map);
  }

  #put(node: ValueNode): void {
    const around = this.#open.at(-1);
    if (!around) this.root = node;
    else if (around.key) {
      const { text, start, end } = around.key;
      around.map.entries.push({ name: text as ByteString, key: this.value.slice(start, end), node });
      around.key = undefined;
    } else around.key = node as ScalarNode;
  }
}

/** A string or number with another text, in the form that it is written in. */
export function writeScalar(
  { format, unit }: Pick<ValueTree, 'format' | 'unit'>,
  node: ScalarNode,
  text: ByteString,
): ByteString {
  if (format === 'json') return node.isString ? `"${text}"` : text;
  return node.isString ? `s:${lengthIn(unit, text)}:"${text}";` : `i:${text};`;
}

/** A map with other entries, each as it is written. */
export function writeMap(
  format: ValueTree['format'],
  head: ByteString,
  entries: readonly { readonly key: ByteString; readonly value: ByteString }[],
): ByteString {
  return format === 'json'
    ? `{${entries.map(({ key, value }) => `${key}: ${value}`).join(', ')}}`
    : `${head}:${entries.length}:{${entries.map(({ key, value }) => key + value).join('')}}`;
}
