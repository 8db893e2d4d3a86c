import { noGuest } from '../ground/absent.js';
import { newId } from '../ground/data-folder.js';
import type { OnRecords } from '../ground/open.js';

/** A link for somebody without an account. */
export interface GuestRecord {
  readonly id: string;
  readonly site: string;
  readonly name: string;
  readonly mail: string | null;
  readonly words: string;
  readonly passcode_hash: string | null;
  /** Colleague who made it. */
  readonly person_id: string;
  readonly created_at: Date;
  readonly expires_at: Date;
  readonly ended_at: Date | null;
  readonly last_seen_at: Date | null;
  readonly choice: number | null;
  readonly chosen_at: Date | null;
}

/** One thing that a link shows: a request by its preview, or an environment. */
export interface LookRecord {
  readonly link_id: string;
  readonly position: number;
  readonly title: string;
  readonly request_id: string | null;
  readonly environment: string | null;
}

/** Something said about a variant, by a guest or by a colleague. */
export interface GuestWord {
  readonly id: string;
  readonly link_id: string;
  readonly position: number;
  readonly thread: string;
  readonly person_id: string | null;
  readonly text: string;
  readonly at: Date;
}

/** @throws {ProblemError} `not-found` */
export async function getGuest(on: OnRecords, id: string): Promise<GuestRecord> {
  const row = (await on<GuestRecord>('guest_link').where({ id }).first()) as GuestRecord | undefined;
  if (!row) throw noGuest(id);
  return row;
}

/** Who looked through some links, in order. */
export const looksOf = async (on: OnRecords, links: readonly string[]): Promise<LookRecord[]> =>
  on<LookRecord>('guest_look')
    .whereIn('link_id', [...links])
    .orderBy('position') as Promise<LookRecord[]>;

/** What was said through some links, in order. */
export const wordsOf = async (on: OnRecords, links: readonly string[]): Promise<GuestWord[]> =>
  on<GuestWord>('guest_word')
    .whereIn('link_id', [...links])
    .orderBy('at')
    .orderBy('id') as Promise<GuestWord[]>;

/** Whether a link lets somebody in. */
export const isOpenLink = ({ ended_at, expires_at }: GuestRecord, now: Date): boolean =>
  ended_at === null && expires_at > now;

/** Puts a guest's link on record, with what they are asked to look at. */
export async function insertGuest(trx: OnRecords, guest: GuestRecord, looks: readonly LookRecord[]): Promise<void> {
  await trx('guest_link').insert(guest);
  await trx('guest_look').insert([...looks]);
}

/** Records what became of a guest's link. */
export async function updateGuest(
  trx: OnRecords,
  id: string,
  changes: Partial<Pick<GuestRecord, 'ended_at' | 'last_seen_at' | 'choice' | 'chosen_at'>>,
): Promise<void> {
  await trx('guest_link').where({ id }).update(changes);
}

/** Records something that is said of a variant, by the guest or, with their id, by a person. @returns its id */
export async function addWord(
  trx: OnRecords,
  word: {
    readonly link_id: string;
    readonly position: number;
    /** The one that it answers; it begins one where there is none. */
    readonly thread: string | undefined;
    readonly text: string;
    readonly at: Date;
    readonly person_id?: string;
  },
): Promise<string> {
  const id = newId('c');
  await trx('guest_word').insert({ ...word, id, thread: word.thread ?? id });
  return id;
}
