import { inLayer } from './layers.js';
import { type Occurrence, OccurrenceFinder, type Reach, writeOccurrence } from './occurrences.js';
import type { ByteString, Place } from './place.js';
import { applyEdits, type Edit, findStructure, mayHaveStructure } from './structure.js';
import { MARKER, readToken, TOKEN_PATTERN, type Token, VERBATIM, writePlainToken } from './token.js';

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

/** What is translated where the profile says nothing else. */
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
  readonly #written: TokenTexts = new Map();

  /** @param settings values that setting tokens stand for when a value is materialised */
  constructor(place: Place, settings: ReadonlyMap<string, ByteString> = new Map()) {
    this.#place = place;
    this.#settings = settings;
    this.finder = new OccurrenceFinder(place);
  }

  canonicalise(value: ByteString, reach: Reach = WHOLE_REACH): Canonical {
    const found = this.finder.find(value, reach);
    if (found.length === 0) return { value, rewritten: 0, left: 0 };
    const count = ownIn(found);
    if (!mayHaveStructure(value)) return { value: applyEdits(value, found, FLAT), rewritten: count, left: 0 };
    const structure = findStructure(value, found);
    if (structure.frozen.length === 0) return { value: applyEdits(value, found, structure), rewritten: count, left: 0 };
    if (value.includes(MARKER)) return { value: VERBATIM + value, rewritten: 0, left: count };
    const kept = found.filter(
      (edit) => !structure.frozen.some((part) => edit.start < part.end && edit.end > part.start),
    );
    const rewritten = ownIn(kept);
    return { value: applyEdits(value, kept, structure), rewritten, left: count - rewritten };
  }

  /** @throws {CanonicalFormError} */
  materialise(value: ByteString): ByteString {
    return translateTokens(value, this.#written, (token) => this.write(token));
  }

  /** The text that a token, given as it is written, stands for at this place. @throws {CanonicalFormError} */
  writeTokenText(text: ByteString): ByteString {
    return this.#written.get(text) ?? this.materialise(text);
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

function ownIn(found: readonly Occurrence[]): number {
  let count = 0;
  for (const one of found) if (one.isOwn) count++;
  return count;
}

const FLAT = { counted: [], frozen: [] } as const;

/** What tokens were translated to before, by how they are written; undefined for what only looks like one. */
type TokenTexts = Map<ByteString, ByteString | undefined>;

const plainTexts: TokenTexts = new Map();

/** A canonical value without spellings: equal for two values that say the same in different words. */
export const plain = (value: ByteString): ByteString => translateTokens(value, plainTexts, writePlainToken);

const WHOLE_TOKEN = new RegExp(`^${TOKEN_PATTERN}$`);
const REMEMBERED_TOKENS = 1000;

function translateTokens(value: ByteString, known: TokenTexts, write: (token: Token) => ByteString): ByteString {
  let at = value.indexOf(MARKER);
  if (at === -1) return value;
  if (value.startsWith(VERBATIM)) return value.slice(VERBATIM.length);
  const edits: Edit[] = [];
  while (at !== -1) {
    const end = value.indexOf('~', at + MARKER.length) + 1;
    if (end === 0) break;
    const written = value.slice(at, end);
    let text = known.get(written);
    if (text === undefined && !known.has(written)) {
      const match = WHOLE_TOKEN.exec(written);
      text = match ? write(readToken(match)) : undefined;
      if (known.size < REMEMBERED_TOKENS) known.set(written, text);
    }
    if (text !== undefined) edits.push({ start: at, end, text });
    at = value.indexOf(MARKER, text === undefined ? at + 1 : end);
  }
  const structure = mayHaveStructure(value) ? findStructure(value, edits) : FLAT;
  return applyEdits(value, edits, structure);
}
