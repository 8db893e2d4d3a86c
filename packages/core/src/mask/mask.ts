import type { ByteString } from '../address/place.js';
import type { MaskRule } from '../profile/schema.js';
import { toBytes } from '../rows/condition.js';
import { maskDate, maskDigits, maskInternetAddress } from './mask-forms.js';
import { type InnerMask, maskInside } from './mask-inside.js';
import type { KeyedHash } from './permute.js';

const FIRST = [
  'Alma',
  'Bertil',
  'Cara',
  'Davin',
  'Elin',
  'Fenna',
  'Goran',
  'Hedda',
  'Ivar',
  'Jorun',
  'Kasimir',
  'Liv',
  'Marta',
  'Nils',
  'Oda',
  'Piet',
  'Runa',
  'Sverre',
  'Tilde',
  'Ulf',
  'Vera',
  'Wim',
  'Yrsa',
  'Zoltan',
];
const LAST = [
  'Aker',
  'Brook',
  'Colm',
  'Dahl',
  'Eide',
  'Falk',
  'Groth',
  'Holm',
  'Ivers',
  'Juhl',
  'Krog',
  'Lund',
  'Moor',
  'Nord',
  'Ostby',
  'Pryde',
  'Rask',
  'Strand',
  'Thorn',
  'Urdal',
  'Vang',
  'Weld',
];
const STREETS = [
  'Alder Walk',
  'Bell Lane',
  'Cooper Row',
  'Dyke Road',
  'Elm Yard',
  'Ferry Street',
  'Gate Hill',
  'Harbour Steps',
  'Ivy Court',
  'Kiln Road',
  'Linden Way',
  'Mill Green',
];
const WORDS = [
  'amber',
  'birch',
  'cable',
  'delta',
  'ember',
  'fable',
  'grain',
  'hazel',
  'inlet',
  'jetty',
  'kelp',
  'ledge',
  'maple',
  'north',
  'otter',
  'pearl',
  'quill',
  'reed',
  'slate',
  'tide',
];

/**
 * Masks one personal value; deterministic by the site's key, and of the same form as the original. Null and empty
 * values stay. A rule for places inside a value masks those alone, and a value that it cannot read as a whole.
 */
export function maskValue(rule: MaskRule, value: ByteString | null, hash: KeyedHash): ByteString | null {
  if (value === null || value === '' || rule === 'keep') return value;
  if (rule === 'null') return null;
  if (typeof rule === 'object' && 'fixed' in rule) return toBytes(rule.fixed);
  if (typeof rule === 'object') {
    const masks = Object.entries(rule.inside).map(
      ([path, inner]): InnerMask => ({
        path,
        mask: (text) => maskValue(inner, text, hash),
      }),
    );
    // What cannot be read is masked as a whole.
    return maskInside(value, masks) ?? maskWords(value, hash(value));
  }
  const digest = hash(value);
  switch (rule) {
    case 'mail':
      return `${pick(FIRST, digest, 0).toLowerCase()}.${hex(digest, 4, 8)}@masked.example`;
    case 'name':
      return value.includes(' ') ? `${pick(FIRST, digest, 0)} ${pick(LAST, digest, 2)}` : pick(LAST, digest, 2);
    case 'street':
      return `${1 + ((digest[0] as number) % 199)} ${pick(STREETS, digest, 2)}`;
    case 'phone':
      return maskDigits(value, hash);
    case 'date':
      return maskDate(value, hash);
    case 'internet-address':
      return maskInternetAddress(value, hash);
    case 'free-text':
      return maskWords(value, digest);
  }
}

/** Whether different values stay different under a mask, so that a unique column can have it. */
export function keepsUnique(rule: MaskRule): boolean {
  return typeof rule !== 'object' && ['mail', 'phone', 'date', 'internet-address', 'null', 'keep'].includes(rule);
}

/** A mask as a profile writes it, in one line. */
export function maskText(rule: MaskRule): string {
  if (typeof rule !== 'object') return rule;
  if ('fixed' in rule) return `fixed: ${rule.fixed}`;
  return Object.entries(rule.inside)
    .map(([path, inner]) => `${path}: ${maskText(inner)}`)
    .join(', ');
}

function pick(list: readonly string[], digest: Uint8Array, at: number): string {
  return list[(((digest[at] as number) << 8) | (digest[at + 1] as number)) % list.length] as string;
}

function hex(digest: Uint8Array, from: number, count: number): string {
  return [...digest.slice(from, from + count)].map((byte) => byte.toString(16).padStart(2, '0')).join('');
}

/** As many words as there were, drawn anew; line breaks stay. */
function maskWords(value: ByteString, digest: Uint8Array): ByteString {
  let state = ((digest[0] as number) << 16) | ((digest[1] as number) << 8) | (digest[2] as number);
  return value.replace(/[^\s]+/g, () => {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    return WORDS[(state >>> 8) % WORDS.length] as string;
  });
}

/** Column names that suggest personal data; a copy stops at those the profile has not classified. */
const SUSPICIOUS =
  /(^|_)(e?mail|phone|mobile|fax|first_?name|last_?name|surname|full_?name|birth(day|date)?|street|iban|ssn|passport|ip(_address)?)($|_)/i;

/** Whether a column's name suggests personal data. */
export const looksPersonal = (column: string): boolean => SUSPICIOUS.test(column);
