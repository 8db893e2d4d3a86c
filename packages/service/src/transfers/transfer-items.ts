import type { ChangedItem } from '@tessarion/core';
import type { OnRecords } from '../ground/open.js';
import type { TransferRecord } from './transfers.js';

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
