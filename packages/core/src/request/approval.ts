/** What a lane asks for before anything goes over it. */
export interface ReviewRule {
  /** How many people must approve each item; 0 where a plain push may go. */
  readonly approvals: number;
  /** Teams of each of which somebody must approve each item. */
  readonly teams: readonly string[];
  /** Whether an open thread of comments keeps the request from going. */
  readonly threadsBlock: boolean;
}

/** What somebody said of a request, and exactly what they looked at. */
export interface Verdict {
  readonly reviewer: string;
  /** Teams that the reviewer belongs to. */
  readonly teams: readonly string[];
  readonly says: 'approve' | 'return';
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
}

export interface RequestStanding {
  readonly items: ReadonlyMap<string, ItemStanding>;
  /** Everything that would be written is approved, nobody has sent it back, and no thread is in the way. */
  readonly isApproved: boolean;
  readonly returnedBy: readonly string[];
}

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
  const standings = new Map<string, ItemStanding>();
  let isEnough = items.size > 0;
  for (const [id, hash] of items) {
    const holding = counted.filter((one) => one.says === 'approve' && one.seen.get(id) === hash);
    const lapsed = counted.filter((one) => one.says === 'approve' && one.seen.has(id) && one.seen.get(id) !== hash);
    const missing = Math.max(0, rule.approvals - holding.length);
    const missingTeams = rule.teams.filter((team) => !holding.some((one) => one.teams.includes(team)));
    if (missing > 0 || missingTeams.length > 0) isEnough = false;
    standings.set(id, {
      approvedBy: holding.map((one) => one.reviewer),
      lapsedFor: lapsed.map((one) => one.reviewer),
      missing,
      missingTeams,
    });
  }
  const returnedBy = counted.filter((one) => one.says === 'return').map((one) => one.reviewer);
  return {
    items: standings,
    returnedBy,
    isApproved: isEnough && returnedBy.length === 0 && !(rule.threadsBlock && openThreads > 0),
  };
}

/** Whether a lane lets a plain push go, without a request. */
export const asksForApproval = ({ approvals, teams }: ReviewRule): boolean => approvals > 0 || teams.length > 0;
