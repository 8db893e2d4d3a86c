import type { MailWish, NoticeKind } from '@tessarion/core';
import type { OnRecords } from '../ground/open.js';

/** Records what is mailed to somebody of one kind. */
export async function saveWish(on: OnRecords, person: string, kind: NoticeKind, mail: MailWish): Promise<void> {
  await on('notice_wish').insert({ person_id: person, kind, mail }).onConflict(['person_id', 'kind']).merge();
}

/** Lets nothing be mailed to somebody once a day any more. */
export async function stopDaily(on: OnRecords, person: string): Promise<void> {
  await on('notice_wish').where({ person_id: person, mail: 'daily' }).update({ mail: 'never' });
}

/** Records that somebody has seen one of their notices, or all of them. */
export async function noteNoticesSeen(on: OnRecords, person: string, at: Date, id?: string): Promise<void> {
  await on('notice')
    .where({ person_id: person, ...(id === undefined ? {} : { id }) })
    .whereNull('seen_at')
    .update({ seen_at: at });
}

/** Moves what waits for somebody's daily mail to another time. */
export async function moveDigest(on: OnRecords, person: string, due: Date): Promise<void> {
  await on('notice')
    .where({ person_id: person, is_digest: true, mail_tries: 0 })
    .whereNull('mailed_at')
    .whereNotNull('mail_due_at')
    .update({ mail_due_at: due });
}
