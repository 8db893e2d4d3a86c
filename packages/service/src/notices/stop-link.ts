import { createHmac, timingSafeEqual } from 'node:crypto';
import type { DataFolder } from '../ground/data-folder.js';

type Keys = { readonly folder: Pick<DataFolder, 'keys'> };

const signature = ({ folder }: Keys, person: string, kind: string): string =>
  createHmac('sha256', folder.keys.derive('stop mail')).update(`${person} ${kind}`).digest('base64url').slice(0, 32);

/** A link by which somebody ends one kind of mail, without signing in; it can do nothing else. */
export const stopLink = (
  installation: Keys & { readonly consoleUrl: string },
  { person_id, kind }: { readonly person_id: string; readonly kind: string },
): string => `${installation.consoleUrl}/stop-mail/${person_id}/${kind}#${signature(installation, person_id, kind)}`;

/** Whether a key was made for a person and a kind of mail; takes as long whatever the key. */
export function isStopKey(installation: Keys, person: string, kind: string, key: string): boolean {
  const [given, own] = [Buffer.from(key), Buffer.from(signature(installation, person, kind))];
  return given.length === own.length && timingSafeEqual(given, own);
}
