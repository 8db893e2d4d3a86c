import { createCipheriv, createDecipheriv, createHmac, type Hmac, randomBytes, timingSafeEqual } from 'node:crypto';

/** Length of the initial counter in front of what is sealed. */
export const IV_BYTES = 16;
/** Length of a seal. */
export const SEAL_BYTES = 32;

/** The seal of what is sealed under a key for one purpose, so that nothing sealed stands for something else. */
export const sealFor = (key: Uint8Array, purpose: string): Hmac =>
  createHmac('sha256', createHmac('sha256', key).update(purpose).digest());

/**
 * Encrypts and seals something that is small enough to be held: 16 bytes of initial counter, AES-256-CTR, then 32 bytes of
 * HMAC-SHA256 over all before (format in docs/formats.md).
 *
 * @param key 32 bytes
 * @param purpose what it is, by kind and name
 */
export function sealBytes(key: Uint8Array, purpose: string, content: Uint8Array): Buffer {
  const iv = randomBytes(IV_BYTES);
  const cipher = createCipheriv('aes-256-ctr', key, iv);
  const body = Buffer.concat([iv, cipher.update(content), cipher.final()]);
  return Buffer.concat([body, sealFor(key, purpose).update(body).digest()]);
}

/** @returns undefined where it was sealed with another key or for another purpose, or changed since */
export function openBytes(key: Uint8Array, purpose: string, sealed: Uint8Array): Buffer | undefined {
  const end = sealed.length - SEAL_BYTES;
  if (end < IV_BYTES) return undefined;
  const body = sealed.subarray(0, end);
  if (!timingSafeEqual(sealed.subarray(end), sealFor(key, purpose).update(body).digest())) return undefined;
  const plain = createDecipheriv('aes-256-ctr', key, body.subarray(0, IV_BYTES));
  return Buffer.concat([plain.update(body.subarray(IV_BYTES)), plain.final()]);
}
