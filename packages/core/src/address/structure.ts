import {
  type CountedText,
  lengthIn,
  looksSerialised,
  type PartsOfSerialised,
  readSerialised,
  type Unit,
} from '../values/serialised.js';
import type { ByteString } from './place.js';

/** A change to a value: the bytes `start` (inclusive) to `end` (exclusive) become `text`. */
export interface Edit {
  readonly start: number;
  readonly end: number;
  readonly text: ByteString;
}

/** A string inside a serialised value whose byte length is written before it. Offsets count raw bytes. */
interface Counted {
  readonly digitsStart: number;
  readonly digitsEnd: number;
  readonly start: number;
  readonly end: number;
  /** How many times JSON escaping lies between the raw bytes and the counted ones. */
  readonly layers: number;
  readonly unit: Unit;
}

/** What a value is made of, as far as a rewrite must know: counted strings, and parts that must stay as they are. */
export interface Structure {
  /** Outer before inner, in order. */
  readonly counted: readonly Counted[];
  /** Looks serialised and does not parse. */
  readonly frozen: readonly { readonly start: number; readonly end: number }[];
}

/** Bytes with, for every byte and for the end, its offset in the raw value; `at` absent means they are the same. */
interface View {
  readonly text: ByteString;
  readonly at: Int32Array | undefined;
  readonly base: number;
  readonly layers: number;
}

const MAX_DEPTH = 12;
const LOOKS_JSON = /^[ \t\r\n]*[{["]/;

/** Quick test on the first bytes; a value for which it is false has no inner structure. */
export function mayHaveStructure(value: ByteString): boolean {
  return looksSerialised(value) || LOOKS_JSON.test(value);
}

/**
 * Finds the counted strings that hold any of the edits, through serialised values inside serialised values, inside
 * JSON, inside JSON strings, and so on.
 *
 * @param edits in order, none over another
 */
export function findStructure(value: ByteString, edits: readonly Edit[]): Structure {
  const counted: Counted[] = [];
  const frozen: { start: number; end: number }[] = [];
  const touched = (start: number, end: number): boolean => {
    let [from, to] = [0, edits.length];
    while (from < to) {
      const at = (from + to) >> 1;
      if ((edits[at] as Edit).end > start) to = at;
      else from = at + 1;
    }
    const first = edits[from];
    return first !== undefined && first.start < end;
  };

  const raw = (view: View, offset: number): number => (view.at ? (view.at[offset] as number) : view.base + offset);

  const visit = (view: View, depth: number): void => {
    if (depth > MAX_DEPTH) return;
    if (looksSerialised(view.text)) {
      const read = parseSerialised(view.text);
      if (!read) {
        frozen.push({ start: raw(view, 0), end: raw(view, view.text.length) });
        return;
      }
      for (const found of read.strings) {
        const [start, end] = [raw(view, found.start), raw(view, found.end)];
        if (!touched(start, end)) continue;
        if (found.isOpaque && !parseSerialised(view.text.slice(found.start, found.end))) {
          frozen.push({ start, end });
          continue;
        }
        const [digitsStart, digitsEnd] = [raw(view, found.digitsStart), raw(view, found.digitsEnd)];
        counted.push({ digitsStart, digitsEnd, start, end, layers: view.layers, unit: read.unit });
        visit(part(view, found.start, found.end), depth + 1);
      }
    } else if (LOOKS_JSON.test(view.text)) {
      for (const literal of view.text.matchAll(/"((?:[^"\\]|\\[\s\S])*)"/g)) {
        const start = literal.index + 1;
        const end = start + (literal[1] as string).length;
        if (touched(raw(view, start), raw(view, end))) visit(unescapeJson(part(view, start, end)), depth + 1);
      }
    }
  };

  visit({ text: value, at: undefined, base: 0, layers: 0 }, 0);
  return { counted, frozen };
}

function part(view: View, start: number, end: number): View {
  const text = view.text.slice(start, end);
  return view.at ? { ...view, text, at: view.at.subarray(start, end + 1) } : { ...view, text, base: view.base + start };
}

function unescapeJson(view: View): View {
  const source = view.text;
  const at = new Int32Array(source.length + 1);
  const origin = (offset: number): number => (view.at ? (view.at[offset] as number) : view.base + offset);
  let length = 0;
  const bytes: string[] = [];
  const put = (text: ByteString, offset: number): void => {
    bytes.push(text);
    for (let i = 0; i < text.length; i++) at[length++] = origin(offset);
  };
  for (let i = 0; i < source.length; ) {
    const next = jsonUnit(source, i);
    put(next.text, i);
    i += next.size;
  }
  at[length] = origin(source.length);
  return { text: bytes.join(''), at: at.subarray(0, length + 1), base: 0, layers: view.layers + 1 };
}

const SIMPLE: Record<string, string> = { n: '\n', r: '\r', t: '\t', b: '\b', f: '\f' };

/** Reads one character of a JSON string's inside: its bytes and how many bytes it takes up. */
function jsonUnit(source: ByteString, i: number): { text: ByteString; size: number } {
  if (source[i] !== '\\') return { text: source[i] as string, size: 1 };
  const unit = /^\\u([0-9A-Fa-f]{4})(?:\\u([0-9A-Fa-f]{4}))?/.exec(source.slice(i, i + 12));
  if (!unit) {
    const escaped = source[i + 1];
    return escaped === undefined ? { text: '\\', size: 1 } : { text: SIMPLE[escaped] ?? escaped, size: 2 };
  }
  const high = Number.parseInt(unit[1] as string, 16);
  const low = unit[2] === undefined ? 0 : Number.parseInt(unit[2], 16);
  if (high >= 0xd800 && high < 0xdc00 && low >= 0xdc00 && low < 0xe000) {
    return { text: utf8(0x10000 + ((high - 0xd800) << 10) + (low - 0xdc00)), size: 12 };
  }
  return { text: utf8(high), size: 6 };
}

function utf8(code: number): ByteString {
  if (code < 0x80) return String.fromCharCode(code);
  if (code < 0x800) return String.fromCharCode(0xc0 | (code >> 6), 0x80 | (code & 63));
  if (code < 0x10000) return String.fromCharCode(0xe0 | (code >> 12), 0x80 | ((code >> 6) & 63), 0x80 | (code & 63));
  return String.fromCharCode(
    0xf0 | (code >> 18),
    0x80 | ((code >> 12) & 63),
    0x80 | ((code >> 6) & 63),
    0x80 | (code & 63),
  );
}

function unescaped(text: ByteString, layers: number): ByteString {
  let result = text;
  for (let layer = 0; layer < layers; layer++) {
    let next = '';
    for (let i = 0; i < result.length; ) {
      const unit = jsonUnit(result, i);
      next += unit.text;
      i += unit.size;
    }
    result = next;
  }
  return result;
}

interface Strings extends PartsOfSerialised {
  readonly found: CountedText[];
}

const parseSerialised = (text: ByteString): { readonly unit: Unit; readonly strings: CountedText[] } | undefined => {
  const read = readSerialised(text, (): Strings => {
    const found: CountedText[] = [];
    return { found, text: (one) => void found.push(one) };
  });
  return read && { unit: read.unit, strings: read.parts.found };
};

/**
 * Applies edits and writes the lengths of the counted strings around them anew. Edits are in order and do not
 * overlap; those inside frozen parts must have been left out.
 */
export function applyEdits(value: ByteString, edits: readonly Edit[], structure: Structure): ByteString {
  let nextEdit = 0;
  let nextCounted = 0;
  const render = (from: number, to: number): ByteString => {
    let out = '';
    let at = from;
    for (;;) {
      const edit = edits[nextEdit];
      const counted = structure.counted[nextCounted];
      const countedFirst = counted && counted.digitsStart < to && (!edit || counted.digitsStart < edit.start);
      if (countedFirst) {
        nextCounted++;
        const inside = render(counted.start, counted.end);
        const length = lengthIn(counted.unit, unescaped(inside, counted.layers));
        out += value.slice(at, counted.digitsStart) + length + value.slice(counted.digitsEnd, counted.start) + inside;
        at = counted.end;
      } else if (edit && edit.start < to) {
        nextEdit++;
        out += value.slice(at, edit.start) + edit.text;
        at = edit.end;
      } else {
        return out + value.slice(at, to);
      }
    }
  };
  return render(0, value.length);
}
