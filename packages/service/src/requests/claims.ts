import type { OnRecords } from '../ground/open.js';
import type { RequestRecord } from './requests.js';

/** Somebody else's hold on an item, or their wish for it. */
export interface Held {
  readonly item: string;
  readonly request: string;
  readonly title: string;
  readonly author: string;
}

/** Somebody who waits for an item. */
export interface Wanted extends Held {
  /** Whether they have asked for it to be handed over. */
  readonly isAsked: boolean;
}

/** Who holds some items of an environment now, but for one request. */
export async function heldBy(on: OnRecords, onto: string, items: string[], but: string | null): Promise<Held[]> {
  const { rows } = await on.raw<{ rows: Held[] }>(
    `SELECT DISTINCT ON (c.item) c.item, r.id AS request, r.title, p.name AS author
     FROM claim c JOIN change_request r ON r.id = c.request_id JOIN person p ON p.id = r.author
     WHERE c.onto_path = ? AND c.item = ANY (?) ORDER BY c.item, c.place`,
    [onto, items],
  );
  return rows.filter((one) => one.request !== but);
}

/** Puts a request into the line of each of its items, and out of the lines of all others. */
export async function claim(on: OnRecords, request: RequestRecord, items: string[]): Promise<void> {
  await on.raw('DELETE FROM claim WHERE request_id = ? AND NOT item = ANY (?)', [request.id, items]);
  await on.raw(
    `INSERT INTO claim (onto_path, item, request_id)
     SELECT ?, item, ? FROM unnest(?::text[]) AS item ON CONFLICT DO NOTHING`,
    [request.onto_path, request.id, items],
  );
}

/** What a request is still waiting for. */
export async function waitsFor(on: OnRecords, request: RequestRecord): Promise<Held[]> {
  const own = (await on('claim').where({ request_id: request.id }).select('item')) as { item: string }[];
  return heldBy(
    on,
    request.onto_path,
    own.map((one) => one.item),
    request.id,
  );
}

/** Lets go of everything; whoever is next in line holds it. */
export async function release(on: OnRecords, request: string): Promise<void> {
  await on('claim').where({ request_id: request }).delete();
}

/** Open requests that wait for something that this one holds. */
export async function waitingBehind(on: OnRecords, request: RequestRecord): Promise<RequestRecord[]> {
  const { rows } = await on.raw<{ rows: RequestRecord[] }>(
    `SELECT DISTINCT r.* FROM claim own JOIN claim next ON next.onto_path = own.onto_path AND next.item = own.item
       AND next.place > own.place JOIN change_request r ON r.id = next.request_id
     WHERE own.request_id = ?`,
    [request.id],
  );
  return rows;
}

/** Who waits for what a request holds: the first in line for each item. */
export async function wantedBy(on: OnRecords, { id }: Pick<RequestRecord, 'id'>): Promise<Wanted[]> {
  const { rows } = await on.raw<{ rows: Wanted[] }>(
    `SELECT DISTINCT ON (next.item) next.item, r.id AS request, r.title, p.name AS author,
       next.asked_at IS NOT NULL AS "isAsked"
     FROM claim own JOIN claim next ON next.onto_path = own.onto_path AND next.item = own.item AND next.place > own.place
     JOIN change_request r ON r.id = next.request_id JOIN person p ON p.id = r.author
     WHERE own.request_id = ? AND NOT EXISTS (SELECT FROM claim former WHERE former.onto_path = own.onto_path
       AND former.item = own.item AND former.place < own.place)
     ORDER BY next.item, next.place`,
    [id],
  );
  return rows;
}

/** Goes behind all others in the lines of some items. */
export async function goBehind(on: OnRecords, request: RequestRecord, items: readonly string[]): Promise<void> {
  await on('claim')
    .where({ request_id: request.id })
    .whereIn('item', [...items])
    .delete();
  await on('claim').insert(items.map((item) => ({ onto_path: request.onto_path, item, request_id: request.id })));
}

/** Notes that somebody asks for what others hold, for one request that waits for it. */
export async function askFor(trx: OnRecords, request: string, items: readonly string[], at: Date): Promise<void> {
  await trx('claim').where({ request_id: request }).whereIn('item', items).update({ asked_at: at });
}
