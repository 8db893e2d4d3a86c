import type { GuestLink, GuestRoom, GuestSight, GuestThread } from '@tessarion/contract';
import { getForecast } from '../forecasts/forecasts.js';
import { iso, type OnRecords } from '../ground/open.js';
import { showPreview } from '../requests/preview.js';
import { type CommentRecord, getRequest, type RequestRecord, revisionsOf } from '../requests/requests.js';
import { isReviewable } from '../requests/standing.js';
import type { Installation } from '../transfers/installation.js';
import { type GuestRecord, type GuestWord, isOpenLink, type LookRecord, looksOf, wordsOf } from './guests.js';

interface Yes {
  readonly request_id: string;
  readonly guest: string;
  readonly revision: number;
  readonly at: Date;
  /** The request's revision now. */
  readonly current: number;
}

const yesesOf = async (on: OnRecords, links: readonly string[]): Promise<Yes[]> => {
  const { rows } = await on.raw<{ rows: Yes[] }>(
    `SELECT DISTINCT ON (v.request_id, v.guest) v.request_id, v.guest, v.revision, v.at, r.revision AS current
     FROM request_verdict v JOIN change_request r ON r.id = v.request_id
     WHERE v.guest = ANY (?) ORDER BY v.request_id, v.guest, v.id DESC`,
    [[...links]],
  );
  return rows;
};

const namesOf = async (on: OnRecords, ids: readonly string[]): Promise<ReadonlyMap<string, string>> =>
  new Map(
    (
      (await on('person')
        .whereIn('id', [...ids])
        .select('id', 'name')) as { id: string; name: string }[]
    ).map((one) => [one.id, one.name]),
  );

/** Guests' links as colleagues see them; as many queries for many as for one. */
export async function showLinks(on: OnRecords, guests: readonly GuestRecord[], now: Date): Promise<GuestLink[]> {
  const ids = guests.map((one) => one.id);
  const [looks, words, yeses] = [await looksOf(on, ids), await wordsOf(on, ids), await yesesOf(on, ids)];
  const people = await namesOf(on, [
    ...guests.map((one) => one.person_id),
    ...words.flatMap((one) => one.person_id ?? []),
  ]);
  return guests.map((guest) => ({
    id: guest.id,
    site: guest.site,
    name: guest.name,
    mail: guest.mail,
    words: guest.words,
    by: people.get(guest.person_id) ?? '',
    createdAt: guest.created_at.toISOString(),
    expiresAt: guest.expires_at.toISOString(),
    endedAt: iso(guest.ended_at),
    isOpen: isOpenLink(guest, now),
    lastSeenAt: iso(guest.last_seen_at),
    hasPasscode: guest.passcode_hash !== null,
    looks: looks
      .filter((one) => one.link_id === guest.id)
      .map(({ position, title, request_id: request, environment }) => {
        const yes = yeses.find((one) => one.guest === guest.id && one.request_id === request);
        return {
          position,
          title,
          request,
          environment,
          yes: yes
            ? { at: yes.at.toISOString(), revision: yes.revision, isCurrent: yes.revision === yes.current }
            : null,
        };
      }),
    choice: guest.choice,
    chosenAt: iso(guest.chosen_at),
    threads: threadsOf(words.filter((one) => one.link_id === guest.id)).map((thread) => ({
      id: thread[0].thread,
      position: thread[0].position,
      comments: thread.map((one) => ({
        by: one.person_id === null ? guest.name : (people.get(one.person_id) ?? ''),
        isGuest: one.person_id === null,
        text: one.text,
        at: one.at.toISOString(),
      })),
    })),
  }));
}

/** Words by conversation, in the order in which they were begun. */
function threadsOf(words: readonly GuestWord[]): [GuestWord, ...GuestWord[]][] {
  const threads = new Map<string, [GuestWord, ...GuestWord[]]>();
  for (const word of words) {
    const known = threads.get(word.thread);
    if (known) known.push(word);
    else threads.set(word.thread, [word]);
  }
  return [...threads.values()];
}

/** All that a guest sees: what they were sent, what was said to them, and nothing else of a request. */
export async function guestRoom(on: OnRecords, installation: Installation, guest: GuestRecord): Promise<GuestRoom> {
  const words = await wordsOf(on, [guest.id]);
  const [yeses, people] = [await yesesOf(on, [guest.id]), await namesOf(on, [guest.person_id])];
  const site = await on('site').where({ name: guest.site }).first('client');
  const looks: GuestSight[] = [];
  for (const look of await looksOf(on, [guest.id]))
    looks.push(
      look.request_id === null
        ? await variantSight(on, installation, look, words)
        : await requestSight(
            on,
            installation,
            look,
            guest,
            yeses.find((one) => one.request_id === look.request_id),
          ),
    );
  return {
    name: guest.name,
    client: site?.client ?? '',
    words: guest.words,
    by: people.get(guest.person_id) ?? '',
    expiresAt: guest.expires_at.toISOString(),
    looks,
    choice: guest.choice,
  };
}

async function variantSight(
  on: OnRecords,
  { environments }: Installation,
  { position, title, environment }: LookRecord,
  words: readonly GuestWord[],
): Promise<GuestSight> {
  const found = await environments.find(on, environment ?? '');
  const own = words.filter((one) => one.position === position);
  const people = await namesOf(
    on,
    own.flatMap((one) => one.person_id ?? []),
  );
  return {
    position,
    title,
    is: 'variant',
    state: found === undefined ? 'gone' : found.status === 'ready' ? 'ready' : 'making',
    at: iso(found?.refreshed_at ?? null),
    revision: null,
    sentence: [],
    items: [],
    mayApprove: false,
    yes: null,
    threads: threadsOf(own).map((thread) => ({
      id: thread[0].thread,
      isResolved: false,
      comments: thread.map((one) => ({
        by: one.person_id === null ? '' : (people.get(one.person_id) ?? ''),
        isOwn: one.person_id === null,
        text: one.text,
        at: one.at.toISOString(),
      })),
    })),
  };
}

async function requestSight(
  on: OnRecords,
  installation: Installation,
  { position, title, request_id }: LookRecord,
  guest: GuestRecord,
  yes: Yes | undefined,
): Promise<GuestSight> {
  const request = await getRequest(on, request_id as string);
  const preview = await showPreview(on, installation, request);
  const state = stateOf(request, preview);
  const current = (await revisionsOf(on, request.id)).at(-1);
  const forecast = await getForecast(on, request.forecast);
  return {
    position,
    title,
    is: 'request',
    state,
    at: preview?.at ?? null,
    revision: preview?.revision ?? null,
    sentence: forecast.result?.sentence ?? [],
    items: (current?.items ?? [])
      .filter((one) => one.outcome === 'written')
      .map(({ kind, title: name, change }) => ({ kind, title: name, change })),
    mayApprove: state === 'ready' && isReviewable(request),
    yes: yes ? { at: yes.at.toISOString(), isCurrent: yes.revision === request.revision } : null,
    threads: await guestThreads(on, request, guest),
  };
}

/** Whether what a guest can look at is what would be written. */
export function stateOf(
  request: Pick<RequestRecord, 'state' | 'revision' | 'revising'>,
  preview: Awaited<ReturnType<typeof showPreview>>,
): GuestSight['state'] {
  if (request.state === 'delivered') return 'delivered';
  if (preview === null || preview.state === 'failed' || ['undone', 'withdrawn'].includes(request.state)) return 'gone';
  if (preview.state === 'making') return 'making';
  return preview.revision === request.revision ? 'ready' : 'behind';
}

/** The conversations that a guest began; what colleagues say among themselves is not theirs to read. */
async function guestThreads(on: OnRecords, { id }: RequestRecord, guest: GuestRecord): Promise<GuestThread[]> {
  const own = on('request_comment').where({ request_id: id, guest: guest.id }).whereRaw('id = thread').select('id');
  const comments = (await on('request_comment as c')
    .leftJoin('person as p', 'p.id', 'c.person_id')
    .whereIn('c.thread', own)
    .whereNull('c.removed_at')
    .orderBy('c.at')
    .orderBy('c.id')
    .select('c.*', 'p.name as by_name')) as (CommentRecord & { by_name: string | null })[];
  const threads = new Map<string, (typeof comments)[number][]>();
  for (const comment of comments) threads.set(comment.thread, [...(threads.get(comment.thread) ?? []), comment]);
  return [...threads].map(([thread, said]) => ({
    id: thread,
    isResolved: said.some((one) => one.resolved_at !== null),
    comments: said.map((one) => ({
      by: one.by_name ?? '',
      isOwn: one.guest === guest.id,
      text: one.text,
      at: one.at.toISOString(),
    })),
  }));
}
