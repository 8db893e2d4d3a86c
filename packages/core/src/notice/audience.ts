/** What people are told of change requests, guests and transfers. */
export const NOTICE_KINDS = {
  'review-asked': 'somebody asks you for review',
  revised: 'what you review has a new revision',
  lapsed: 'what you approved has changed',
  verdict: 'somebody gave a verdict on your request',
  approved: 'your request is approved',
  comment: 'somebody wrote in a conversation of yours, or to you',
  resolved: 'a conversation of yours is resolved',
  scheduled: 'a delivery has its time',
  blocked: 'a delivery did not go',
  delivered: 'a request is live',
  undone: 'a delivery was taken back',
  withdrawn: 'a request that you review, or a draft of yours, was given up',
  freed: 'what you wait for is free',
  'hand-over': 'somebody asks for something that your request has claimed',
  idle: 'your request lies still, and its claims lapse',
  guest: 'a guest whom you invited said something of a variant, or chose one',
  'transfer-done': 'a transfer that you started is done',
  'transfer-failed': 'a transfer that you started did not go',
} as const;

/** The name of one of {@link NOTICE_KINDS}. */
export type NoticeKind = keyof typeof NOTICE_KINDS;

/** How somebody is concerned by a request. */
export type Concern =
  | 'author'
  | 'reviewers'
  /** Whose approval does not hold any more. */
  | 'lapsed'
  /** Who wrote in the conversation. */
  | 'talkers'
  | 'mentioned'
  /** Who delivers it, or set its time. */
  | 'deliverer'
  /** Whose request waits for something of it. */
  | 'next-in-line'
  /** Who invited the guest. */
  | 'host'
  /** Who started the transfer, or has it made by itself. */
  | 'starter';

/** Who is told what. */
export const AUDIENCE: Readonly<Record<NoticeKind, readonly Concern[]>> = {
  'review-asked': ['reviewers'],
  revised: ['reviewers'],
  lapsed: ['lapsed', 'author'],
  verdict: ['author'],
  approved: ['author', 'deliverer'],
  comment: ['author', 'talkers', 'mentioned'],
  resolved: ['talkers'],
  scheduled: ['author', 'reviewers'],
  blocked: ['author', 'deliverer'],
  delivered: ['author', 'reviewers', 'deliverer'],
  undone: ['author', 'reviewers', 'deliverer'],
  withdrawn: ['reviewers', 'author'],
  freed: ['next-in-line'],
  'hand-over': ['author'],
  idle: ['author'],
  guest: ['host'],
  'transfer-done': ['starter'],
  'transfer-failed': ['starter'],
};

/** People who are told of something; whoever did it knows already. */
export function audienceOf(
  kind: NoticeKind,
  concerned: Readonly<Partial<Record<Concern, Iterable<string>>>>,
  by: string | null,
): Set<string> {
  const told = new Set<string>();
  for (const concern of AUDIENCE[kind]) for (const person of concerned[concern] ?? []) told.add(person);
  if (by !== null) told.delete(by);
  return told;
}

/** When somebody is mailed of something: at once, once a day with all the rest, or not at all. */
export const MAIL_WISHES = ['now', 'daily', 'never'] as const;
/** When somebody wants mail about a kind of notice. */
export type MailWish = (typeof MAIL_WISHES)[number];

/** What is mailed to somebody who has not said anything: what waits for them, and what went wrong. */
export const MAILED_UNASKED: ReadonlySet<NoticeKind> = new Set([
  'review-asked',
  'lapsed',
  'verdict',
  'comment',
  'blocked',
  'delivered',
  'undone',
  'hand-over',
  'idle',
  'guest',
  'transfer-failed',
]);

/** What is listed, and not counted as new: whoever started it mostly looked on. */
export const QUIET: ReadonlySet<NoticeKind> = new Set(['transfer-done']);

/** Mail addresses that a text calls with an @, in lower case: `@ida.moe@copperlane.example`. */
export const mentionsIn = (text: string): string[] => [
  ...new Set(
    [...text.matchAll(/(?:^|[\s(])@([^\s@()<>]+@[a-z0-9.-]+\.[a-z]{2,})/gi)].map((match) =>
      (match[1] as string).toLowerCase(),
    ),
  ),
];
