import { randomBytes } from 'node:crypto';

/** A login's password: 192 random bits. */
export const newPassword = (): string => randomBytes(24).toString('base64url');
