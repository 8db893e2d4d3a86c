import type { ByteString } from '../address/place.js';

/**
 * What a length counts. Where a site's database has an encoding of one byte a character, its lengths count what arrives here as
 * characters of UTF-8.
 */
export type Unit = 'bytes' | 'characters';

/** A text whose length is written before it. Offsets are those of the value that it stands in. */
export interface CountedText {
  readonly digitsStart: number;
  readonly digitsEnd: number;
  readonly start: number;
  readonly end: number;
  /** A class's own payload, whose inner format is the class's matter; most are a serialised value again. */
  readonly isOpaque: boolean;
}

/** Who is told of the parts of a serialised value, in the order in which they stand. */
export interface PartsOfSerialised {
  /** A text or a payload, and where all of it stands. */
  text(found: CountedText, start: number, end: number): void;
  /** A whole number. @param text without what stands about it */
  number?(text: ByteString, start: number, end: number): void;
  /** A truth value, a fraction, null or a case of an enumeration; or, as a `reference`, what stands for another value by its number. */
  other?(is: 'plain' | 'reference', start: number, end: number): void;
  /** An array or an object begins, of which names and values follow. @param head what stands before their count, such as `O:4:"Page"` */
  open?(head: ByteString, start: number): void;
  close?(end: number): void;
}

/** Quick test on the first bytes. */
export const looksSerialised = (text: ByteString): boolean => /^(?:a:\d+:\{|[sEOC]:\d+:")/.test(text);

/**
 * Reads a value in PHP's serialisation format (php.net, `serialize`), strictly: rewriting, merging and masking go by this
 * one reader, so that what one of them reads the others read. Stand-ins for keys count as numbers (see key-translation.ts).
 *
 * @param parts is told of parts also of what turns out not to be exactly one such value; a new one for each unit tried
 * @returns what its lengths count; undefined when the text is not exactly one serialised value (white space after it is
 *   allowed)
 */
export function readSerialised<T extends PartsOfSerialised>(
  text: ByteString,
  parts: () => T,
): { readonly unit: Unit; readonly parts: T } | undefined {
  for (const unit of ['bytes', 'characters'] as const) {
    if (unit === 'characters' && !/[\x80-\xff]/.test(text)) return undefined;
    const told = parts();
    if (new Reader(unit, text, told).reads()) return { unit, parts: told };
  }
  return undefined;
}

/** How long a text is in a unit. */
export function lengthIn(unit: Unit, text: ByteString): number {
  if (unit === 'bytes') return text.length;
  let length = 0;
  for (let i = 0; i < text.length; i++) if (!isContinuation(text.charCodeAt(i))) length++;
  return length;
}

const isContinuation = (code: number): boolean => (code & 0xc0) === 0x80;

const MAX_DEPTH = 200;
/** What stands for a key until it is drawn. */
const STAND_IN = /\0[^\0]*\0-?\d+/y;

/** Reads one value, in one unit. */
class Reader {
  #at = 0;

  constructor(
    private readonly unit: Unit,
    private readonly value: ByteString,
    private readonly parts: PartsOfSerialised,
  ) {}

  /** Whether it is one value from end to end. */
  reads(): boolean {
    return this.#any(0) && /^[ \t\r\n]*$/.test(this.value.slice(this.#at));
  }

  get #next(): number {
    return this.value.charCodeAt(this.#at);
  }

  #take(code: number): boolean {
    if (this.#next !== code) return false;
    this.#at++;
    return true;
  }

  #digits(): boolean {
    const start = this.#at;
    while (isDigit(this.#next)) this.#at++;
    return this.#at > start;
  }

  /** A length and the colon after it; -1 when none stands here. */
  #length(): number {
    const start = this.#at;
    let length = 0;
    while (isDigit(this.#next)) length = length * 10 + this.value.charCodeAt(this.#at++) - 48;
    const digits = this.#at - start;
    const isWritten = digits > 0 && digits <= 10 && (digits === 1 || this.value.charCodeAt(start) !== 48);
    return isWritten && this.#take(COLON) ? length : -1;
  }

  #counted(open: number, close: number): CountedText | undefined {
    const digitsStart = this.#at;
    const size = this.#length();
    const digitsEnd = this.#at - 1;
    if (size === -1 || !this.#take(open)) return undefined;
    const start = this.#at;
    if (this.unit === 'bytes') this.#at += size;
    else
      for (let i = 0; i < size && this.#at < this.value.length; i++)
        do this.#at++;
        while (isContinuation(this.#next));
    const end = this.#at;
    return this.#take(close) ? { digitsStart, digitsEnd, start, end, isOpaque: open === OPEN } : undefined;
  }

  #text(start: number): boolean {
    const found = this.#counted(QUOTE, QUOTE);
    if (!found || !this.#take(SEMICOLON)) return false;
    this.parts.text(found, start, this.#at);
    return true;
  }

  #payload(start: number): boolean {
    if (!this.#counted(QUOTE, QUOTE) || !this.#take(COLON)) return false;
    const found = this.#counted(OPEN, CLOSE);
    if (found) this.parts.text(found, start, this.#at);
    return found !== undefined;
  }

  #number(start: number): boolean {
    const from = this.#at;
    STAND_IN.lastIndex = from;
    if (this.#next === 0 && STAND_IN.test(this.value)) this.#at = STAND_IN.lastIndex;
    else {
      if (!this.#take(PLUS)) this.#take(MINUS);
      if (!this.#digits()) return false;
    }
    const to = this.#at;
    if (!this.#take(SEMICOLON)) return false;
    this.parts.number?.(this.value.slice(from, to), start, this.#at);
    return true;
  }

  #fraction(): boolean {
    const from = this.#at;
    while (this.#at < this.value.length && !ENDS_DOUBLE.includes(this.value[this.#at] as string)) this.#at++;
    return this.#at > from && this.#take(SEMICOLON);
  }

  #other(is: 'plain' | 'reference', start: number, isThere: boolean): boolean {
    if (isThere) this.parts.other?.(is, start, this.#at);
    return isThere;
  }

  #members(start: number, depth: number): boolean {
    this.parts.open?.(this.value.slice(start, this.#at), start);
    if (!this.#take(COLON)) return false;
    const count = this.#length();
    if (count === -1 || !this.#take(OPEN)) return false;
    for (let i = 0; i < count; i++) {
      const isName = this.#next === INT || this.#next === STRING;
      if (!isName || !this.#any(depth + 1) || !this.#any(depth + 1)) return false;
    }
    if (!this.#take(CLOSE)) return false;
    this.parts.close?.(this.#at);
    return true;
  }

  #any(depth: number): boolean {
    if (depth > MAX_DEPTH) return false;
    const start = this.#at;
    const kind = this.#next;
    this.#at++;
    if (kind === NULL) return this.#other('plain', start, this.#take(SEMICOLON));
    if (kind === ARRAY) return this.#members(start, depth);
    if (!this.#take(COLON)) return false;
    switch (kind) {
      case BOOL:
        return this.#other('plain', start, (this.#take(48) || this.#take(49)) && this.#take(SEMICOLON));
      case INT:
        return this.#number(start);
      case REF:
      case OBJECT_REF:
        return this.#other('reference', start, this.#digits() && this.#take(SEMICOLON));
      case DOUBLE:
        return this.#other('plain', start, this.#fraction());
      case STRING:
        return this.#text(start);
      case OBJECT:
        return this.#counted(QUOTE, QUOTE) !== undefined && this.#members(start, depth);
      case CUSTOM:
        return this.#payload(start);
      case ENUM:
        return this.#other('plain', start, this.#counted(QUOTE, QUOTE) !== undefined && this.#take(SEMICOLON));
      default:
        return false;
    }
  }
}

const [QUOTE, PLUS, MINUS, COLON, SEMICOLON, OPEN, CLOSE] = [34, 43, 45, 58, 59, 123, 125];
// The letters that begin a value of each kind: N b i r R d s a O C E.
const [NULL, BOOL, INT, REF, OBJECT_REF, DOUBLE] = [78, 98, 105, 114, 82, 100];
const [STRING, ARRAY, OBJECT, CUSTOM, ENUM] = [115, 97, 79, 67, 69];
const ENDS_DOUBLE = ';"{}';
const isDigit = (code: number): boolean => code >= 48 && code <= 57;
