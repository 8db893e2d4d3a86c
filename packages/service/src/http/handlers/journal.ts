import { verifyJournal } from '../../journal/verify-journal.js';
import type { Handlers } from './call.js';

export const journalHandlers: Handlers<'journalList' | 'journalVerify'> = {
  async journalList({ installation, query }) {
    const { cursor, limit = 50, ...filter } = query;
    const [at, id] = cursor?.split('/') ?? [];
    const entries = await installation.journal.list(installation.records, {
      ...filter,
      before: at !== undefined && id !== undefined ? { at, id } : undefined,
      limit: limit + 1,
    });
    const items = entries.slice(0, limit);
    const last = items.at(-1);
    return { items, next: entries.length > limit && last ? `${last.at}/${last.id}` : null };
  },
  journalVerify: ({ installation }) => verifyJournal(installation),
};
