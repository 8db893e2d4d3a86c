import type { ByteString } from '../address/place.js';

const ROUNDS = 10;

/**
 * A keyed hash: the same site key and value always give the same bytes, so that masked values still join.
 *
 * @returns at least 16 bytes
 */
export type KeyedHash = (value: ByteString) => Uint8Array;

/**
 * Permutes the numbers below `left * right` by a Feistel network of unequal halves: different numbers stay different
 * (Black and Rogaway, Ciphers with arbitrary finite domains, 2002).
 *
 * @param name keeps permutations for different uses apart
 */
export function permute(value: bigint, left: bigint, right: bigint, name: string, hash: KeyedHash): bigint {
  let [a, b, sizeA, sizeB] = [value / right, value % right, left, right];
  for (let round = 0; round < ROUNDS; round++) {
    const digest = hash(`${name} ${round} ${sizeB} ${b}`);
    let drawn = 0n;
    for (const byte of digest.slice(0, 16)) drawn = (drawn << 8n) | BigInt(byte);
    [a, b] = [b, (a + drawn) % sizeA];
    [sizeA, sizeB] = [sizeB, sizeA];
  }
  return a * sizeB + b;
}

/** Another text of as many digits; different ones stay different. */
export function permuteDigits(digits: ByteString, hash: KeyedHash): ByteString {
  if (digits === '') return '';
  const half = digits.length >> 1;
  const [left, right] = [10n ** BigInt(half), 10n ** BigInt(digits.length - half)];
  return permute(BigInt(digits), left, right, 'digits', hash).toString().padStart(digits.length, '0');
}
