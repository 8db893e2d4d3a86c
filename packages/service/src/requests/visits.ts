import type { ItemVisit } from '@tessarion/contract';
import type { OnRecords } from '../ground/open.js';
import { UNDOABLE } from '../transfers/transfers.js';
import { getRequest } from './requests.js';
import { standingOf } from './standing.js';
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
