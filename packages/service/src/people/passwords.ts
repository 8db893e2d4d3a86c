import { randomBytes, scrypt, timingSafeEqual } from 'node:crypto';
import pLimit from 'p-limit';
import { TooMany } from '../ground/problems.js';

/** Memory-hard: 32 MiB a try (RFC 7914; N = 2^15, r = 8, p = 1). */
const SCRYPT = { N: 2 ** 15, r: 8, p: 1, maxmem: 64 * 1024 * 1024 } as const;

/** @throws {ProblemError} `too-many-requests` */
export async function hashPassword(password: string): Promise<string> {
  const salt = randomBytes(16);
  return `scrypt$${salt.toString('base64')}$${(await derive(password, salt)).toString('base64')}`;
}

/** Whether a password is the one that was hashed; a hash that is none fits no password. */
export async function isPassword(password: string, hash: string): Promise<boolean> {
  const [, salt, key] = hash.split('$');
  const derived = await derive(password, Buffer.from(salt ?? '', 'base64'));
  const expected = Buffer.from(key ?? '', 'base64');
  return derived.length === expected.length && timingSafeEqual(derived, expected);
}

/** Each takes a tenth of a second of a processor: those of everybody together leave one to everything else. */
const hashing = pLimit(2);
const MOST_WAITING = 100;

/** @throws {ProblemError} `too-many-requests` */
async function derive(password: string, salt: Buffer): Promise<Buffer> {
  if (hashing.pendingCount >= MOST_WAITING)
    throw new TooMany('too-many-requests', 'Too many people are signing in at once.', 5);
  return hashing(() => deriveKey(password, salt));
}

function deriveKey(password: string, salt: Buffer): Promise<Buffer> {
  return new Promise((resolve, reject) =>
    scrypt(password.normalize('NFKC'), salt, 32, SCRYPT, (error, key) => (error ? reject(error) : resolve(key))),
  );
}

/** Fits no password; it takes as long to find that out as with somebody known. */
export const NOBODY = `scrypt$${randomBytes(16).toString('base64')}$${randomBytes(32).toString('base64')}`;
