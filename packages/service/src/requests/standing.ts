import { type EnvironmentKind, judge, type RequestStanding, type ReviewRule, type Thing } from '@tessarion/core';
import { laneOnto } from '../fleet/lane-onto.js';
import { findForecast } from '../forecasts/forecasts.js';
import type { OnRecords } from '../ground/open.js';
import { move } from './moves.js';
import {
  newestVerdicts,
  openThreads,
  type RequestRecord,
  type ReviewerRecord,
  type RevisionRecord,
  revisionsOf,
  ruleOfLane,
  type VerdictRecord,
} from './requests.js';
import { tellPeople } from './tell.js';

/** How a request stands, with what decides it. */
export interface Standing extends RequestStanding {
  readonly rule: ReviewRule;
  readonly revisions: readonly RevisionRecord[];
  readonly authors: ReadonlySet<string>;
}

/** A request's destination, as permissions are asked for it. */
export async function destinationOf(
  on: OnRecords,
  { site, onto_path }: RequestRecord,
): Promise<Thing & { is: 'environment' }> {
  const found = await on('site').where({ name: site }).first('client');
  const kind = (await laneOnto(on, onto_path)) as EnvironmentKind;
  return { is: 'environment', client: found?.client ?? '', site, environment: onto_path, kind };
}

/** The rule of a request's lane. Who is asked must be heard: where reviewers are named, one of them at least. */
export async function ruleFor(on: OnRecords, request: RequestRecord): Promise<ReviewRule> {
  const rule = await ruleOfLane(on, request.site, await laneOnto(on, request.onto_path));
  const reviewers = (await on('request_reviewer').where({ request_id: request.id })) as ReviewerRecord[];
  return { ...rule, approvals: Math.max(rule.approvals, reviewers.length > 0 ? 1 : 0) };
}

/** Whether a verdict may be given: before it goes, and of what was urgent, afterwards. */
export const isReviewable = ({ state, urgent }: Pick<RequestRecord, 'state' | 'urgent'>): boolean =>
  ['in-review', 'approved', 'scheduled', 'blocked'].includes(state) || (state === 'delivered' && urgent !== null);

/** Judges a request as its current revision is. */
export async function standingOf(on: OnRecords, request: RequestRecord): Promise<Standing> {
  const rule = await ruleFor(on, request);
  const revisions = await revisionsOf(on, request.id);
  const seen = new Map(
    revisions.map((one) => [one.number, new Map(one.items.map((item) => [item.id, item.hash] as const))] as const),
  );
  const said = await newestVerdicts(on, request.id);
  const here = await stillHere(on, said);
  const authors = new Set([request.author, ...revisions.map((one) => one.person_id)]);
  const current = revisions.at(-1)?.items ?? [];
  const judged = judge({
    rule,
    authors,
    verdicts: said
      .filter((one) => !one.is_answered || here.has(reviewerOf(one)))
      .map((one) => ({
        reviewer: reviewerOf(one),
        isGuest: one.guest !== null,
        teams: one.teams,
        says: one.says,
        isAnswered: one.is_answered,
        seen: seen.get(one.revision) ?? new Map(),
      })),
    items: new Map(current.filter((item) => item.outcome !== 'kept').map((item) => [item.id, item.hash])),
    openThreads: (await openThreads(on, request.id)).length,
  });
  return { rule, revisions, authors, ...judged };
}

/** Who gave a verdict: the id of a person, or of a guest's link. */
export const reviewerOf = ({ person_id, guest }: Pick<VerdictRecord, 'person_id' | 'guest'>): string =>
  person_id ?? guest ?? '';

/** Of those who gave verdicts, who can give another one: whose access has ended is not waited for. */
async function stillHere(on: OnRecords, said: readonly VerdictRecord[]): Promise<ReadonlySet<string>> {
  const people = (await on('person')
    .whereIn(
      'id',
      said.flatMap((one) => one.person_id ?? []),
    )
    .where({ state: 'active' })
    .select('id')) as { id: string }[];
  return new Set(people.map((one) => one.id));
}

/** Moves a request to where its verdicts put it: approved, in review again, or returned. */
export async function settleApproval(
  trx: OnRecords,
  request: RequestRecord,
  at: Date,
  by: string | null,
): Promise<RequestRecord> {
  const { isApproved, returnedBy } = await standingOf(trx, request);
  const isUnsettled = await hasCollisions(trx, request);
  if (request.state === 'in-review' || request.state === 'blocked') {
    if (returnedBy.length > 0) return move(trx, request, 'return', { at, by });
    if (isApproved && !isUnsettled) return move(trx, request, 'approve', { at, by }, { because: null });
  }
  if (request.state === 'approved' || request.state === 'scheduled') {
    if (returnedBy.length > 0) return move(trx, request, 'return', { at, by }, { deliver_at: null });
    if (!isApproved || isUnsettled) return lapse(trx, request, at, by);
  }
  return request;
}

/** The approval falls; those whose own does not hold any more are told. */
async function lapse(trx: OnRecords, request: RequestRecord, at: Date, by: string | null): Promise<RequestRecord> {
  const { items } = await standingOf(trx, request);
  const words = 'What it would write is not what was approved.';
  const lapsed = new Set([...items.values()].flatMap((one) => one.lapsedFor));
  await tellPeople(trx, request, { kind: 'lapsed', by, at, words, concerned: { lapsed: [...lapsed] } });
  return move(trx, request, 'lapse', { at, by, words }, { deliver_at: null });
}

/** Whether a request's forecast holds collisions that nobody has settled. */
export async function hasCollisions(on: OnRecords, request: RequestRecord): Promise<boolean> {
  return ((await findForecast(on, request.forecast))?.result?.unsettled ?? 0) > 0;
}
