import type { ByteString } from './place.js';

/**
 * How a URL's separators are escaped where it stands: by a number of backslashes before each slash (0 in plain
 * text, 1 in JSON, 3 in JSON inside JSON), or percent-encoded with upper- or lower-case hex digits.
 */
export type Layer = '0' | '1' | '2' | '3' | '4' | '5' | '6' | '7' | 'P' | 'p';

const MAX_BACKSLASHES = 7;

/** A slash as it is written in a layer. */
export function slash(layer: Layer): string {
  if (layer === 'P') return '%2F';
  if (layer === 'p') return '%2f';
  return `${'\\'.repeat(Number(layer))}/`;
}

/** A colon as it is written in a layer. */
export function colon(layer: Layer): string {
  if (layer === 'P') return '%3A';
  if (layer === 'p') return '%3a';
  return ':';
}

/** Writes a path such as '/shop/de' in a layer. */
export const inLayer = (path: string, layer: Layer): string => path.replaceAll('/', slash(layer));

/** Finds the layer of the separator that ends right before `end`, or undefined when none stands there. */
export function layerBefore(text: ByteString, end: number): Layer | undefined {
  if (text[end - 1] === '/') {
    let backslashes = 0;
    while (backslashes < MAX_BACKSLASHES && text[end - 2 - backslashes] === '\\') backslashes++;
    return String(backslashes) as Layer;
  }
  const three = text.slice(Math.max(0, end - 3), end);
  return three === '%2F' ? 'P' : three === '%2f' ? 'p' : undefined;
}

const isWord = (code: number): boolean =>
  (code >= 48 && code <= 57) ||
  (code >= 65 && code <= 90) ||
  (code >= 97 && code <= 122) ||
  code >= 128 ||
  code === 95 ||
  code === 45;

const isDigit = (code: number): boolean => code >= 48 && code <= 57;

/**
 * Tells whether a host, port or path ends at `end`, so that what stands before it is a whole name and not the
 * beginning of a longer one. The same rule holds for every address, so that a value written at another address is
 * read back alike (law 2).
 */
export function endsName(text: ByteString, end: number): boolean {
  if (end >= text.length) return true;
  const code = text.charCodeAt(end);
  if (isWord(code)) return false;
  switch (text[end]) {
    case '@':
    case '~':
      return false;
    case ':':
      return !isDigit(text.charCodeAt(end + 1));
    case '.':
      return !isWord(text.charCodeAt(end + 1)) && text[end + 1] !== '%';
    case '%': {
      const hex = /^%([0-9A-Fa-f]{2})(.?)/s.exec(text.slice(end, end + 4));
      if (!hex) return true;
      const encoded = Number.parseInt(hex[1] as string, 16);
      if (encoded === 58) return !isDigit((hex[2] as string).charCodeAt(0));
      return !isWord(encoded) && encoded !== 46 && encoded !== 64 && encoded !== 126;
    }
    case '\\': {
      const unit16 = /^\\+u([0-9A-Fa-f]{4})/.exec(text.slice(end, end + 14));
      if (!unit16) return true;
      const unit = Number.parseInt(unit16[1] as string, 16);
      return !isWord(unit) && unit !== 46 && unit !== 64 && unit !== 126 && unit !== 58;
    }
    default:
      return true;
  }
}

/** Tells whether a bare host name or a root path may begin at `start`: nothing before it belongs to the same name. */
export function beginsName(text: ByteString, start: number): boolean {
  if (start === 0) return true;
  const before = text.charCodeAt(start - 1);
  if (isWord(before) || '.@/\\~'.includes(text[start - 1] as string)) return false;
  const encoded = /%([0-9A-Fa-f]{2})$/.exec(text.slice(Math.max(0, start - 3), start));
  if (!encoded) return text[start - 1] !== '%';
  const code = Number.parseInt(encoded[1] as string, 16);
  return !isWord(code) && !'.@/~%\\'.includes(String.fromCharCode(code));
}
