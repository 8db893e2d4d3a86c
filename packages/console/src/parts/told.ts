import type { Notice } from '@tessarion/contract';
import { clock } from './moments.js';

const WORDS: Record<Notice['kind'], string> = {
  'review-asked': 'asks you for review',
  revised: 'made a new revision',
  lapsed: 'What you approved has changed',
  verdict: 'gave a verdict',
  approved: 'It is approved',
  comment: 'wrote',
  resolved: 'resolved a conversation',
  scheduled: 'set the time of delivery',
  blocked: 'The delivery did not go',
  delivered: 'It is live',
  undone: 'It was taken back',
  withdrawn: 'withdrew it',
  freed: 'What you wait for is free',
  'hand-over': 'asks for something of it',
  idle: 'It lies still',
  guest: 'A guest said of a variant',
  'transfer-done': 'It is done',
  'transfer-failed': 'It did not go',
};

const MOMENT = /\d{4}-\d\d-\d\dT\d\d:\d\d(?::\d\d(?:\.\d+)?)?Z/g;

/** What a notice says, in words: who did what, and what they said of it. */
export function toldWords({ by, kind, words }: Notice): string {
  const act = WORDS[kind];
  const who = by !== null && /^[a-z]/.test(act) ? `${by} ` : '';
  return `${who}${act}${words === '' ? '' : `: ${words.replace(MOMENT, clock)}`}`;
}

/** Where a notice leads. */
export const toldPath = ({ transfer, request, site, item }: Notice): string =>
  transfer !== null
    ? `/transfers/${transfer}`
    : request === null
      ? `/sites/${site}`
      : `/requests/${request}${item === null ? '' : `?item=${encodeURIComponent(item)}`}`;

/** Notices of one thing, the newest first. */
export interface Told {
  readonly about: string;
  readonly newest: Notice;
  readonly notices: readonly Notice[];
  readonly unseen: number;
}

/** Puts together what is told of one request, or of one guest's site; each transfer stands by itself. */
export function toldOf(notices: readonly Notice[]): Told[] {
  const groups = new Map<string, Notice[]>();
  for (const one of notices) {
    const about = one.request ?? one.transfer ?? `${one.site} ${one.title}`;
    const known = groups.get(about);
    if (known) known.push(one);
    else groups.set(about, [one]);
  }
  return [...groups].map(([about, own]) => ({
    about,
    newest: own[0] as Notice,
    notices: own,
    unseen: own.filter((one) => one.seenAt === null).length,
  }));
}
