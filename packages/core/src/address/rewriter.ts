import { inLayer } from './layers.js';
import { OccurrenceFinder, type Reach, writeOccurrence } from './occurrences.js';
import type { ByteString, Place } from './place.js';
import { applyEdits, type Edit, findStructure, mayHaveStructure } from './structure.js';
import { MARKER, readToken, TOKEN_PATTERN, type Token, VERBATIM, writePlainToken, writeToken } from './token.js';

/** The outcome of looking at one value. */
export interface Canonical {
  readonly value: ByteString;
  /** Addresses and paths that became tokens. */
  readonly rewritten: number;
  /** Addresses and paths inside a part that looks serialised but does not parse; they stay as they were. */
  readonly left: number;
}

/** A canonical value that names something which the destination does not have, or whose token is not readable. */
export class CanonicalFormError extends Error {
  override readonly name = 'CanonicalFormError';
}

export const WHOLE_REACH: Reach = { bareHosts: false, rootPaths: true };

/**
 * Translates values between an environment's own form and the canonical form, which does not depend on where the
 * environment lies. Two laws hold, byte for byte:
 *
 * 1. `materialise(canonicalise(v)) = v` at the same place;
 * 2. `plain(canonicalise(materialise(c)))  = plain(c)` at any place of the same shape ({@link shapeConflicts}) whose
 *    addresses do not stand in `c` already.
 */
export class Rewriter {
  readonly finder: OccurrenceFinder;
  readonly #place: Place;
  readonly #settings: ReadonlyMap<string, ByteString>;
  readonly #written = new Map<ByteString, ByteString>();

  /** @param settings values that setting tokens stand for when a value is materialised */
  constructor(place: Place, settings: ReadonlyMap<string, ByteString> = new Map()) {
    this.#place = place;
    this.#settings = settings;
    this.finder = new OccurrenceFinder(place);
  }

  canonicalise(value: ByteString, reach: Reach = WHOLE_REACH): Canonical {
    const found = this.finder.find(value, reach);
    if (found.length === 0) return { value, rewritten: 0, left: 0 };
    const edits = found.map((one) => ({
      start: one.start,
      end: one.end,
      text: writeToken(one.token),
      own: one.token.kind !== 'literal',
    }));
    const count = edits.filter((edit) => edit.own).length;
    if (!mayHaveStructure(value)) return { value: applyEdits(value, edits, FLAT), rewritten: count, left: 0 };
    const structure = findStructure(value, edits);
    const kept = edits.filter(
      (edit) => !structure.frozen.some((part) => edit.start < part.end && edit.end > part.start),
    );
    if (structure.frozen.length > 0 && value.includes(MARKER))
      return { value: VERBATIM + value, rewritten: 0, left: count };
    const rewritten = kept.filter((edit) => edit.own).length;
    return { value: applyEdits(value, kept, structure), rewritten, left: count - rewritten };
  }

  /** @throws {CanonicalFormError} */
  materialise(value: ByteString): ByteString {
    return translateTokens(value, (token) => this.write(token));
  }

  /** The text that a token, given as it is written, stands for at this place. @throws {CanonicalFormError} */
  writeTokenText(text: ByteString): ByteString {
    let written = this.#written.get(text);
    if (written === undefined) {
      written = this.materialise(text);
      if (this.#written.size < 1000) this.#written.set(text, written);
    }
    return written;
  }

  /** The text that a token stands for at this place. @throws {CanonicalFormError} */
  write(token: Token): ByteString {
    switch (token.kind) {
      case 'url':
        return writeOccurrence(token, this.#place);
      case 'root': {
        const root = this.#place.roots.find((candidate) => candidate.name === token.root);
        if (!root) throw new CanonicalFormError(`The destination has no root named "${token.root}".`);
        return inLayer(root.path, token.layer);
      }
      case 'setting': {
        const setting = this.#settings.get(token.name);
        if (setting === undefined)
          throw new CanonicalFormError(`The destination has no value for the setting "${token.name}".`);
        return setting;
      }
      case 'literal':
        return MARKER;
      case 'verbatim':
        throw new CanonicalFormError('A verbatim mark stands inside a value.');
    }
  }
}

const FLAT = { counted: [], frozen: [] } as const;

/** A canonical value without spellings: equal for two values that say the same in different words. */
export const plain = (value: ByteString): ByteString =>
  value.includes(MARKER) ? translateTokens(value, writePlainToken) : value;

const TOKENS = new RegExp(TOKEN_PATTERN, 'g');

function translateTokens(value: ByteString, write: (token: Token) => ByteString): ByteString {
  if (!value.includes(MARKER)) return value;
  if (value.startsWith(VERBATIM)) return value.slice(VERBATIM.length);
  const edits: Edit[] = [];
  for (const match of value.matchAll(TOKENS)) {
    edits.push({
      start: match.index,
      end: match.index + match[0].length,
      text: write(readToken(match as RegExpExecArray)),
    });
  }
  const structure = mayHaveStructure(value) ? findStructure(value, edits) : FLAT;
  return applyEdits(value, edits, structure);
}
