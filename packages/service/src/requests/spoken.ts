import { newId } from '../ground/data-folder.js';
import { json, type OnRecords } from '../ground/open.js';
import type { CommentRecord, RequestRecord, VerdictRecord } from './requests.js';

/** Who speaks: a person, or a guest by their link. */
type Speaker = { readonly person_id: string } | { readonly guest: string };

/** Something that is said of a request, in a thread or beginning one. */
export interface NewComment {
  /** The comment that began the thread. */
  readonly first: Pick<CommentRecord, 'id'> | undefined;
  /** What a thread that begins is about. */
  readonly item?: string | null;
  readonly field?: string | null;
  readonly text: string;
  readonly at: Date;
}

/** Records a comment on what a request is now. @returns its id */
export async function addComment(
  trx: OnRecords,
  request: RequestRecord,
  by: Speaker,
  { first, ...said }: NewComment,
): Promise<string> {
  const id = newId('c');
  await trx('request_comment').insert({
    ...said,
    ...by,
    id,
    request_id: request.id,
    thread: first?.id ?? id,
    revision: request.revision,
  });
  return id;
}

/** Gives a comment another text; what it said before is kept. */
export async function editComment(trx: OnRecords, comment: CommentRecord, text: string, at: Date): Promise<void> {
  const former = [...comment.former, { at: (comment.edited_at ?? comment.at).toISOString(), text: comment.text }];
  await trx('request_comment')
    .where({ id: comment.id })
    .update({ text, edited_at: at, former: json(former) });
}

/** Takes a comment's text from sight. */
export async function removeComment(trx: OnRecords, id: string, at: Date): Promise<void> {
  await trx('request_comment').where({ id }).update({ removed_at: at });
}

/** Settles a thread, or opens it again. @param by who settles it; null where it is open again */
export async function settleThread(trx: OnRecords, id: string, by: string | null, at: Date): Promise<void> {
  await trx('request_comment')
    .where({ id })
    .update({ resolved_at: by === null ? null : at, resolved_by: by });
}

/** Records what somebody says of a whole revision. */
export async function addVerdict(
  trx: OnRecords,
  request: string,
  by: Speaker,
  verdict: Pick<VerdictRecord, 'says' | 'words' | 'revision' | 'at'>,
): Promise<void> {
  const { says, words, revision, at } = verdict;
  await trx('request_verdict').insert({ request_id: request, ...by, says, words, revision, at });
}

/** What those said who sent a request back counts for nothing until they speak again. */
export async function answerReturns(trx: OnRecords, request: string): Promise<void> {
  await trx.raw(
    `UPDATE request_verdict SET is_answered = true WHERE request_id = :request AND person_id IN (
       SELECT person_id FROM (
         SELECT DISTINCT ON (person_id) person_id, says FROM request_verdict
         WHERE request_id = :request ORDER BY person_id, id DESC) AS newest
       WHERE says = 'return')`,
    { request },
  );
}

/** Notes that somebody has seen an item as it is, or has not. @param hash of the item; null where they have not */
export async function noteSeen(
  on: OnRecords,
  seen: { readonly request_id: string; readonly person_id: string; readonly item: string },
  hash: string | null,
): Promise<void> {
  if (hash === null) await on('request_seen').where(seen).delete();
  else
    await on('request_seen')
      .insert({ ...seen, hash })
      .onConflict(['request_id', 'person_id', 'item'])
      .merge();
}
