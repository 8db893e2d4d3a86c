import type { ItemVisit } from '@tessarion/contract';
import type { ChangedItem } from '@tessarion/core';
import type { OnRecords } from '../ground/open.js';
import { getRequest } from '../requests/requests.js';
import { standingOf } from '../requests/standing.js';
import { type TransferRecord, UNDOABLE } from './transfers.js';

const AT_ONCE = 10_000;

/** Records what a transfer writes, thing by thing; again, when a worker begins anew. */
export async function recordWhence(
  on: OnRecords,
  { id, onto_path }: Pick<TransferRecord, 'id' | 'onto_path'>,
  items: readonly Pick<ChangedItem, 'id' | 'kind' | 'title' | 'change' | 'fields'>[],
  namesThere: ReadonlyMap<string, string>,
): Promise<void> {
  await on('transfer_item').where({ transfer_id: id }).delete();
  for (let at = 0; at < items.length; at += AT_ONCE) {
    const some = items.slice(at, at + AT_ONCE);
    await on.raw(
      `INSERT INTO transfer_item (transfer_id, onto_path, item, source_item, kind, title, change, former_title)
       SELECT ?, ?, item, source, kind, title, change, nullif(former, '')
       FROM unnest(?::text[], ?::text[], ?::text[], ?::text[], ?::text[], ?::text[])
         AS one (item, source, kind, title, change, former)`,
      [
        id,
        onto_path,
        some.map((one) => namesThere.get(one.id) ?? one.id),
        some.map((one) => one.id),
        some.map((one) => one.kind),
        some.map((one) => one.title),
        some.map((one) => one.change),
        some.map((one) => formerTitle(one) ?? ''),
      ],
    );
  }
}

/** What the destination called a thing that gets another title; null where it keeps its own. */
function formerTitle({ title, fields }: Pick<ChangedItem, 'title' | 'fields'>): string | null {
  const field = fields.find(({ before, after }) => after === title && before !== null && before !== after);
  return field?.before ?? null;
}

interface VisitRow {
  readonly item: string;
  readonly source_item: string;
  readonly title: string;
  readonly former_title: string | null;
  readonly item_kind: string;
  readonly change: ItemVisit['change'];
  readonly can_undo: boolean;
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

/** Of what one asks: a thing by its id there or a title that it has or had; or all whose title holds some words. */
export interface Asked {
  readonly item?: string | undefined;
  readonly find?: string | undefined;
}

/**
 * When things came to an environment, or changed there: the transfers that wrote them, the newest first, with the request
 * that each delivered and who had approved the thing as it went.
 */
export async function visitsOf(on: OnRecords, onto: string, asked: Asked, limit: number): Promise<ItemVisit[]> {
  const item = asked.item ?? null;
  const find = asked.find === undefined ? null : `%${asked.find.replace(/[\\%_]/g, '\\$&')}%`;
  const { rows } = await on.raw<{ rows: VisitRow[] }>(
    `SELECT i.item, i.source_item, i.title, i.former_title, i.kind AS item_kind, i.change, t.id AS transfer, t.kind,
       t.from_path, t.person, t.ended_at, t.undone_by, t.urgent, t.override, t.request,
       t.state = 'done' AND t.undone_by IS NULL AND t.kind = ANY (:undoable) AS can_undo
     FROM transfer_item i JOIN transfer t ON t.id = i.transfer_id
     WHERE i.onto_path = :onto AND t.state IN ('done', 'undone')
       AND (:item::text IS NULL OR i.item = :item OR i.item IN (
         SELECT item FROM transfer_item WHERE onto_path = :onto
           AND (lower(title) = lower(:item) OR lower(former_title) = lower(:item))))
       AND (:find::text IS NULL OR i.title ILIKE :find OR i.former_title ILIKE :find)
     ORDER BY t.ended_at DESC, t.id DESC, i.title LIMIT :limit`,
    { onto, item, find, limit, undoable: [...UNDOABLE] },
  );
  const requests = new Map<string, Awaited<ReturnType<typeof deliveredBy>>>();
  const visits: ItemVisit[] = [];
  for (const row of rows) {
    if (row.request !== null && !requests.has(row.request))
      requests.set(row.request, await deliveredBy(on, row.request));
    const delivered = row.request === null ? undefined : requests.get(row.request);
    visits.push({
      item: row.item,
      title: row.title,
      formerTitle: row.former_title,
      itemKind: row.item_kind,
      change: row.change,
      transfer: row.transfer,
      kind: row.kind,
      from: row.from_path,
      at: row.ended_at.toISOString(),
      person: row.person,
      undoneBy: row.undone_by,
      canUndo: row.can_undo,
      urgent: row.urgent,
      override: row.override,
      request: delivered?.request ?? null,
      approvedBy: delivered?.approvedBy(row.source_item) ?? [],
    });
  }
  return visits;
}

/** A request that was delivered, and who had approved each of its items: its last revision is the one that went. */
async function deliveredBy(on: OnRecords, id: string) {
  const request = await getRequest(on, id);
  const standing = await standingOf(on, request);
  const author = await on('person').where({ id: request.author }).first('name');
  const ids = [...new Set([...standing.items.values()].flatMap(({ approvedBy }) => [...approvedBy]))];
  const named = (table: string) =>
    on(table).whereIn('id', ids).select('id', 'name') as Promise<{ id: string; name: string }[]>;
  const names = new Map([...(await named('person')), ...(await named('guest_link'))].map((one) => [one.id, one.name]));
  return {
    request: { id, title: request.title, author: (author?.name as string | undefined) ?? '' },
    approvedBy: (item: string): string[] =>
      [...(standing.items.get(item)?.approvedBy ?? [])].flatMap((one) => names.get(one) ?? []),
  };
}
