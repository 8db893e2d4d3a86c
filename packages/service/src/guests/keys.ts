import { createHmac, timingSafeEqual } from 'node:crypto';
import type { DataFolder } from '../ground/data-folder.js';
import type { GuestRecord } from './guests.js';

type Keys = { readonly folder: Pick<DataFolder, 'keys'> };

/**
 * What a link and the session behind it are signed over: neither holds for longer than the link, nor past another
 * passcode. Nothing that lets somebody in lies in the records.
 */
function signature(
  { folder }: Keys,
  purpose: 'link' | 'session',
  { id, expires_at, passcode_hash }: GuestRecord,
): string {
  const over = `${purpose} ${id} ${expires_at.toISOString()} ${purpose === 'session' ? (passcode_hash ?? '') : ''}`;
  return createHmac('sha256', folder.keys.derive('guests')).update(over).digest('base64url');
}

const keyOf = (keys: Keys, purpose: 'link' | 'session', guest: GuestRecord): string =>
  `${guest.id}.${signature(keys, purpose, guest)}`;

/** Where a guest's link leads; the key stands behind the #, where no server and no log sees it. */
export const linkOf = (installation: Keys & { readonly consoleUrl: string }, guest: GuestRecord): string =>
  `${installation.consoleUrl}/look#${keyOf(installation, 'link', guest)}`;

/** The session of a guest, as the cookie holds it. */
export const sessionOf = (keys: Keys, guest: GuestRecord): string => keyOf(keys, 'session', guest);

/** The link that a key is of, as far as its form goes. */
export const idInKey = (key: string): string => key.split('.')[0] ?? '';

/** Whether a key is that of a guest; takes as long whatever the key. */
export function isKeyOf(keys: Keys, purpose: 'link' | 'session', guest: GuestRecord, key: string): boolean {
  const [given, own] = [Buffer.from(key), Buffer.from(keyOf(keys, purpose, guest))];
  return given.length === own.length && timingSafeEqual(given, own);
}
