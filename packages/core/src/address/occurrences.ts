import { beginsName, colon, endsName, inLayer, type Layer, layerBefore, slash } from './layers.js';
import {
  type ByteString,
  defaultPort,
  type Location,
  otherScheme,
  ownPort,
  type Place,
  portOfOtherScheme,
  type Scheme,
} from './place.js';
import { type Capitals, LITERAL, MARKER, type Spelling, type Token, writeToken } from './token.js';

/** One place in a value where the environment's own address or path stands, or the marker itself. */
export interface Occurrence {
  readonly start: number;
  readonly end: number;
  /** The token that stands for it in canonical form. */
  readonly text: ByteString;
  /** False for the marker. */
  readonly isOwn: boolean;
}

/** What may be found in a value besides addresses with a scheme or `//`. */
export interface Reach {
  /** Host names that stand alone, such as `shop.example`. */
  readonly bareHosts: boolean;
  /** Absolute root paths. */
  readonly rootPaths: boolean;
}

interface Candidate extends Location {
  readonly address: string;
  readonly alias: string | undefined;
}

/** How an address is nearly always written: in full, unescaped, in lower case, and followed by a plain delimiter. */
interface UsualForm {
  readonly before: string;
  readonly after: string;
  readonly text: ByteString;
}

/** Bytes that end a name whatever follows them; the others want the careful look of {@link endsName}. */
const DELIMITERS: readonly boolean[] = Array.from({ length: 128 }, (_one, code) =>
  ' \t\n\r"\'/<>()[]{},;?#&='.includes(String.fromCharCode(code)),
);

const escapeForPattern = (text: string): string => text.replace(/[.*+?^${}()|[\]\\/-]/g, '\\$&');

/**
 * Finds an environment's own addresses and root paths in values. One compiled search per environment: a single pass
 * over the bytes looks for all hosts, roots and the marker at once; the careful checks run only where it hits.
 */
export class OccurrenceFinder {
  readonly #byHost = new Map<string, Candidate[]>();
  readonly #usual = new Map<string, readonly UsualForm[]>();
  readonly #roots: { name: string; path: string }[];
  readonly #hosts: RegExp | undefined;
  readonly #rootPatterns: RegExp | undefined;

  constructor(place: Place) {
    for (const address of place.addresses) {
      this.#add({ ...address, address: address.name, alias: undefined });
      for (const alias of address.aliases) this.#add({ ...alias, address: address.name, alias: alias.name });
    }
    for (const [host, candidates] of this.#byHost) {
      candidates.sort((a, b) => b.path.length - a.path.length);
      const [only, second] = candidates;
      if (only && !second && only.path === '') this.#usual.set(host, usualForms(only));
    }
    this.#roots = [...place.roots].sort((a, b) => b.path.length - a.path.length);
    const hosts = [...this.#byHost.keys()].sort((a, b) => b.length - a.length).map(escapeForPattern);
    const roots = this.#roots.map(
      (root) =>
        `(?:\\\\{0,14}\\/|%2F)${root.path.slice(1).split('/').map(escapeForPattern).join('(?:\\\\{0,14}\\/|%2F)')}`,
    );
    this.#hosts = hosts.length > 0 ? new RegExp(hosts.join('|'), 'gi') : undefined;
    this.#rootPatterns = roots.length > 0 ? new RegExp(roots.join('|'), 'gi') : undefined;
  }

  #add(candidate: Candidate): void {
    const list = this.#byHost.get(candidate.host) ?? [];
    this.#byHost.set(candidate.host, [...list, candidate]);
  }

  /** Walks the places of a text where an occurrence may stand. */
  scan(text: ByteString, withRoots: boolean): HitScanner {
    return new HitScanner(text, this.#hosts, withRoots ? this.#rootPatterns : undefined);
  }

  /** All occurrences in a value, in order and without overlap. */
  find(value: ByteString, reach: Reach): Occurrence[] {
    const found: Occurrence[] = [];
    const scanner = this.scan(value, reach.rootPaths);
    let free = 0;
    for (let hit = scanner.next(0); hit; ) {
      const occurrence = this.examine(value, hit.index, hit.text, reach, free);
      if (occurrence) {
        found.push(occurrence);
        free = occurrence.end;
      }
      hit = scanner.next(occurrence ? occurrence.end : hit.index + 1);
    }
    return found;
  }

  /**
   * Looks closely at one hit.
   *
   * @param text what was hit: the marker, a host, or a root path
   * @param free where the previous occurrence ended; nothing before belongs to this one
   */
  examine(value: ByteString, at: number, text: string, reach: Reach, free: number): Occurrence | undefined {
    if (text === MARKER) return { start: at, end: at + text.length, text: LITERAL, isOwn: false };
    const usual = this.#usualForm(value, at, text, free);
    if (usual) return usual;
    const candidates = this.#byHost.get(text) ?? this.#byHost.get(text.toLowerCase());
    if (candidates) return this.#url(value, at, at + text.length, candidates, reach, free);
    const adjoins = at === free && at > 0;
    return reach.rootPaths && !adjoins ? this.#root(value, at, text) : undefined;
  }

  #usualForm(value: ByteString, at: number, host: string, free: number): Occurrence | undefined {
    const forms = this.#usual.get(host);
    if (!forms) return undefined;
    for (const form of forms) {
      const start = at - form.before.length;
      const end = at + host.length + form.after.length;
      if (start < free || !value.startsWith(form.before, start)) continue;
      if (form.after !== '' && !value.startsWith(form.after, at + host.length)) continue;
      if (end < value.length && DELIMITERS[value.charCodeAt(end)] !== true) continue;
      return { start, end, text: form.text, isOwn: true };
    }
    return undefined;
  }

  #url(
    value: ByteString,
    hostStart: number,
    hostEnd: number,
    candidates: readonly Candidate[],
    reach: Reach,
    free: number,
  ): Occurrence | undefined {
    const written = value.slice(hostStart, hostEnd);
    const host = written === written.toLowerCase() ? undefined : written;
    const occurrence = (
      start: number,
      end: number,
      { address, alias }: Candidate,
      spelling: Spelling,
      explicitPort: boolean,
      layer: Layer,
      capitals?: Capitals,
    ): Occurrence => {
      const text = writeToken({ kind: 'url', address, alias, spelling, capitals, explicitPort, layer, host });
      return { start, end, text, isOwn: true };
    };

    const layer = layerBefore(value, hostStart);
    const afterScheme = layer === undefined ? hostStart : hostStart - 2 * slash(layer).length;
    const hasSlashes =
      layer !== undefined && afterScheme >= free && value.slice(afterScheme, hostStart) === slash(layer).repeat(2);
    if (!hasSlashes) {
      if (!reach.bareHosts || !beginsName(value, hostStart)) return undefined;
      const port = readPort(value, hostEnd, '0');
      const match = candidates.find((candidate) => matchesPort(port.port, candidate, candidate.scheme));
      if (!match || !endsName(value, port.end)) return undefined;
      const explicit = port.port !== undefined && port.port === defaultPort(match.scheme);
      return occurrence(hostStart, port.end, match, 'bare', explicit, '0');
    }

    const { scheme, capitals } = readScheme(value, afterScheme, layer, free) ?? {};
    const port = readPort(value, hostEnd, layer);
    for (const candidate of candidates) {
      const spelling = scheme === undefined ? 'none' : scheme === candidate.scheme ? 'own' : 'other';
      if (!matchesPort(port.port, candidate, scheme ?? candidate.scheme)) continue;
      const path = inLayer(candidate.path, layer);
      const end = port.end + path.length;
      if (value.slice(port.end, end) !== path || !endsName(value, end)) continue;
      const explicit = port.port !== undefined && port.port === defaultPort(scheme ?? candidate.scheme);
      const start = scheme === undefined ? afterScheme : afterScheme - colon(layer).length - scheme.length;
      return occurrence(start, end, candidate, spelling, explicit, layer, capitals);
    }
    return undefined;
  }

  #root(value: ByteString, start: number, text: string): Occurrence | undefined {
    const layer = text.startsWith('%') ? (text.startsWith('%2F') ? 'P' : 'p') : (String(text.indexOf('/')) as Layer);
    if (!/^[0-7Pp]$/.test(layer)) return undefined;
    const root = this.#roots.find((candidate) => inLayer(candidate.path, layer) === text);
    const end = start + text.length;
    const begins = beginsName(value, start) || /file:\/\/$/.test(value.slice(Math.max(0, start - 7), start));
    if (!root || !begins || !endsName(value, end)) return undefined;
    return { start, end, text: writeToken({ kind: 'root', root: root.name, layer }), isOwn: true };
  }
}

/** With its own scheme and its other one, each with the port that belongs to it. */
function usualForms(candidate: Candidate): UsualForm[] {
  const { address, alias } = candidate;
  const form = (scheme: Scheme, port: number | undefined, spelling: Spelling): UsualForm[] => {
    if (port === undefined) return [];
    const after = port === defaultPort(scheme) ? '' : `:${port}`;
    const usual = { capitals: undefined, explicitPort: false, layer: '0', host: undefined } as const;
    const text = writeToken({ kind: 'url', address, alias, spelling, ...usual });
    return [{ before: `${scheme}://`, after, text }];
  };
  return [
    ...form(candidate.scheme, ownPort(candidate), 'own'),
    ...form(otherScheme(candidate.scheme), portOfOtherScheme(candidate), 'other'),
  ];
}

/** The scheme that ends before a colon; capitals mean what small letters do (RFC 3986, 3.1). */
function readScheme(
  value: ByteString,
  end: number,
  layer: Layer,
  free: number,
): { readonly scheme: Scheme; readonly capitals: Capitals | undefined } | undefined {
  const mark = colon(layer);
  for (const scheme of ['https', 'http'] as const) {
    const start = end - mark.length - scheme.length;
    if (start < free || !value.startsWith(mark, start + scheme.length)) continue;
    const written = value.slice(start, start + scheme.length);
    if (written === scheme) return { scheme, capitals: undefined };
    if (written === scheme.toUpperCase()) return { scheme, capitals: 'all' };
    if (written === capitalised(scheme)) return { scheme, capitals: 'first' };
  }
  return undefined;
}

const capitalised = (scheme: Scheme): string => `H${scheme.slice(1)}`;

function readPort(value: ByteString, at: number, layer: Layer): { port: number | undefined; end: number } {
  const mark = colon(layer);
  if (value.slice(at, at + mark.length) !== mark) return { port: undefined, end: at };
  const digits = /^[1-9][0-9]{0,4}/.exec(value.slice(at + mark.length, at + mark.length + 6));
  return digits ? { port: Number(digits[0]), end: at + mark.length + digits[0].length } : { port: undefined, end: at };
}

function matchesPort(port: number | undefined, candidate: Location, scheme: Scheme): boolean {
  const expected = scheme === candidate.scheme ? ownPort(candidate) : portOfOtherScheme(candidate);
  return expected !== undefined && (port ?? defaultPort(scheme)) === expected;
}

/** A place where an occurrence may stand, and what was hit there. */
export interface Hit {
  readonly index: number;
  readonly text: string;
}

/**
 * Looks for hosts, root paths and the marker side by side: each search alone is many times faster than one pattern
 * for all of them.
 */
export class HitScanner {
  #host: Hit | undefined;
  #root: Hit | undefined;
  #marker: Hit | undefined;

  constructor(
    private readonly text: ByteString,
    private readonly hosts: RegExp | undefined,
    private readonly roots: RegExp | undefined,
  ) {
    this.#host = this.#search(hosts, 0);
    this.#root = this.#search(roots, 0);
    this.#marker = this.#searchMarker(0);
  }

  #search(pattern: RegExp | undefined, from: number): Hit | undefined {
    if (!pattern) return undefined;
    pattern.lastIndex = from;
    const hit = pattern.exec(this.text);
    return hit ? { index: hit.index, text: hit[0] } : undefined;
  }

  #searchMarker(from: number): Hit | undefined {
    const index = this.text.indexOf(MARKER, from);
    return index === -1 ? undefined : { index, text: MARKER };
  }

  /** The first hit at or after `from`; `from` never goes back. */
  next(from: number): Hit | undefined {
    if (this.#host && this.#host.index < from) this.#host = this.#search(this.hosts, from);
    if (this.#root && this.#root.index < from) this.#root = this.#search(this.roots, from);
    if (this.#marker && this.#marker.index < from) this.#marker = this.#searchMarker(from);
    let first = this.#host;
    if (this.#root && (!first || this.#root.index < first.index)) first = this.#root;
    if (this.#marker && (!first || this.#marker.index < first.index)) first = this.#marker;
    return first;
  }
}

/** Writes an occurrence's text at a place; see docs/formats.md for the choice of scheme, port and host. */
export function writeOccurrence(token: Token & { kind: 'url' }, place: Place): ByteString {
  const address = place.addresses.find((candidate) => candidate.name === token.address) ?? place.addresses[0];
  if (!address) throw new Error(`No address to write "${token.address}" with.`);
  const at: Location = address.aliases.find((alias) => alias.name === token.alias) ?? address;
  const other = portOfOtherScheme(at);
  const asOther = token.spelling === 'other' && other !== undefined;
  const scheme = asOther ? otherScheme(at.scheme) : at.scheme;
  const port = asOther ? other : ownPort(at);
  const isDefault = port === defaultPort(scheme);
  const portText = isDefault && !token.explicitPort ? '' : `${colon(token.layer)}${port}`;
  const host = token.host !== undefined && token.host.toLowerCase() === at.host ? token.host : at.host;
  if (token.spelling === 'bare') return host + portText;
  const slashes = slash(token.layer).repeat(2);
  const written = { all: scheme.toUpperCase(), first: capitalised(scheme), none: scheme }[token.capitals ?? 'none'];
  const prefix = token.spelling === 'none' ? slashes : written + colon(token.layer) + slashes;
  return prefix + host + portText + inLayer(at.path, token.layer);
}
