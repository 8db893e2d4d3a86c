import type { ByteString } from '../address/place.js';

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
  readonly text: ByteString;
  readonly root: ValueNode;
  /** Some of its values stand for others by their number: members that come or go would make them others'. */
  readonly isNumbered: boolean;
}

/** Reads a structured value; undefined when it is not exactly one. Stand-ins for keys count as numbers. */
export function readValueTree(text: ByteString): ValueTree | undefined {
  const json = new JsonReader(text).document();
  if (json) return { format: 'json', text, root: json, isNumbered: false };
  const reader = new SerialisedReader(text);
  const root = reader.document();
  return root && { format: 'serialised', text, root, isNumbered: reader.isNumbered };
}

class Unreadable extends Error {}

const MAX_DEPTH = 200;
/** A number, or what stands for a key until it is drawn (see key-translation.ts). */
const NUMBER = /-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?|\0[^\0]*\0-?\d+/y;

abstract class Reader {
  protected at = 0;
  constructor(protected readonly text: ByteString) {}

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

  protected abstract value(depth: number): ValueNode;

  protected space(): void {
    while (' \t\r\n'.includes(this.text[this.at] ?? 'x')) this.at++;
  }
  protected take(text: string): void {
    if (!this.text.startsWith(text, this.at)) throw new Unreadable();
    this.at += text.length;
  }
  protected match(pattern: RegExp): ByteString {
    pattern.lastIndex = this.at;
    const found = pattern.exec(this.text)?.[0];
    if (found === undefined) throw new Unreadable();
    this.at += found.length;
    return found;
  }
}

class JsonReader extends Reader {
  protected value(depth: number): ValueNode {
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

/** As strict as the reader of addresses (address/structure.ts): what the one reads the other reads. */
class SerialisedReader extends Reader {
  isNumbered = false;

  protected value(depth: number): ValueNode {
    if (depth > MAX_DEPTH) throw new Unreadable();
    const start = this.at;
    const kind = this.text[this.at];
    const scalar = (text: ByteString | undefined, isString: boolean): ScalarNode => ({
      is: 'scalar',
      text,
      isString,
      start,
      end: this.at,
    });
    switch (kind) {
      case 'N':
        this.take('N;');
        return scalar(undefined, false);
      case 'b':
      case 'd':
        this.match(/[bd]:[^;"{}]+;/y);
        return scalar(undefined, false);
      case 'r':
      case 'R':
        this.match(/[rR]:\d+;/y);
        this.isNumbered = true;
        return scalar(undefined, false);
      case 'E':
        this.take('E:');
        this.#counted('"', '"');
        this.take(';');
        return scalar(undefined, false);
      case 'C':
        this.take('C:');
        this.#counted('"', '"');
        this.take(':');
        this.#counted('{', '}');
        return scalar(undefined, false);
      case 'i': {
        this.take('i:');
        const text = this.match(NUMBER);
        this.take(';');
        return scalar(text, false);
      }
      case 's': {
        this.take('s:');
        const text = this.#counted('"', '"');
        this.take(';');
        return scalar(text, true);
      }
      case 'a':
      case 'O': {
        this.at++;
        if (kind === 'O') {
          this.take(':');
          this.#counted('"', '"');
        }
        const head = this.text.slice(start, this.at);
        this.take(':');
        const count = Number(this.match(/\d{1,9}/y));
        this.take(':{');
        const entries: ValueEntry[] = [];
        for (let i = 0; i < count; i++) {
          const key = this.value(depth + 1);
          if (key.is !== 'scalar' || key.text === undefined) throw new Unreadable();
          entries.push({ name: key.text, key: this.text.slice(key.start, key.end), node: this.value(depth + 1) });
        }
        this.take('}');
        return { is: 'map', head, entries, start, end: this.at };
      }
      default:
        throw new Unreadable();
    }
  }

  /** `LENGTH:"BYTES"`, or with other signs about it. */
  #counted(open: string, close: string): ByteString {
    const length = Number(this.match(/\d{1,10}/y));
    this.take(`:${open}`);
    const text = this.text.slice(this.at, this.at + length);
    this.at += length;
    this.take(close);
    return text;
  }
}

/** A string or number with another text, in the form that it is written in. */
export function writeScalar(format: ValueTree['format'], node: ScalarNode, text: ByteString): ByteString {
  if (format === 'json') return node.isString ? `"${text}"` : text;
  return node.isString ? `s:${text.length}:"${text}";` : `i:${text};`;
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
