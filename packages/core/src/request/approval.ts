import { counted } from '../transfer/sentence.js';

/** What a lane asks for before anything goes over it. */
export interface ReviewRule {
  /** How many people must approve each item; 0 where a plain push may go. */
  readonly approvals: number;
  /** Teams of each of which somebody must approve each item. */
  readonly teams: readonly string[];
  /** Whether an open thread of comments keeps the request from going. */
  readonly threadsBlock: boolean;
  /** How many guests must say yes to each item, beside the colleagues. */
  readonly guests: number;
}

/** What somebody said of a request, and exactly what they looked at. */
export interface Verdict {
  readonly reviewer: string;
  /** Somebody from outside: theirs counts as a guest's, never as a colleague's. */
  readonly isGuest: boolean;
  /** Teams that the reviewer belongs to. */
  readonly teams: readonly string[];
  readonly says: 'approve' | 'return';
  /** It was sent back, and asked for again since. */
  readonly isAnswered: boolean;
  /** Hash of each item that would have been written when they looked, by the item's id. */
  readonly seen: ReadonlyMap<string, string>;
}

/** How far one item is approved. */
export interface ItemStanding {
  readonly approvedBy: readonly string[];
  /** Who had approved it as it was before it changed. */
  readonly lapsedFor: readonly string[];
  readonly missing: number;
  readonly missingTeams: readonly string[];
  readonly missingGuests: number;
}

/** What the verdicts on a request come to, item by item and as a whole. */
export interface RequestStanding {
  readonly items: ReadonlyMap<string, ItemStanding>;
  /** Everything that would be written is approved, nobody has sent it back, and no thread is in the way. */
  readonly isApproved: boolean;
  readonly returnedBy: readonly string[];
  /** Who had sent it back and has not spoken since it was asked for again: they are heard before it goes. */
  readonly awaited: readonly string[];
}

/** Everything that decides whether a request is approved. */
export interface RequestToJudge {
  readonly rule: ReviewRule;
  /** Who made the request or what is in it: their own approval counts for nothing. */
  readonly authors: ReadonlySet<string>;
  /** The newest verdict of each reviewer. */
  readonly verdicts: readonly Verdict[];
  /** What would be written now: the hash of each item, by its id. */
  readonly items: ReadonlyMap<string, string>;
  readonly openThreads: number;
}

/**
 * Judges a request item by item: an approval holds for an item as it was seen, to the hash, and falls for it alone
 * when it changed. What was added since is approved by nobody.
 */
export function judge({ rule, authors, verdicts, items, openThreads }: RequestToJudge): RequestStanding {
  const counted = verdicts.filter((one) => !authors.has(one.reviewer));
  const approving = counted.filter((one) => one.says === 'approve');
  const returning = counted.filter((one) => one.says === 'return');
  const standings = new Map<string, ItemStanding>();
  let isEnough = items.size > 0;
  for (const [id, hash] of items) {
    const holding = approving.filter((one) => one.seen.get(id) === hash);
    const lapsed = approving.filter((one) => one.seen.has(id) && one.seen.get(id) !== hash);
    const colleagues = holding.filter((one) => !one.isGuest);
    const missing = Math.max(0, rule.approvals - colleagues.length);
    const missingTeams = rule.teams.filter((team) => !colleagues.some((one) => one.teams.includes(team)));
    const missingGuests = Math.max(0, rule.guests - (holding.length - colleagues.length));
    if (missing + missingTeams.length + missingGuests > 0) isEnough = false;
    standings.set(id, {
      approvedBy: holding.map((one) => one.reviewer),
      lapsedFor: lapsed.map((one) => one.reviewer),
      missing,
      missingTeams,
      missingGuests,
    });
  }
  const returnedBy = returning.filter((one) => !one.isAnswered).map((one) => one.reviewer);
  const awaited = returning.filter((one) => one.isAnswered).map((one) => one.reviewer);
  return {
    items: standings,
    returnedBy,
    awaited,
    isApproved: isEnough && returnedBy.length + awaited.length === 0 && !(rule.threadsBlock && openThreads > 0),
  };
}

/** What a lane asks for, thing by thing: `2 approvals`, `somebody of legal`, `a yes of 1 guest`. */
export const wantedBy = ({ approvals, teams, guests }: Omit<ReviewRule, 'threadsBlock'>): string[] => [
  ...(approvals > 0 ? [counted(approvals, 'approval')] : []),
  ...teams.map((team) => `somebody of ${team}`),
  ...(guests > 0 ? [`a yes of ${counted(guests, 'guest')}`] : []),
];

/** Whether a lane lets a plain push go, without a request. */
export const asksForApproval = ({ approvals, teams, guests }: ReviewRule): boolean =>
  approvals > 0 || teams.length > 0 || guests > 0;
