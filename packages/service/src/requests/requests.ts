import type { ForecastItem, RequestItem } from '@tessarion/contract';
import type { RequestState, ReviewRule } from '@tessarion/core';
import { noRequest } from '../ground/absent.js';
import { etagOf } from '../ground/entity-tag.js';
import { json, type OnRecords } from '../ground/open.js';

/** A change request in the records. */
export interface RequestRecord {
  readonly id: string;
  readonly site: string;
  readonly from_path: string;
  readonly onto_path: string;
  readonly title: string;
  readonly description: string;
  readonly state: RequestState;
  /** Person who opened it. */
  readonly author: string;
  readonly created_at: Date;
  readonly updated_at: Date;
  readonly revision: number;
  /** What the current revision would do. */
  readonly forecast: string;
  /** A forecast that is being computed for the next revision. */
  readonly revising: string | null;
  /** When its author would have it delivered: `window`, or a time. */
  readonly wanted_for: string | null;
  readonly deliver_at: Date | null;
  /** Person who delivers it, or set its time. */
  readonly deliverer: string | null;
  /** Why it may go outside a window or in a freeze. */
  readonly override: string | null;
  readonly transfer: string | null;
  readonly because: string | null;
  readonly urgent: string | null;
  /** The transfer that it takes back; null for one that brings something. */
  readonly undoes: string | null;
  /** When its author was told that its claims will lapse. */
  readonly idle_warned_at: Date | null;
}

/** An item as a revision would write it. */
export type RevisionItem = Pick<RequestItem, 'id' | 'kind' | 'title' | 'change' | 'outcome' | 'hash' | 'takenAlongFor'>;

/** What a request would have written at a time, in full. */
export interface RevisionRecord {
  readonly request_id: string;
  readonly number: number;
  readonly forecast: string;
  readonly at: Date;
  readonly person_id: string;
  readonly items: readonly RevisionItem[];
}

/** What somebody says of a revision of a request. */
export interface VerdictRecord {
  readonly request_id: string;
  /** Null for a guest. */
  readonly person_id: string | null;
  readonly guest: string | null;
  readonly says: 'approve' | 'return';
  readonly words: string;
  readonly revision: number;
  readonly at: Date;
  /** It was sent back, and asked for again since. */
  readonly is_answered: boolean;
}

/** Who is asked for review: a person or a team. */
export interface ReviewerRecord {
  readonly request_id: string;
  readonly person_id: string | null;
  readonly team: string | null;
}

/** Something said about a request, or about an item or field of it. */
export interface CommentRecord {
  readonly id: string;
  readonly request_id: string;
  readonly thread: string;
  readonly item: string | null;
  readonly field: string | null;
  readonly revision: number;
  /** Null for a guest. */
  readonly person_id: string | null;
  readonly guest: string | null;
  readonly text: string;
  readonly at: Date;
  readonly edited_at: Date | null;
  readonly removed_at: Date | null;
  readonly former: { at: string; text: string }[];
  readonly resolved_at: Date | null;
  readonly resolved_by: string | null;
}

/** @throws {ProblemError} `not-found` */
export async function getRequest(on: OnRecords, id: string): Promise<RequestRecord> {
  const row = (await on<RequestRecord>('change_request').where({ id }).first()) as RequestRecord | undefined;
  if (!row) throw noRequest(id);
  return row;
}

/** Something that people do by hand, before a delivery or after it. */
export interface StepRecord {
  readonly id: string;
  readonly request_id: string;
  readonly position: number;
  readonly phase: 'before' | 'after';
  readonly text: string;
  readonly done_by: string | null;
  readonly done_at: Date | null;
}

/** A request that nobody else changes until the transaction ends. @throws {ProblemError} `not-found` */
export async function holdRequest(trx: OnRecords, id: string): Promise<RequestRecord> {
  const row = (await trx<RequestRecord>('change_request').where({ id }).forUpdate().first()) as
    | RequestRecord
    | undefined;
  if (!row) throw noRequest(id);
  return row;
}

/** A request's revisions, from the first on. */
export async function revisionsOf(on: OnRecords, request: string): Promise<RevisionRecord[]> {
  return on<RevisionRecord>('request_revision').where({ request_id: request }).orderBy('number') as Promise<
    RevisionRecord[]
  >;
}

/** Keeps a new revision of a request. */
export async function addRevision(on: OnRecords, revision: RevisionRecord): Promise<void> {
  await on('request_revision').insert({ ...revision, items: json(revision.items) });
}

/** What a forecast would write, in full. */
export async function itemsOfForecast(on: OnRecords, forecast: string): Promise<RevisionItem[]> {
  const rows = (await on('forecast_item')
    .where({ forecast_id: forecast })
    .whereRaw("item ->> 'outcome' <> 'left-out'")
    .orderBy('position')
    .select('item')) as { item: ForecastItem }[];
  return rows.map(({ item: { id, kind, title, change, outcome, hash, takenAlongFor } }) => ({
    id,
    kind,
    title,
    change,
    outcome: outcome as RevisionItem['outcome'],
    hash,
    takenAlongFor,
  }));
}

/** The newest verdict of each reviewer, with the teams that they belong to; nothing of guests whose link was ended. */
export async function newestVerdicts(
  on: OnRecords,
  request: string,
): Promise<(VerdictRecord & { readonly teams: string[] })[]> {
  const { rows } = await on.raw<{ rows: (VerdictRecord & { teams: string[] })[] }>(
    `SELECT DISTINCT ON (person_id, guest) v.*,
       ARRAY (SELECT team FROM team_member m WHERE m.person_id = v.person_id) AS teams
     FROM request_verdict v WHERE request_id = ?
       AND NOT EXISTS (SELECT FROM guest_link g, change_request r WHERE g.id = v.guest AND g.ended_at IS NOT NULL
         AND r.id = v.request_id AND r.state NOT IN ('delivered', 'undone'))
     ORDER BY person_id, guest, id DESC`,
    [request],
  );
  return rows;
}

/** What a lane asks for; nothing where nobody has said anything. */
export async function ruleOfLane(on: OnRecords, site: string, onto: string): Promise<ReviewRule> {
  const row = (await on('lane_rule').where({ site, onto }).first()) as
    | { approvals: number; teams: string[]; threads_block: boolean; guests: number }
    | undefined;
  return {
    approvals: row?.approvals ?? 0,
    teams: row?.teams ?? [],
    threadsBlock: row?.threads_block ?? false,
    guests: row?.guests ?? 0,
  };
}

/** The entity tag of what its author can change of a comment. */
export const commentTag = ({ text }: Pick<CommentRecord, 'text'>): string => etagOf({ text });

/** The entity tag of what an edit can change of a request. */
export async function requestTag(on: OnRecords, request: RequestRecord): Promise<string> {
  const reviewers = (await on('request_reviewer').where({ request_id: request.id })) as ReviewerRecord[];
  const steps = (await stepsOf(on, request.id)).map(({ phase, text }) => ({ phase, text }));
  const { title, description, wanted_for } = request;
  return etagOf({
    title,
    description,
    wanted_for,
    steps,
    reviewers: reviewers.map((one) => one.person_id ?? `team ${one.team}`).sort(),
  });
}

/** The manual steps of a request, in their order. */
export async function stepsOf(on: OnRecords, request: string): Promise<StepRecord[]> {
  return on<StepRecord>('request_step').where({ request_id: request }).orderBy('position') as Promise<StepRecord[]>;
}

/** A lane's rule as it is shown and edited. */
export const showRule = (rule: ReviewRule) => {
  const { approvals, threadsBlock, guests } = rule;
  const editable = { approvals, teams: [...rule.teams], threadsBlock, guests };
  return { ...editable, etag: etagOf(editable) };
};

/** The first comments of a request's threads that nobody has closed. */
export async function openThreads(on: OnRecords, request: string): Promise<CommentRecord[]> {
  const { rows } = await on.raw<{ rows: CommentRecord[] }>(
    `SELECT c.* FROM request_comment c WHERE c.request_id = ? AND c.id = c.thread AND c.resolved_at IS NULL
     AND EXISTS (SELECT FROM request_comment o WHERE o.thread = c.id AND o.removed_at IS NULL)`,
    [request],
  );
  return rows;
}

/** Keeps what happened to a request, and who did it. */
export async function addHistory(
  on: OnRecords,
  request: string,
  said: {
    readonly at: Date;
    readonly person: string | null;
    readonly guest?: string;
    readonly act: string;
    readonly words: string;
  },
): Promise<void> {
  const { person, ...rest } = said;
  await on('request_event').insert({ request_id: request, person_id: person, ...rest });
}

/** Records what an edit changed of a request. */
export async function updateRequest(trx: OnRecords, id: string, changes: Partial<RequestRecord>): Promise<void> {
  await trx('change_request').where({ id }).update(changes);
}

/** Has all requests from or onto an environment looked at anew. */
export async function lookAtAllOf(on: OnRecords, path: string): Promise<void> {
  await on('change_request')
    .where({ from_path: path })
    .orWhere({ onto_path: path })
    .update({ looked_at: new Date(0) });
}
