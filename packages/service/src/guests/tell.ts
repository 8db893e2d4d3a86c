import type { OnRecords } from '../ground/open.js';
import { type News, writeNotice } from '../notices/tell.js';
import type { GuestRecord } from './guests.js';
/** Tells who invited a guest what the guest said of a variant. */
export const tellHost = (trx: OnRecords, guest: GuestRecord, environment: string, news: Omit<News, 'by' | 'kind'>) =>
  writeNotice(
    trx,
    { guest_id: guest.id, environment },
    { host: [guest.person_id] },
    { ...news, kind: 'guest', by: null },
  );
