import type { Notice } from '@tessarion/contract';
import {
  type DigestTime,
  MAILED_UNASKED,
  type MailWish,
  NOTICE_KINDS,
  type NoticeKind,
  nextDigest,
} from '@tessarion/core';
import { readCursor, writeCursor } from '../../ground/cursor.js';
import { iso, type OnRecords } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import { isStopKey } from '../../notices/stop-link.js';
import { moveDigest, noteNoticesSeen, saveWish, stopDaily } from '../../notices/wishes.js';
import { setDigest } from '../../people/changes.js';
import type { Handlers } from './call.js';

interface NoticeRow {
  readonly id: string;
  readonly kind: NoticeKind;
  readonly request_id: string | null;
  readonly transfer_id: string | null;
  readonly site: string;
  readonly title: string;
  readonly onto_path: string;
  readonly by_name: string | null;
  readonly words: string;
  readonly item: string | null;
  readonly at: Date;
  readonly seen_at: Date | null;
}

const toNotice = (row: NoticeRow): Notice => ({
  id: row.id,
  kind: row.kind,
  request: row.request_id,
  transfer: row.transfer_id,
  site: row.site,
  title: row.title,
  onto: row.onto_path,
  by: row.by_name,
  words: row.words,
  item: row.item,
  at: row.at.toISOString(),
  seenAt: iso(row.seen_at),
});

/** What is mailed to somebody, kind by kind. */
async function wishesOf(on: OnRecords, person: string): Promise<Record<NoticeKind, MailWish>> {
  const rows = (await on('notice_wish').where({ person_id: person })) as { kind: NoticeKind; mail: MailWish }[];
  const kinds = Object.keys(NOTICE_KINDS) as NoticeKind[];
  return Object.fromEntries(
    kinds.map((kind) => [
      kind,
      rows.find((one) => one.kind === kind)?.mail ?? (MAILED_UNASKED.has(kind) ? 'now' : 'never'),
    ]),
  ) as Record<NoticeKind, MailWish>;
}

const digestOf = async (on: OnRecords, id: string): Promise<DigestTime> =>
  (await on('person').where({ id }).first('digest_at as at', 'digest_zone as zone')) as DigestTime;

export const noticeHandlers: Handlers<
  | 'noticeList'
  | 'noticeSeen'
  | 'noticesSeen'
  | 'noticeWishes'
  | 'noticeWish'
  | 'digestTime'
  | 'digestTimeSet'
  | 'mailStop'
> = {
  async noticeList({ installation: { records }, person, query, sight }) {
    const limit = query.limit ?? 30;
    const before = readCursor(query.cursor);
    const own = () => {
      const rows = records('told_notice').where('person_id', person.id);
      // What somebody may not read any more, they are not told of.
      sight.narrow(rows, 'site', 'onto_path');
      return rows;
    };
    const rows = own()
      .orderBy('at', 'desc')
      .orderBy('id', 'desc')
      .limit(limit + 1);
    if (query.unseen !== undefined) rows.whereNull('seen_at');
    if (before) rows.whereRaw('(at, id) < (?::timestamptz, ?)', [before.at, before.id]);
    const found = (await rows) as NoticeRow[];
    const page = found.slice(0, limit);
    const last = page.at(-1);
    const unseen = (await own().whereNull('seen_at').count('* as count').first()) as { count: number } | undefined;
    return {
      items: page.map(toNotice),
      next: found.length > limit && last ? writeCursor({ at: last.at.toISOString(), id: last.id }) : null,
      unseen: Number(unseen?.count ?? 0),
    };
  },
  async noticeSeen({ installation: { records, now }, person, params }) {
    const own = { id: params.id, person_id: person.id };
    if (!(await records('notice').where(own).first('id')))
      throw new ProblemError('not-found', `You have no notice ${params.id}.`, 'List them: tessarion notice list');
    await noteNoticesSeen(records, person.id, now(), params.id);
    return undefined;
  },
  async noticesSeen({ installation: { records, now }, person }) {
    await noteNoticesSeen(records, person.id, now());
    return undefined;
  },
  noticeWishes: ({ installation: { records }, person }) => wishesOf(records, person.id),
  async noticeWish(call) {
    const { installation, person, params, body } = call;
    return installation.records.transaction(async (trx) => {
      await saveWish(trx, person.id, params.kind, body.mail);
      await call.note(trx, person.id, { kind: params.kind, mail: body.mail });
      return wishesOf(trx, person.id);
    });
  },
  digestTime: ({ installation: { records }, person }) => digestOf(records, person.id),
  digestTimeSet: (call) => {
    const { installation, person, body } = call;
    return installation.records.transaction(async (trx) => {
      const before = await digestOf(trx, person.id);
      await setDigest(trx, person.id, body);
      await moveDigest(trx, person.id, nextDigest(installation.now(), body));
      await call.note(trx, person.id, { before, after: body });
      return body;
    });
  },
  async mailStop(call) {
    const { installation, body } = call;
    if (!isStopKey(installation, body.person, body.kind, body.key))
      throw new ProblemError('not-allowed', 'This link is not valid.', 'Sign in, and say there what is mailed to you.');
    await installation.records.transaction(async (trx) => {
      if (body.kind === 'digest') await stopDaily(trx, body.person);
      else await saveWish(trx, body.person, body.kind, 'never');
      await call.note(trx, body.person, { kind: body.kind, mail: 'never' });
    });
    return undefined;
  },
};
