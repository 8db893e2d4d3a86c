import { mentionsIn } from '@tessarion/core';
import { newId } from '../../ground/data-folder.js';
import { json, type OnRecords } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import {
  addHistory,
  type CommentRecord,
  commentTag,
  type RequestRecord,
  revisionsOf,
} from '../../requests/requests.js';
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
      await trx('request_verdict').insert({
        request_id: request.id,
        person_id: person.id,
        says: body.says,
        words,
        revision: request.revision,
        at,
      });
      await addHistory(trx, request.id, { at, person: person.id, act: `verdict ${body.says}`, words });
      await tellPeople(trx, request, { kind: 'verdict', by: person.id, at, words });
      const settled = await settleApproval(trx, request, at, person.id);
      if (settled.state === 'returned')
        await trx('change_request').where({ id: request.id }).update({ because: words });
      return { says: body.says, revision: request.revision };
    }),

  async itemSeen({ installation: { records }, params, body, person }) {
    const key = { request_id: params.id, person_id: person.id, item: body.item };
    if (!body.seen) {
      await records('request_seen').where(key).delete();
      return undefined;
    }
    await mustHaveItem(records, params.id, body.item);
    await records('request_seen')
      .insert({ ...key, hash: body.hash })
      .onConflict(['request_id', 'person_id', 'item'])
      .merge();
    return undefined;
  },

  commentAdd: (call) =>
    changing(call, async (trx, request) => {
      const { body, person, installation } = call;
      const at = installation.now();
      const id = newId('c');
      const first = body.thread === undefined ? undefined : await threadOf(trx, request, body.thread);
      if (first && !(await isThere(trx, first.id)))
        throw new ProblemError(
          'conflict',
          'Every comment of this thread was removed.',
          'Begin a thread of your own: leave the thread out.',
        );
      if (!first && body.item !== undefined) await mustHaveItem(trx, request.id, body.item);
      await trx('request_comment').insert({
        id,
        request_id: request.id,
        thread: first?.id ?? id,
        item: first ? first.item : (body.item ?? null),
        field: first ? first.field : (body.field ?? null),
        revision: request.revision,
        person_id: person.id,
        text: body.text,
        at,
      });
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
      if (first?.resolved_at)
        await trx('request_comment').where({ id: first.id }).update({ resolved_at: null, resolved_by: null });
      await settleApproval(trx, request, at, person.id);
      return { comment: id, item: first?.item ?? body.item ?? null };
    }),

  commentEdit: (call) =>
    changing(call, async (trx, request) => {
      const { body, params, installation } = call;
      const comment = await ownComment(trx, request, params.comment, call.person.id);
      call.mustMatch(commentTag(comment));
      const at = installation.now();
      const former = [...comment.former, { at: (comment.edited_at ?? comment.at).toISOString(), text: comment.text }];
      await trx('request_comment')
        .where({ id: comment.id })
        .update({ text: body.text, edited_at: at, former: json(former) });
      return { comment: comment.id };
    }),

  commentRemove: (call) =>
    changing(call, async (trx, request) => {
      const { params, installation, person } = call;
      const comment = await ownComment(trx, request, params.comment, person.id);
      await trx('request_comment').where({ id: comment.id }).update({ removed_at: installation.now() });
      await settleApproval(trx, request, installation.now(), person.id);
      return { comment: comment.id };
    }),

  threadResolve: (call) =>
    changing(call, async (trx, request) => {
      const { params, body, installation, person } = call;
      const thread = await threadOf(trx, request, params.comment);
      const at = installation.now();
      await trx('request_comment')
        .where({ id: thread.id })
        .update(body.resolved ? { resolved_at: at, resolved_by: person.id } : { resolved_at: null, resolved_by: null });
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
