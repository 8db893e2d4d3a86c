import { noEnvironment } from '../ground/absent.js';
import type { OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import type { Installation } from '../transfers/installation.js';
import { move } from './moves.js';
import { holdRequest, type RequestRecord } from './requests.js';
import { tellPeople } from './tell.js';

const LOOKED_AT = ['in-review', 'returned', 'approved', 'scheduled', 'delivering', 'blocked'] as const;
const UNDER_WAY = ['waiting', 'running', 'stopping'] as const;
const ENDS_LOCK = 0x7453;

/** What makes an environment another one than people were asked to look at, in words. */
const TAKES_AWAY = { remove: 'removed', reset: 'made anew', restore: 'made what it was', leave: 'given back' } as const;

/**
 * Keeps others, until the transaction ends, from asking people to look at what some environments hold, and from
 * beginning to take that away.
 */
async function holdEnds(trx: OnRecords, paths: readonly string[]): Promise<void> {
  for (const path of [...paths].sort())
    await trx.raw('SELECT pg_advisory_xact_lock(?, hashtext(?))', [ENDS_LOCK, path]);
}

/**
 * Sees that nothing which people were asked to look at would be gone with what an environment holds: what is on its way
 * from there and, where the environment itself goes, what is on its way onto it.
 *
 * @param trx the transaction in which that act is put on record
 * @param act what is about to be done to it
 * @throws {ProblemError} `conflict` with the request
 */
export async function mustNotBeAskedFor(trx: OnRecords, path: string, act: keyof typeof TAKES_AWAY): Promise<void> {
  await holdEnds(trx, [path]);
  const asked = (await trx('change_request as r')
    .join('person as p', 'p.id', 'r.author')
    .where((ends) => {
      ends.where({ from_path: path });
      if (act === 'remove' || act === 'leave') ends.orWhere({ onto_path: path });
    })
    .whereIn('r.state', LOOKED_AT)
    .orderBy('r.created_at')
    .first('r.id', 'r.title', 'r.from_path', 'p.name as author')) as
    | (Pick<RequestRecord, 'id' | 'title' | 'from_path'> & { author: string })
    | undefined;
  if (asked)
    throw new ProblemError(
      'conflict',
      `"${asked.title}" (${asked.id}) of ${asked.author} is on its way ${asked.from_path === path ? 'from' : 'onto'} ${path}, which cannot be ${TAKES_AWAY[act]} meanwhile.`,
      `Deliver it, or withdraw it: tessarion request withdraw ${asked.id}`,
    );
}

/**
 * Sees that both ends of a request are there to stay as they are.
 *
 * @param trx the transaction in which people are asked to look at it
 * @throws {ProblemError} `not-found` where an end is gone; `conflict` where its removal, or what it is made anew by, is
 *   under way
 */
export async function mustStay(
  trx: OnRecords,
  { from_path, onto_path }: Pick<RequestRecord, 'from_path' | 'onto_path'>,
): Promise<void> {
  await holdEnds(trx, [from_path, onto_path]);
  for (const [path, acts] of [
    [from_path, ['remove', 'reset', 'restore']],
    [onto_path, ['remove', 'leave']],
  ] as const) {
    if (!(await trx('environment').where({ path }).first('path'))) throw noEnvironment(path);
    const taken = (await trx('transfer')
      .where({ onto_path: path })
      .whereIn('kind', acts)
      .whereIn('state', UNDER_WAY)
      .orderBy('created_at')
      .first('id', 'kind')) as { id: string; kind: keyof typeof TAKES_AWAY } | undefined;
    if (taken)
      throw new ProblemError(
        'conflict',
        `${path} is about to be ${TAKES_AWAY[taken.kind]} (${taken.id}).`,
        `Wait for it, or stop it while it waits: tessarion stop ${taken.id}`,
      );
  }
}

/** Withdraws drafts from or onto an environment that is gone, with which nobody can go on; their authors are told. */
export async function withdrawDrafts({ records, now }: Installation, path: string): Promise<void> {
  const drafts = (await records('change_request')
    .where({ state: 'draft' })
    .where((ends) => ends.where({ from_path: path }).orWhere({ onto_path: path }))
    .select('id')) as { id: string }[];
  for (const { id } of drafts)
    await records.transaction(async (trx) => {
      const draft = await holdRequest(trx, id);
      if (draft.state !== 'draft') return;
      const news = { at: now(), by: null, words: `${path} was removed.` };
      const withdrawn = await move(trx, draft, 'withdraw', news, { because: news.words });
      // Reviewers were never asked.
      await tellPeople(trx, withdrawn, { ...news, kind: 'withdrawn', concerned: { reviewers: [] } });
    });
}
