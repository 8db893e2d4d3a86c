import type { ChangeRequest, Person, RequestDetail, RequestItem, Thread } from '@tessarion/contract';
import { laneOnto } from '../fleet/lane-onto.js';
import { iso, type OnRecords } from '../ground/open.js';
import { momentAt, rulesOfSite } from '../plans/plan.js';
import type { Installation } from '../transfers/installation.js';
import { actsOf, type Viewer } from './acts.js';
import { waitsFor, wantedBy } from './claims.js';
import { showPreview } from './preview.js';
import {
  type CommentRecord,
  commentTag,
  type RequestRecord,
  type ReviewerRecord,
  type RevisionItem,
  type RevisionRecord,
  requestTag,
  ruleOfLane,
  showRule,
  stepsOf,
  type VerdictRecord,
} from './requests.js';
import { difference } from './revisions.js';
import { reviewerOf, type Standing, standingOf } from './standing.js';

type People = ReadonlyMap<string, Person>;

const NOBODY = (id: string): Person => ({ id, name: id, mail: '' });

/** People by their ids, and guests by those of their links. */
async function peopleOf(on: OnRecords, ids: readonly (string | null)[]): Promise<People> {
  const wanted = [...new Set(ids.filter((id) => id !== null))];
  const people = (await on('person').whereIn('id', wanted).select('id', 'name', 'mail')) as Person[];
  const guests = (await on('guest_link').whereIn('id', wanted).select('id', 'name')) as Omit<Person, 'mail'>[];
  return new Map([...people, ...guests.map((one) => ({ ...one, mail: '' }))].map((one) => [one.id, one]));
}

const of = (people: People, id: string): Person => people.get(id) ?? NOBODY(id);

/** Requests as they are listed, for somebody; as many queries for a page as for one. */
export async function showRequests(
  on: OnRecords,
  requests: readonly RequestRecord[],
  me: string,
): Promise<ChangeRequest[]> {
  const ids = requests.map((one) => one.id);
  const [forecasts, reviewers, verdicts, threads, teams] = await Promise.all([
    on('forecast')
      .whereIn(
        'id',
        requests.map((one) => one.forecast),
      )
      .select('id', on.raw("result -> 'sentence' AS sentence"), on.raw("result -> 'written' AS written")) as Promise<
      { id: string; sentence: ChangeRequest['sentence']; written: ChangeRequest['written']; items: number }[]
    >,
    on('request_reviewer').whereIn('request_id', ids) as unknown as Promise<ReviewerRecord[]>,
    on.raw<{ rows: (VerdictRecord & { teams: string[] })[] }>(
      `SELECT DISTINCT ON (request_id, person_id) v.*,
         ARRAY (SELECT team FROM team_member m WHERE m.person_id = v.person_id) AS teams
       FROM request_verdict v WHERE request_id = ANY (?) AND guest IS NULL ORDER BY request_id, person_id, id DESC`,
      [ids],
    ),
    on.raw<{ rows: { request_id: string; count: number }[] }>(
      `SELECT c.request_id, count(*)::int AS count FROM request_comment c
       WHERE c.request_id = ANY (?) AND c.id = c.thread AND c.resolved_at IS NULL
       AND EXISTS (SELECT FROM request_comment o WHERE o.thread = c.id AND o.removed_at IS NULL)
       GROUP BY c.request_id`,
      [ids],
    ),
    on('team_member').where({ person_id: me }).select('team') as unknown as Promise<{ team: string }[]>,
  ]);
  const people = await peopleOf(on, [...requests.map((one) => one.author), ...reviewers.map((one) => one.person_id)]);
  const mine = new Set(teams.map((one) => one.team));
  return requests.map((request) => {
    const forecast = forecasts.find((one) => one.id === request.forecast);
    const said = verdicts.rows.filter((one) => one.request_id === request.id);
    const asked = reviewers.filter((one) => one.request_id === request.id);
    const isMine = asked.some((one) => one.person_id === me || (one.team !== null && mine.has(one.team)));
    const own = said.find((one) => one.person_id === me && !one.is_answered);
    return {
      id: request.id,
      site: request.site,
      from: request.from_path,
      onto: request.onto_path,
      title: request.title,
      state: request.state,
      author: of(people, request.author),
      createdAt: request.created_at.toISOString(),
      updatedAt: request.updated_at.toISOString(),
      revision: request.revision,
      sentence: forecast?.sentence ?? [],
      written: forecast?.written ?? [],
      itemCount: (forecast?.written ?? []).reduce((sum, one) => sum + one.count, 0),
      reviewers: asked.map(({ person_id, team }) => {
        const verdict = said
          .filter((one) => (person_id === null ? one.teams.includes(team as string) : one.person_id === person_id))
          .sort((a, b) => +b.at - +a.at)[0];
        return {
          person: person_id === null ? null : of(people, person_id),
          team,
          says: verdict?.says ?? null,
          isCurrent: verdict?.revision === request.revision,
        };
      }),
      openThreads: threads.rows.find((one) => one.request_id === request.id)?.count ?? 0,
      deliverAt: iso(request.deliver_at),
      transfer: request.transfer,
      because: request.because,
      urgent: request.urgent,
      undoes: request.undoes,
      waitsForMe:
        request.author === me
          ? request.state === 'returned' || request.state === 'blocked'
          : (request.state === 'in-review' || (request.state === 'delivered' && request.urgent !== null)) &&
            isMine &&
            own?.revision !== request.revision,
    };
  });
}

/** A request in full, for somebody. */
export async function showRequest(
  on: OnRecords,
  installation: Installation,
  request: RequestRecord,
  viewer: Viewer,
): Promise<RequestDetail> {
  const [listed] = (await showRequests(on, [request], viewer.person.id)) as [ChangeRequest];
  const standing = await standingOf(on, request);
  const verdicts = (await on('request_verdict').where({ request_id: request.id }).orderBy('id')) as VerdictRecord[];
  const comments = (await on('request_comment')
    .where({ request_id: request.id })
    .orderBy('at')
    .orderBy('id')) as CommentRecord[];
  const steps = await stepsOf(on, request.id);
  const events = (await on('request_event').where({ request_id: request.id }).orderBy('id')) as {
    at: Date;
    person_id: string | null;
    guest: string | null;
    act: string;
    words: string;
  }[];
  const seen = new Map(
    (
      (await on('request_seen').where({ request_id: request.id, person_id: viewer.person.id })) as {
        item: string;
        hash: string;
      }[]
    ).map((one) => [one.item, one.hash]),
  );
  const people = await peopleOf(on, [
    ...verdicts.flatMap((one) => [one.person_id, one.guest]),
    ...comments.flatMap((one) => [one.person_id, one.guest, one.resolved_by]),
    ...steps.map((one) => one.done_by),
    ...events.flatMap((one) => [one.person_id, one.guest]),
    ...standing.revisions.map((one) => one.person_id),
  ]);
  const name = (id: string | null): string => (id === null ? 'Tessarion' : of(people, id).name);
  const threads = threadsOf(comments, people);
  const open = threads.filter(isOpen);
  const kind = await laneOnto(on, request.onto_path);
  return {
    ...listed,
    description: request.description,
    wantedFor: request.wanted_for,
    wantedMoment:
      request.wanted_for === null || kind !== 'live'
        ? null
        : momentAt(
            await rulesOfSite(on, request.site),
            request.wanted_for === 'window' ? installation.now() : new Date(request.wanted_for),
          ),
    etag: await requestTag(on, request),
    forecast: request.forecast,
    revising: request.revising,
    rule: {
      site: request.site,
      onto: kind === 'live' ? 'live' : 'staging',
      ...showRule(await ruleOfLane(on, request.site, kind)),
      approvals: standing.rule.approvals,
      teams: [...standing.rule.teams],
    },
    isApproved: standing.isApproved,
    preview: await showPreview(on, installation, request),
    items: itemsFor(standing, open, seen, name),
    steps: steps.map((one) => ({
      id: one.id,
      phase: one.phase,
      text: one.text,
      doneBy: one.done_by === null ? null : name(one.done_by),
      doneAt: iso(one.done_at),
    })),
    verdicts: verdicts.map((one) => ({
      person: of(people, reviewerOf(one)),
      isGuest: one.guest !== null,
      says: one.says,
      words: one.words,
      revision: one.revision,
      at: one.at.toISOString(),
    })),
    threads,
    revisions: changesOf(standing.revisions, name),
    waitsFor: await waitsFor(on, request),
    wantedBy: await wantedBy(on, request),
    history: events.map((one) => ({
      at: one.at.toISOString(),
      person: name(one.person_id ?? one.guest),
      act: one.act,
      words: one.words,
    })),
    acts: await actsOf(on, request, viewer, standing),
  };
}

/** What the newest revision would write, with what reviewers have said of each. */
function itemsFor(
  { revisions, items }: Standing,
  open: readonly Thread[],
  seen: ReadonlyMap<string, string>,
  name: (id: string) => string,
): RequestItem[] {
  const ofRevisions = revisions.map((one) => one.items);
  return (ofRevisions.at(-1) ?? []).map((item) => {
    const judged = items.get(item.id);
    const { approvedBy = [], lapsedFor = [], missing = 0, missingTeams = [], missingGuests = 0 } = judged ?? {};
    return {
      ...item,
      since: sinceWhen(item, ofRevisions),
      approvedBy: approvedBy.map(name),
      lapsedFor: lapsedFor.map(name),
      missing,
      missingTeams: [...missingTeams],
      missingGuests,
      isSeen: seen.get(item.id) === item.hash,
      openThreads: open.filter((one) => one.item === item.id).length,
    };
  });
}

/** What each revision changed in the one before it. */
const changesOf = (revisions: readonly RevisionRecord[], name: (id: string) => string): RequestDetail['revisions'] =>
  revisions.map((one, i) => {
    const { added, changed, gone } = difference(revisions[i - 1]?.items ?? [], one.items);
    return {
      number: one.number,
      at: one.at.toISOString(),
      person: name(one.person_id),
      added: added.length,
      changed: changed.length,
      gone: gone.length,
    };
  });

/** The first revision from which on an item is as it is now. */
function sinceWhen(item: RevisionItem, revisions: readonly (readonly RevisionItem[])[]): number {
  let since = revisions.length;
  while (since > 1 && revisions[since - 2]?.some((one) => one.id === item.id && one.hash === item.hash)) since--;
  return since;
}

function threadsOf(comments: readonly CommentRecord[], people: People): Thread[] {
  return comments
    .filter((one) => one.id === one.thread)
    .map((first) => ({
      id: first.id,
      item: first.item,
      field: first.field,
      revision: first.revision,
      resolvedAt: iso(first.resolved_at),
      resolvedBy: first.resolved_by === null ? null : of(people, first.resolved_by).name,
      comments: comments
        .filter((one) => one.thread === first.id)
        .map((one) => ({
          id: one.id,
          author: of(people, one.person_id ?? one.guest ?? ''),
          isGuest: one.guest !== null,
          text: one.removed_at === null ? one.text : '',
          at: one.at.toISOString(),
          editedAt: iso(one.edited_at),
          removedAt: iso(one.removed_at),
          former: one.removed_at === null ? one.former : [],
          etag: commentTag(one),
        })),
    }));
}

const isOpen = ({ resolvedAt, comments }: Thread): boolean =>
  resolvedAt === null && comments.some((one) => one.removedAt === null);
