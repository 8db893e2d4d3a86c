import type { Failure, TransferState } from '@tessarion/contract';
import {
  audienceOf,
  type Concern,
  type DigestTime,
  MAILED_UNASKED,
  type MailWish,
  type NoticeKind,
  nextDigest,
  QUIET,
} from '@tessarion/core';
import { newId } from '../ground/data-folder.js';
import type { OnRecords } from '../ground/open.js';

/** Something that people concerned by a request are told. */
export interface News {
  readonly kind: NoticeKind;
  /** Person who did it; null for the service itself. */
  readonly by: string | null;
  readonly at: Date;
  readonly words?: string;
  readonly item?: string | null;
  /** Who is concerned beyond those whom the request itself names. */
  readonly concerned?: Partial<Record<Concern, readonly string[]>>;
}

/** What a notice is about: a change request, a transfer, an environment, or a guest who spoke of one. */
export type About =
  | { readonly request_id: string }
  | { readonly transfer_id: string }
  | { readonly environment: string }
  | { readonly guest_id: string; readonly environment: string };

/**
 * Tells who started a transfer, or has it made by itself, how it ended. Who stopped it knows; a delivery is told to those whom
 * its request concerns.
 */
export async function tellStarter(
  trx: OnRecords,
  {
    id,
    person_id,
    request,
  }: { readonly id: string; readonly person_id: string | null; readonly request: string | null },
  end: { readonly state: TransferState; readonly failure: Failure | null },
  at: Date,
): Promise<void> {
  if (person_id === null || request !== null || (end.state !== 'done' && end.state !== 'failed')) return;
  const kind = `transfer-${end.state}` as const;
  await writeNotice(
    trx,
    { transfer_id: id },
    { starter: [person_id] },
    { kind, by: null, at, words: end.failure?.message ?? '' },
  );
}

/** Tells who set a schedule that it brought nothing in, and why. */
export async function tellOfSchedule(
  trx: OnRecords,
  environment: string,
  by: string | undefined,
  words: string,
  at: Date,
): Promise<void> {
  if (by !== undefined)
    await writeNotice(trx, { environment }, { starter: [by] }, { kind: 'transfer-failed', by: null, at, words });
}

/** Writes a notice for each of those whom it concerns. */
export async function writeNotice(
  trx: OnRecords,
  about: About,
  concerned: Readonly<Partial<Record<Concern, readonly string[]>>>,
  news: News,
): Promise<void> {
  const told = [...audienceOf(news.kind, concerned, news.by)];
  if (told.length === 0) return;
  const wishes = (await trx('notice_wish').whereIn('person_id', told).where({ kind: news.kind })) as {
    person_id: string;
    mail: MailWish;
  }[];
  const active = (await trx('person')
    .whereIn('id', told)
    .where({ state: 'active' })
    .select('id', 'digest_at as at', 'digest_zone as zone')) as ({ id: string } & DigestTime)[];
  if (active.length === 0) return;
  await trx('notice').insert(
    active.map(({ id: person_id, ...digest }) => {
      const own = wishes.find((one) => one.person_id === person_id)?.mail;
      const wish = own ?? (MAILED_UNASKED.has(news.kind) ? 'now' : 'never');
      return {
        id: newId('o'),
        person_id,
        kind: news.kind,
        ...about,
        by: news.by,
        words: news.words ?? '',
        item: news.item ?? null,
        at: news.at,
        seen_at: QUIET.has(news.kind) ? news.at : null,
        is_digest: wish === 'daily',
        mail_due_at: wish === 'never' ? null : wish === 'now' ? news.at : nextDigest(news.at, digest),
      };
    }),
  );
}
