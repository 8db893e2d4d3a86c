import type { Layer } from './layers.js';
import type { ByteString } from './place.js';

/**
 * Tokens stand in canonical values where an environment's own addresses and paths stood (format in
 * docs/formats.md). They use only `A–Z a–z 0–9 . - ~`, which need no escaping in JSON, URLs, serialised values, array literals
 * or COPY text.
 */
export const MARKER = '~tsr.';

/** `own`, `other` or `none` (`//host`) scheme; `bare` is a host name alone. */
export type Spelling = 'own' | 'other' | 'none' | 'bare';

/** `HTTPS` or `Https`, as people and their devices write it. */
export type Capitals = 'all' | 'first';

/** What an address, a root path or a setting becomes in canonical form; written as {@link writeToken} says. */
export type Token =
  | {
      readonly kind: 'url';
      readonly address: string;
      /** Alias name, or undefined for the address itself. */
      readonly alias: string | undefined;
      readonly spelling: Spelling;
      /** Which letters of the scheme were capitals; undefined for none. */
      readonly capitals: Capitals | undefined;
      /** The value spelled out the scheme's default port. */
      readonly explicitPort: boolean;
      readonly layer: Layer;
      /** The host as it was written, when not in lower case. */
      readonly host: string | undefined;
    }
  | { readonly kind: 'root'; readonly root: string; readonly layer: Layer }
  | { readonly kind: 'setting'; readonly name: string }
  /** The marker itself, found in the data. */
  | { readonly kind: 'literal' }
  /** Stands at the front of a value that is kept byte for byte because it does not parse. */
  | { readonly kind: 'verbatim' };

const SPELLING = { own: 'o', other: 'x', none: 'n', bare: 'h' } as const;
const CAPITALS = { all: 'c', first: 'f' } as const;
const SPELLED: Record<string, Spelling> = { o: 'own', x: 'other', n: 'none', h: 'bare' };

/** A token as it is written; its groups are read by {@link readToken}. */
export const TOKEN_PATTERN =
  '~tsr\\.(?:(l)|(b)|u\\.([a-z0-9-]+)\\.([a-z0-9-]+|0)\\.([oxnh])(d?)([cf]?)([0-7Pp])(?:\\.([A-Za-z0-9.-]+))?|r\\.([A-Za-z0-9._-]+)\\.([0-7Pp])|s\\.([a-z0-9_-]+))~';

/** Written form of the `verbatim` token. */
export const VERBATIM = '~tsr.b~';
/** Written form of the `literal` token. */
export const LITERAL = '~tsr.l~';

/** Writes a token. */
export function writeToken(token: Token): ByteString {
  switch (token.kind) {
    case 'url': {
      const host = token.host === undefined ? '' : `.${token.host}`;
      return `${MARKER}u.${token.address}.${token.alias ?? '0'}.${SPELLING[token.spelling]}${token.explicitPort ? 'd' : ''}${token.capitals ? CAPITALS[token.capitals] : ''}${token.layer}${host}~`;
    }
    case 'root':
      return `${MARKER}r.${token.root}.${token.layer}~`;
    case 'setting':
      return `${MARKER}s.${token.name}~`;
    case 'literal':
      return LITERAL;
    case 'verbatim':
      return VERBATIM;
  }
}

/** The token without its spelling: what comparison sees. Aliases are spellings of their address. */
export function writePlainToken(token: Token): ByteString {
  if (token.kind === 'url') return `${MARKER}u.${token.address}${token.spelling === 'bare' ? '.h' : ''}~`;
  if (token.kind === 'root') return `${MARKER}r.${token.root}~`;
  return writeToken(token);
}

/** Reads the token from a match of {@link TOKEN_PATTERN}. */
export function readToken(match: RegExpExecArray): Token {
  if (match[1] !== undefined) return { kind: 'literal' };
  if (match[2] !== undefined) return { kind: 'verbatim' };
  if (match[3] !== undefined) {
    return {
      kind: 'url',
      address: match[3],
      alias: match[4] === '0' ? undefined : match[4],
      spelling: SPELLED[match[5] as string] as Spelling,
      explicitPort: match[6] === 'd',
      capitals: match[7] === 'c' ? 'all' : match[7] === 'f' ? 'first' : undefined,
      layer: match[8] as Layer,
      host: match[9],
    };
  }
  if (match[10] !== undefined) return { kind: 'root', root: match[10], layer: match[11] as Layer };
  return { kind: 'setting', name: match[12] as string };
}
