import { z } from 'zod';
import { endpoint } from '../endpoint.js';
import * as s from '../shapes.js';
import { ExportForm, none, nothing, Page, paged, pieces } from './inputs.js';

/** Which entries are meant; times as RFC 3339 in UTC. */
export const JournalFilter = z.strictObject({
  actor: z.string().max(120).optional(),
  act: z.string().max(60).optional(),
  outcome: z.enum(['done', 'refused', 'failed']).optional(),
  /** A site, an environment, a transfer: whatever the entry is about. */
  thing: z.string().max(200).optional(),
  /** A part of the thing's name, of who acted, or of the details. */
  find: z.string().trim().min(1).max(100).optional(),
  since: s.Time.optional(),
  until: s.Time.optional(),
});
export type JournalFilter = z.infer<typeof JournalFilter>;

/** Reading, verifying and erasing in the journal. */
export const journalEndpoints = {
  journalList: endpoint({
    method: 'GET',
    path: '/journal',
    permission: 'journal.read',
    about: 'installation',
    summary: 'List what was done and refused, newest first.',
    params: nothing,
    query: Page.extend(JournalFilter.shape),
    body: none,
    response: paged(s.JournalEntry),
  }),
  journalExport: endpoint({
    method: 'GET',
    path: '/journal/export',
    permission: 'journal.read',
    about: 'installation',
    costs: 25,
    summary: 'Write out all that was done and refused and fits, newest first.',
    params: nothing,
    query: JournalFilter.extend({ as: ExportForm.optional() }),
    body: none,
    response: pieces,
    isText: true,
  }),
  journalVerify: endpoint({
    method: 'POST',
    path: '/journal/verify',
    permission: 'journal.read',
    about: 'installation',
    isAct: false,
    costs: 100,
    summary:
      'Check the seal of every entry and name what was altered, removed, put in between or cut off, also by heads that were kept elsewhere.',
    params: nothing,
    query: nothing,
    body: z.strictObject({ heads: z.array(s.JournalHead).max(1000).optional() }).optional(),
    response: s.JournalVerdict,
  }),
  valueErase: endpoint({
    method: 'POST',
    path: '/journal/erasures',
    permission: 'people.manage',
    about: 'installation',
    costs: 100,
    summary:
      'Erase a value that sites had of somebody, such as a name, from all records, also the journal; what happened stays on record. Snapshots keep it until they go.',
    params: nothing,
    query: nothing,
    body: z.strictObject({ value: z.string().min(1).max(200) }),
    response: z.object({ rows: z.number().int(), entries: z.number().int() }),
  }),
} as const;
