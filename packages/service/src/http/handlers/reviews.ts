import { mentionsIn } from '@tessarion/core';
import type { OnRecords } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import {
  addHistory,
  type CommentRecord,
  commentTag,
  type RequestRecord,
  revisionsOf,
  updateRequest,
} from '../../requests/requests.js';
import { addComment, addVerdict, editComment, noteSeen, removeComment, settleThread } from '../../requests/spoken.js';
import { isReviewable, settleApproval, standingOf } from '../../requests/standing.js';
import { tellPeople } from '../../requests/tell.js';
import type { Handlers } from './call.js';
import { changing } from './requests.js';

export const reviewHandlers: Handlers<
  'verdictGive' | 'itemSeen' | 'commentAdd' | 'commentEdit' | 'commentRemove' | 'threadResolve'
> = {
  verdictGive: (call) =>
    changing(call, async (trx, request) => {
      const { body, person, installation } = call;
      const at = installation.now();
      if (!isReviewable(request))
        throw new ProblemError(
          'conflict',
          `Change request ${request.id} is ${request.state}, and not in review.`,
          `See what may be done: tessarion request show ${request.id}`,
        );
      if (body.revision !== request.revision)
        throw new ProblemError(
          'outdated',
          `Change request ${request.id} is at revision ${request.revision} by now; you looked at ${body.revision}.`,
          `Look at what differs: tessarion request show ${request.id}`,
        );
      if ((await standingOf(trx, request)).authors.has(person.id))
        throw new ProblemError(
          'not-allowed',
          'Nobody gives a verdict on their own work.',
          'Ask somebody else: name them as reviewers.',
        );
      const words = body.words?.trim() ?? '';
      if (body.says === 'return' && words === '')
        throw new ProblemError('invalid', 'What is sent back needs a reason.', 'Say what is to be mended.');
      const verdict = { says: body.says, words, revision: request.revision, at };
      await addVerdict(trx, request.id, { person_id: person.id }, verdict);
      await addHistory(trx, request.id, { at, person: person.id, act: `verdict ${body.says}`, words });
      await tellPeople(trx, request, { kind: 'verdict', by: person.id, at, words });
      const settled = await settleApproval(trx, request, at, person.id);
      if (settled.state === 'returned') await updateRequest(trx, request.id, { because: words });
      return { says: body.says, revision: request.revision };
    }),

  async itemSeen({ installation: { records }, params, body, person }) {
    const key = { request_id: params.id, person_id: person.id, item: body.item };
    if (body.seen) await mustHaveItem(records, params.id, body.item);
    await noteSeen(records, key, body.seen ? body.hash : null);
    return undefined;
  },

  commentAdd: (call) =>
    changing(call, async (trx, request) => {
      const { body, person, installation } = call;
      const at = installation.now();
      const first = body.thread === undefined ? undefined : await threadOf(trx, request, body.thread);
      if (first && !(await isThere(trx, first.id)))
        throw new ProblemError(
          'conflict',
          'Every comment of this thread was removed.',
          'Begin a thread of your own: leave the thread out.',
        );
      if (!first && body.item !== undefined) await mustHaveItem(trx, request.id, body.item);
      const about = {
        item: first ? first.item : (body.item ?? null),
        field: first ? first.field : (body.field ?? null),
      };
      const id = await addComment(trx, request, { person_id: person.id }, { first, ...about, text: body.text, at });
      const talkers = first ? await talkersOf(trx, first.id) : [];
      const mentioned = (await trx('person').whereIn('mail', mentionsIn(body.text)).select('id')) as { id: string }[];
      await tellPeople(trx, request, {
        kind: 'comment',
        by: person.id,
        at,
        words: body.text.slice(0, 1000),
        item: first ? first.item : (body.item ?? null),
        concerned: { talkers, mentioned: mentioned.map((one) => one.id) },
      });
      // A reply to what was settled opens it again.
      if (first?.resolved_at) await settleThread(trx, first.id, null, at);
      await settleApproval(trx, request, at, person.id);
      return { comment: id, item: first?.item ?? body.item ?? null };
    }),

  commentEdit: (call) =>
    changing(call, async (trx, request) => {
      const { body, params, installation } = call;
      const comment = await ownComment(trx, request, params.comment, call.person.id);
      call.mustMatch(commentTag(comment));
      await editComment(trx, comment, body.text, installation.now());
      return { comment: comment.id };
    }),

  commentRemove: (call) =>
    changing(call, async (trx, request) => {
      const { params, installation, person } = call;
      const comment = await ownComment(trx, request, params.comment, person.id);
      await removeComment(trx, comment.id, installation.now());
      await settleApproval(trx, request, installation.now(), person.id);
      return { comment: comment.id };
    }),

  threadResolve: (call) =>
    changing(call, async (trx, request) => {
      const { params, body, installation, person } = call;
      const thread = await threadOf(trx, request, params.comment);
      const at = installation.now();
      await settleThread(trx, thread.id, body.resolved ? person.id : null, at);
      if (body.resolved)
        await tellPeople(trx, request, {
          kind: 'resolved',
          by: person.id,
          at,
          item: thread.item,
          concerned: { talkers: await talkersOf(trx, thread.id) },
        });
      await settleApproval(trx, request, at, person.id);
      return { thread: thread.id, resolved: body.resolved };
    }),
};

/** @throws {ProblemError} `not-found` */
async function threadOf(trx: OnRecords, request: RequestRecord, id: string): Promise<CommentRecord> {
  const found = (await trx('request_comment').where({ id, request_id: request.id }).whereRaw('id = thread').first()) as
    | CommentRecord
    | undefined;
  if (!found)
    throw new ProblemError('not-found', `There is no thread ${id} here.`, `See: tessarion request show ${request.id}`);
  return found;
}

/** Who wrote in a conversation. */
const talkersOf = async (trx: OnRecords, thread: string): Promise<string[]> =>
  (
    (await trx('request_comment').where({ thread }).whereNotNull('person_id').distinct('person_id')) as {
      person_id: string;
    }[]
  ).map((one) => one.person_id);

const isThere = async (trx: OnRecords, thread: string): Promise<boolean> =>
  (await trx('request_comment').where({ thread }).whereNull('removed_at').first('id')) !== undefined;

/** @throws {ProblemError} `not-found`, `not-allowed`, `conflict` */
async function ownComment(trx: OnRecords, request: RequestRecord, id: string, person: string): Promise<CommentRecord> {
  const found = (await trx('request_comment').where({ id, request_id: request.id }).first()) as
    | CommentRecord
    | undefined;
  if (!found)
    throw new ProblemError('not-found', `There is no comment ${id} here.`, `See: tessarion request show ${request.id}`);
  if (found.person_id !== person)
    throw new ProblemError('not-allowed', 'Only who wrote a comment changes it.', 'Reply to it instead.');
  if (found.removed_at) throw new ProblemError('conflict', 'This comment was removed.', 'Write another one.');
  return found;
}

/** Any revision's item can be talked about. @throws {ProblemError} `not-found` */
async function mustHaveItem(on: OnRecords, request: string, item: string): Promise<void> {
  const revisions = await revisionsOf(on, request);
  if (!revisions.some((one) => one.items.some((each) => each.id === item)))
    throw new ProblemError('not-found', `It has no item ${item}.`, `See: tessarion request show ${request}`);
}
