import type { Transfer, TransferFilter } from '@tessarion/contract';
import { readCursor, writeCursor } from '../../ground/cursor.js';
import type { Sight } from '../../people/sight.js';
import type { Installation } from '../../transfers/installation.js';
import { type TransferRecord, toTransfer } from '../../transfers/transfers.js';
import { type Page, writeOut } from '../write-out.js';
import type { Handlers } from './call.js';
import { mustKnowSite } from './known-filters.js';

const AT_ONCE = 500;

const COLUMNS: Record<string, (one: Transfer) => unknown> = {
  id: (one) => one.id,
  at: (one) => one.createdAt,
  kind: (one) => one.kind,
  from: (one) => one.from,
  onto: (one) => one.onto,
  sentence: (one) => one.sentence.map((piece) => piece.text).join(''),
  person: (one) => one.person,
  state: (one) => one.state,
  started: (one) => one.startedAt,
  ended: (one) => one.endedAt,
  request: (one) => one.request,
  urgent: (one) => one.urgent,
  override: (one) => one.override,
  undoneBy: (one) => one.undoneBy,
  failure: (one) => one.failure?.message,
};

export const transferPageHandlers: Handlers<'transferList' | 'transferExport'> = {
  async transferList({ installation, query: { cursor, limit = 50, ...filter }, sight }) {
    const page = await pageOf(installation, filter, sight, cursor, limit);
    // What was done on a site that is gone is still on record.
    if (page.items.length === 0) await mustKnowSite(installation.records, sight, filter.site);
    return page;
  },

  transferExport: async ({ installation, query: { as = 'jsonl', ...filter }, sight, reply }) =>
    writeOut(reply, 'transfers', as, COLUMNS, (cursor) => pageOf(installation, filter, sight, cursor, AT_ONCE)),
};

async function pageOf(
  installation: Installation,
  filter: TransferFilter,
  sight: Sight,
  cursor: string | undefined,
  limit: number,
): Promise<Page<Transfer> & { items: Transfer[] }> {
  const found = await installation.transfers.list(installation.records, {
    ...filter,
    sight,
    before: readCursor(cursor),
    limit: limit + 1,
  });
  const page = found.slice(0, limit);
  const last = page.at(-1);
  return {
    items: await Promise.all(page.map((record) => showTransfer(installation, record))),
    next: found.length > limit && last ? writeCursor({ at: last.created_at.toISOString(), id: last.id }) : null,
  };
}

/** A transfer as it is listed, with its place in line. */
export const showTransfer = async (installation: Installation, record: TransferRecord): Promise<Transfer> =>
  toTransfer(record, await installation.transfers.placeInLine(installation.records, record));
