import { isTimeZone, MAIL_WISHES, NOTICE_KINDS, type NoticeKind } from '@tessarion/core';
import { z } from 'zod';
import { endpoint } from '../endpoint.js';
import * as r from '../request-shapes.js';
import * as s from '../shapes.js';
import { byId, none, nothing, Page, paged } from './inputs.js';

/** What somebody can be told of (core, `NOTICE_KINDS`). */
export const NoticeName = z.enum(Object.keys(NOTICE_KINDS) as [NoticeKind, ...NoticeKind[]]);

/** Something that one is told. */
export const Notice = z.object({
  id: s.Id,
  kind: NoticeName,
  /** What it is about: a change request, a transfer, or a guest of a site. */
  request: s.Id.nullable(),
  transfer: s.Id.nullable(),
  site: z.string(),
  /** Of the request, what the transfer does, or the guest's name. */
  title: z.string(),
  onto: z.string(),
  by: z.string().nullable(),
  words: z.string(),
  item: z.string().nullable(),
  at: s.Time,
  seenAt: s.Time.nullable(),
});
export type Notice = z.infer<typeof Notice>;

/** When what happened is mailed together. */
export const DigestTime = z.strictObject({
  at: r.TimeOfDay,
  /** By its IANA name, such as `Europe/Oslo`. */
  zone: z.string().max(60).refine(isTimeZone, 'write a time zone such as Europe/Oslo'),
});

const MailWishes = z.record(NoticeName, z.enum(MAIL_WISHES));

/** What one is told, and what of it is mailed when. */
export const noticesEndpoints = {
  noticeList: endpoint({
    method: 'GET',
    path: '/notices',
    permission: 'signed-in',
    about: 'own',
    summary: 'List what one was told, newest first.',
    params: nothing,
    query: Page.extend({ unseen: z.enum(['yes']).optional() }),
    body: none,
    response: paged(Notice).extend({ unseen: z.number().int() }),
  }),
  noticeSeen: endpoint({
    method: 'POST',
    path: '/notices/:id/seen',
    permission: 'signed-in',
    about: 'own',
    isAct: false,
    summary: 'Note that one has seen a notice.',
    params: byId,
    query: nothing,
    body: none,
    response: none,
    status: 204,
  }),
  noticesSeen: endpoint({
    method: 'POST',
    path: '/notices/seen',
    permission: 'signed-in',
    about: 'own',
    isAct: false,
    summary: 'Note that one has seen all notices.',
    params: nothing,
    query: nothing,
    body: none,
    response: none,
    status: 204,
  }),
  noticeWishes: endpoint({
    method: 'GET',
    path: '/notice-wishes',
    permission: 'signed-in',
    about: 'own',
    summary: 'Show which notices are mailed to oneself.',
    params: nothing,
    query: nothing,
    body: none,
    response: MailWishes,
  }),
  noticeWish: endpoint({
    method: 'PUT',
    path: '/notice-wishes/:kind',
    permission: 'signed-in',
    about: 'own',
    summary: 'Have a kind of notice mailed at once, once a day, or not.',
    params: z.object({ kind: NoticeName }),
    query: nothing,
    body: z.strictObject({ mail: z.enum(MAIL_WISHES) }),
    response: MailWishes,
  }),
  digestTime: endpoint({
    method: 'GET',
    path: '/digest-time',
    permission: 'signed-in',
    about: 'own',
    summary: 'Show when what is mailed once a day is mailed to oneself.',
    params: nothing,
    query: nothing,
    body: none,
    response: DigestTime,
  }),
  digestTimeSet: endpoint({
    method: 'PUT',
    path: '/digest-time',
    permission: 'signed-in',
    about: 'own',
    summary: 'Have what is mailed once a day mailed at this time; what waits already comes then too.',
    params: nothing,
    query: nothing,
    body: DigestTime,
    response: DigestTime,
  }),
  mailStop: endpoint({
    method: 'POST',
    path: '/mail-stops',
    permission: 'open',
    about: 'own',
    summary: 'End a kind of mail, or the daily one, with the key of its link.',
    params: nothing,
    query: nothing,
    body: z.strictObject({ person: s.Id, kind: z.union([NoticeName, z.literal('digest')]), key: z.string().max(64) }),
    response: none,
    status: 204,
  }),
} as const;
