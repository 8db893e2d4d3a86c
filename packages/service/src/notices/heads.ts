import type { NoticeKind } from '@tessarion/core';

/** What happened, in a word or two: how a mail begins. */
export const HEADS: Record<NoticeKind, string> = {
  'review-asked': 'Review wanted',
  revised: 'New revision',
  lapsed: 'Approval fell',
  verdict: 'Verdict',
  approved: 'Approved',
  comment: 'Comment',
  resolved: 'Conversation resolved',
  scheduled: 'Delivery has its time',
  blocked: 'Delivery did not go',
  delivered: 'Live',
  undone: 'Taken back',
  withdrawn: 'Withdrawn',
  freed: 'Free again',
  'hand-over': 'Asked for',
  idle: 'Lies still',
  guest: 'A guest spoke',
  'transfer-done': 'Done',
  'transfer-failed': 'Did not go',
};
