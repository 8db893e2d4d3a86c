import type { ItemVisit } from '@tessarion/contract';
import type { ChangedItem } from '@tessarion/core';
import { standingOf } from '../requests/standing.js';
import type { OnRecords } from './open.js';
import { getRequest } from './requests.js';
import type { TransferRecord } from './transfers.js';

const AT_ONCE = 10_000;

/** Records what a transfer writes, thing by thing; again, when a worker begins anew. */
export async function recordWhence(
  on: OnRecords,
  { id, onto_path }: Pick<TransferRecord, 'id' | 'onto_path'>,
  items: readonly Pick<ChangedItem, 'id' | 'kind' | 'title' | 'change'>[],
  namesThere: ReadonlyMap<string, string>,
): Promise<void> {
  await on('transfer_item').where({ transfer_id: id }).delete();
  for (let at = 0; at < items.length; at += AT_ONCE) {
    const some = items.slice(at, at + AT_ONCE);
    await on.raw(
      `INSERT INTO transfer_item (transfer_id, onto_path, item, source_item, kind, title, change)
       SELECT ?, ?, * FROM unnest(?::text[], ?::text[], ?::text[], ?::text[], ?::text[])`,
      [
        id,
        onto_path,
        some.map((one) => namesThere.get(one.id) ?? one.id),
        some.map((one) => one.id),
        some.map((one) => one.kind),
        some.map((one) => one.title),
        some.map((one) => one.change),
      ],
    );
  }
}

interface VisitRow {
  readonly item: string;
  readonly source_item: string;
  readonly title: string;
  readonly change: ItemVisit['change'];
  readonly transfer: string;
  readonly kind: ItemVisit['kind'];
  readonly from_path: string | null;
  readonly person: string;
  readonly ended_at: Date;
  readonly undone_by: string | null;
  readonly urgent: string | null;
  readonly override: string | null;
  readonly request: string | null;
}

/**
 * When a thing came to an environment, or changed there: the transfers that wrote it, the newest first, with the request
 * that each delivered and who had approved the thing as it went.
 *
 * @param named the thing's id, as the environment knows it, or its title then
 */
export async function visitsOf(on: OnRecords, onto: string, named: string, limit: number): Promise<ItemVisit[]> {
  const { rows } = await on.raw<{ rows: VisitRow[] }>(
    `SELECT i.item, i.source_item, i.title, i.change, t.id AS transfer, t.kind, t.from_path, t.person, t.ended_at,
       t.undone_by, t.urgent, t.override, t.request
     FROM transfer_item i JOIN transfer t ON t.id = i.transfer_id
     WHERE i.onto_path = :onto AND t.state IN ('done', 'undone')
       AND (i.item = :named OR i.item IN (
         SELECT item FROM transfer_item WHERE onto_path = :onto AND lower(title) = lower(:named)))
     ORDER BY t.ended_at DESC, t.id DESC LIMIT :limit`,
    { onto, named, limit },
  );
  const visits: ItemVisit[] = [];
  for (const row of rows)
    visits.push({
      item: row.item,
      title: row.title,
      change: row.change,
      transfer: row.transfer,
      kind: row.kind,
      from: row.from_path,
      at: row.ended_at.toISOString(),
      person: row.person,
      undoneBy: row.undone_by,
      urgent: row.urgent,
      override: row.override,
      ...(row.request === null ? { request: null, approvedBy: [] } : await requestOf(on, row.request, row.source_item)),
    });
  return visits;
}

/** What a request says of an item that it delivered: its last revision is the one that went. */
async function requestOf(on: OnRecords, id: string, item: string): Promise<Pick<ItemVisit, 'request' | 'approvedBy'>> {
  const request = await getRequest(on, id);
  const { approvedBy = [] } = (await standingOf(on, request)).items.get(item) ?? {};
  const author = await on('person').where({ id: request.author }).first('name');
  const people = (await on('person')
    .whereIn('id', [...approvedBy])
    .select('name')) as { name: string }[];
  const guests = (await on('guest_link')
    .whereIn('id', [...approvedBy])
    .select('name')) as { name: string }[];
  return {
    request: { id, title: request.title, author: author?.name ?? '' },
    approvedBy: [...people, ...guests].map((one) => one.name),
  };
}
