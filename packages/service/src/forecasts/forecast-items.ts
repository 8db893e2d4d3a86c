import type { ForecastItem } from '@tessarion/contract';
import { type ChangedItem, type ItemField, NOT_STAMPED } from '@tessarion/core';
import type { Keys } from '../ground/keys.js';
import { json, type OnRecords } from '../ground/open.js';
import type { Installation } from '../transfers/installation.js';

/** More than this many are counted, not listed. */
const STORED_ITEMS = 20_000;
/** In one statement. */
const STORED_AT_ONCE = 5000;
const AT_ONCE = 500;

/** An item before its fields were given a look. */
export type StoredItem = Omit<ForecastItem, 'fields'> & { readonly fields: readonly ItemField[] };

/** An item as it is stored: what stands in its fields is sealed, the rest is what lists and reviews go by. */
export interface ItemRow {
  readonly position: number;
  readonly item: StoredItem;
  /** Sealed JSON; null where it has none, or they were forgotten. */
  readonly fields: string | null;
}

const toRow = (
  item: ChangedItem | StoredItem,
  keys: Keys,
): Omit<ItemRow, 'position' | 'item'> & { readonly item: string } => ({
  item: json({ ...item, fields: [] }),
  fields: item.fields.length === 0 ? null : keys.encrypt(JSON.stringify(item.fields)),
});

/** An item as it was stored; its fields have no look yet (core, `shownFields`). Former versions noted no changes. */
export const readItem = ({ item, fields }: Pick<ItemRow, 'item' | 'fields'>, keys: Keys): StoredItem => ({
  ...item,
  changed: item.changed ?? NOT_STAMPED,
  fields: fields === null ? [] : JSON.parse(keys.decrypt(fields)),
});

/** Stores what a forecast lists, in place of what it listed before. */
export async function storeItems(
  trx: OnRecords,
  keys: Keys,
  forecast_id: string,
  items: readonly ChangedItem[],
): Promise<void> {
  await trx('forecast_item').where({ forecast_id }).delete();
  for (let at = 0; at < Math.min(items.length, STORED_ITEMS); at += STORED_AT_ONCE) {
    const rows = items.slice(at, Math.min(at + STORED_AT_ONCE, STORED_ITEMS)).map((item) => toRow(item, keys));
    await trx.raw(
      `INSERT INTO forecast_item (forecast_id, position, item, fields)
       SELECT ?, position, item::jsonb, nullif(fields, '')
       FROM unnest(?::integer[], ?::text[], ?::text[]) AS one (position, item, fields)`,
      [
        forecast_id,
        rows.map((_row, i) => at + i),
        rows.map(({ item }) => item),
        rows.map(({ fields }) => fields ?? ''),
      ],
    );
  }
}

/** Seals what a former version stored in the clear. */
export async function sealFormerItems({ records, folder }: Installation): Promise<void> {
  for (;;) {
    const rows = (await records('forecast_item')
      .whereNull('fields')
      .whereRaw("jsonb_array_length(item -> 'fields') > 0")
      .limit(AT_ONCE)
      .select('forecast_id', 'position', 'item')) as (ItemRow & { readonly forecast_id: string })[];
    for (const { forecast_id, position, item } of rows)
      await records('forecast_item').where({ forecast_id, position }).update(toRow(item, folder.keys));
    if (rows.length < AT_ONCE) return;
  }
}

/** Forgets what was found of one forecast. */
export const forgetItems = (on: OnRecords, forecast: string): Promise<number> =>
  on('forecast_item').where({ forecast_id: forecast }).delete();

const DAY_MS = 24 * 3600_000;
/** How long what nobody opened a request from is kept, and the values of what was decided. */
const UNUSED_DAYS = 30;
const DECIDED_DAYS = 90;

/** Forgets forecasts that came to nothing, and the values in those of requests that ended long ago. */
export async function forgetForecasts({ records, now }: Pick<Installation, 'records' | 'now'>): Promise<void> {
  const before = (days: number): Date => new Date(now().getTime() - days * DAY_MS);
  await records.raw(
    `DELETE FROM forecast f WHERE f.created_at < ? AND f.request IS NULL
       AND NOT EXISTS (SELECT FROM request_revision r WHERE r.forecast = f.id)
       AND NOT EXISTS (SELECT FROM change_request c WHERE c.forecast = f.id)
       AND NOT EXISTS (SELECT FROM transfer t WHERE t.forecast = f.id AND t.ended_at IS NULL)`,
    [before(UNUSED_DAYS)],
  );
  await records.raw(
    `UPDATE forecast_item i SET fields = NULL FROM request_revision r JOIN change_request c ON c.id = r.request_id
     WHERE r.forecast = i.forecast_id AND i.fields IS NOT NULL
       AND c.state IN ('delivered', 'undone', 'withdrawn') AND c.updated_at < ?`,
    [before(DECIDED_DAYS)],
  );
}
