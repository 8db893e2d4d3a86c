import type { JournalEntry, JournalFilter } from '@tessarion/contract';
import { readCursor, writeCursor } from '../../ground/cursor.js';
import { eraseValue } from '../../journal/erase-value.js';
import { verifyJournal } from '../../journal/verify-journal.js';
import type { Installation } from '../../transfers/installation.js';
import { type Page, writeOut } from '../write-out.js';
import type { Handlers } from './call.js';

const AT_ONCE = 500;

const COLUMNS: Record<string, (one: JournalEntry) => unknown> = {
  position: (one) => one.position,
  at: (one) => one.at,
  actor: (one) => one.actor,
  name: (one) => one.name,
  from: (one) => one.from,
  act: (one) => one.act,
  outcome: (one) => one.outcome,
  thing: (one) => one.thing,
  details: (one) => JSON.stringify(one.details),
};

export const journalHandlers: Handlers<'journalList' | 'journalExport' | 'journalVerify' | 'valueErase'> = {
  journalList: ({ installation, query: { cursor, limit = 50, ...filter } }) =>
    pageOf(installation, filter, cursor, limit),

  journalExport: async ({ installation, query: { as = 'jsonl', ...filter }, reply }) =>
    writeOut(reply, 'journal', as, COLUMNS, (cursor) => pageOf(installation, filter, cursor, AT_ONCE)),

  journalVerify: ({ installation, body }) => verifyJournal(installation, body?.heads),

  async valueErase({ installation, body, note }) {
    return installation.records.transaction(async (trx) => {
      const { rows, entries } = await eraseValue(trx, installation, body.value);
      await note(trx, '', { rows, entries });
      return { rows, entries: Object.keys(entries).length };
    });
  },
};

async function pageOf(
  installation: Installation,
  filter: JournalFilter,
  cursor: string | undefined,
  limit: number,
): Promise<Page<JournalEntry> & { items: JournalEntry[] }> {
  const entries = await installation.journal.list(installation.records, {
    ...filter,
    before: readCursor(cursor),
    limit: limit + 1,
  });
  const items = entries.slice(0, limit);
  const last = items.at(-1);
  return { items, next: entries.length > limit && last ? writeCursor(last) : null };
}
