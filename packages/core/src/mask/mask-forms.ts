import type { ByteString } from '../address/place.js';
import { type KeyedHash, permute, permuteDigits } from './permute.js';

/** Keeps signs, spaces and the first two digits (the country), so that a number keeps its form; different ones stay different. */
export function maskDigits(value: ByteString, hash: KeyedHash): ByteString {
  const digits = value.replace(/[^0-9]/g, '');
  const masked = digits.slice(0, 2) + permuteDigits(digits.slice(2), hash);
  let at = 0;
  return value.replace(/[0-9]/g, () => masked[at++] as string);
}

const DAY_MS = 86_400_000;

/**
 * Shifts a date or time by a number of days that is the same for a whole site, one to twelve months back: order and
 * distances stay. Texts that are no ISO date have their digits changed; `infinity` stays.
 */
export function maskDate(value: ByteString, hash: KeyedHash): ByteString {
  if (/^-?infinity$/.test(value)) return value;
  const [, year, month, day, rest] = /^(\d{4})-(\d\d)-(\d\d)(?=$|[ T])(.*)$/.exec(value) ?? [];
  if (year === undefined || rest?.endsWith(' BC')) return maskDigits(value, hash);
  const digest = hash('date shift');
  const days = 30 + ((((digest[0] as number) << 8) | (digest[1] as number)) % 336);
  const shifted = new Date(Date.UTC(Number(year), Number(month) - 1, Number(day)));
  shifted.setUTCFullYear(Number(year));
  return new Date(shifted.getTime() - days * DAY_MS).toISOString().slice(0, 10) + rest;
}

/** Another address of the same family; different ones stay different. Prefix lengths stay. */
export function maskInternetAddress(value: ByteString, hash: KeyedHash): ByteString {
  const [address, ...prefix] = value.split('/');
  const rest = prefix.length > 0 ? `/${prefix.join('/')}` : '';
  const four = readFour(address as string);
  if (four !== undefined) {
    const masked = permute(four, 65536n, 65536n, 'internet address', hash);
    return [24n, 16n, 8n, 0n].map((shift) => (masked >> shift) & 255n).join('.') + rest;
  }
  const six = readSix(address as string);
  if (six === undefined) return maskDigits(value, hash);
  const masked = permute(six, 1n << 64n, 1n << 64n, 'internet address', hash);
  const groups = Array.from({ length: 8 }, (_one, i) => ((masked >> BigInt(112 - 16 * i)) & 0xffffn).toString(16));
  return groups.join(':') + rest;
}

function readFour(text: string): bigint | undefined {
  const parts = text.split('.');
  if (parts.length !== 4 || !parts.every((part) => /^\d{1,3}$/.test(part) && Number(part) < 256)) return undefined;
  return parts.reduce((sum, part) => (sum << 8n) | BigInt(part), 0n);
}

function readSix(text: string): bigint | undefined {
  const tail = /^(.*:)(\d+\.\d+\.\d+\.\d+)$/.exec(text);
  const four = tail ? readFour(tail[2] as string) : undefined;
  const plain =
    tail && four !== undefined ? `${tail[1]}${(four >> 16n).toString(16)}:${(four & 0xffffn).toString(16)}` : text;
  const [head, end, ...more] = plain.split('::');
  if (more.length > 0 || head === undefined) return undefined;
  const groups = (part: string): string[] => (part === '' ? [] : part.split(':'));
  const given = [...groups(head), ...groups(end ?? '')];
  const missing = 8 - given.length;
  if (end === undefined ? missing !== 0 : missing < 1) return undefined;
  const all = [...groups(head), ...(end === undefined ? [] : Array(missing).fill('0')), ...groups(end ?? '')];
  if (!all.every((group) => /^[0-9a-fA-F]{1,4}$/.test(group))) return undefined;
  return all.reduce((sum, group) => (sum << 16n) | BigInt(`0x${group}`), 0n);
}
