import type { Comment, RequestDetail, Thread } from '@tessarion/contract';
import { type FormEvent, type JSX, type KeyboardEvent, useEffect, useRef, useState } from 'react';
import { Button, TextButton } from '../../parts/button.js';
import { Markdown } from '../../parts/markdown.js';
import { useDraft } from '../../parts/use-draft.js';
import { Ago } from '../../parts/words.js';
import type { Deeds } from './use-request.js';

interface About {
  readonly item?: string;
  readonly field?: string;
  readonly thread?: string;
}

/** A field in which one writes; what was typed stays when it could not be sent. */
export function Writing({
  deeds,
  about,
  label,
  button,
  close,
}: {
  readonly deeds: Deeds;
  readonly about: About;
  readonly label: string;
  readonly button: string;
  readonly close?: () => void;
}): JSX.Element {
  const [text, setText] = useDraft(label);
  const field = useRef<HTMLTextAreaElement>(null);
  // Where somebody asked for it, it is where they type.
  useEffect(() => {
    if (close) field.current?.focus();
  }, [close !== undefined]);
  const send = (): void => {
    if (text.trim() === '' || deeds.isPending) return;
    deeds.mutate(
      { act: 'comment', body: { text, ...about } },
      {
        onSuccess: () => {
          setText('');
          close?.();
        },
      },
    );
  };
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    send();
  };
  const press = (event: KeyboardEvent): void => {
    if (event.key === 'Enter' && (event.ctrlKey || event.metaKey)) {
      event.preventDefault();
      send();
    }
    if (event.key === 'Escape') {
      field.current?.blur();
      close?.();
    }
  };
  return (
    <form className="mt-8 flex max-w-760 flex-1 flex-col gap-6" onSubmit={submit}>
      <textarea
        ref={field}
        aria-label={label}
        placeholder={label}
        rows={text.length > 80 ? 4 : 2}
        value={text}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={press}
      />
      <span className="flex flex-row items-center gap-8">
        <Button type="submit" disabled={text.trim() === ''}>
          {button}
        </Button>
        <span className="text-ink3">Markdown · Ctrl Enter</span>
      </span>
    </form>
  );
}

/** One conversation. */
export function ThreadView({
  thread,
  me,
  mayComment,
  deeds,
}: {
  readonly thread: Thread;
  readonly me: string;
  readonly mayComment: boolean;
  readonly deeds: Deeds;
}): JSX.Element {
  const [isReplying, setReplying] = useState(false);
  const [isOpened, setOpened] = useState(false);
  const isResolved = thread.resolvedAt !== null;
  const isGone = thread.comments.every((one) => one.removedAt !== null);
  if (isResolved && !isOpened)
    return (
      <button
        type="button"
        className="my-8 block border-l-3 border-line py-4 pl-12 text-small text-ink2 hover:text-accent"
        onClick={() => setOpened(true)}
      >
        <b>Resolved</b> by {thread.resolvedBy} ·{' '}
        {thread.comments.length === 1 ? '1 comment' : `${thread.comments.length} comments`}
      </button>
    );
  return (
    <article
      className={`my-8 flex max-w-760 flex-col gap-8 border-line border-l-3 py-4 pl-12 ${isResolved ? 'text-ink2' : ''}`}
      data-thread={thread.id}
    >
      {thread.comments.map((one) => (
        <CommentView key={one.id} comment={one} isOwn={one.author?.id === me} deeds={deeds} />
      ))}
      {mayComment && !isGone && (
        <div className="flex gap-8">
          {isReplying ? (
            <Writing
              deeds={deeds}
              about={{ thread: thread.id }}
              label="Reply"
              button="Reply"
              close={() => setReplying(false)}
            />
          ) : (
            <>
              <Button small onClick={() => setReplying(true)}>
                Reply
              </Button>
              <Button small onClick={() => deeds.mutate({ act: 'resolve', comment: thread.id, resolved: !isResolved })}>
                {isResolved ? 'Open again' : 'Resolve'}
              </Button>
            </>
          )}
        </div>
      )}
    </article>
  );
}

function CommentView({
  comment,
  isOwn,
  deeds,
}: {
  readonly comment: Comment;
  readonly isOwn: boolean;
  readonly deeds: Deeds;
}): JSX.Element {
  /** What is being written, and of which text. */
  const [edited, setEdited] = useState<{ readonly text: string; readonly etag: string }>();
  const [isGoing, setGoing] = useState(false);
  const keep = (etag: string): void => {
    if (edited?.text.trim())
      deeds.mutate(
        { act: 'edit-comment', comment: comment.id, text: edited.text, etag },
        { onSuccess: () => setEdited(undefined) },
      );
  };
  return (
    <div>
      <p className="flex items-baseline gap-8">
        <b>{comment.author?.name ?? 'Somebody'}</b>
        {comment.isGuest && <span className="border border-line px-4 text-micro text-ink2">guest</span>}
        <span className="text-ink3">
          <Ago time={comment.at} suffix=" ago" />
          {comment.editedAt && comment.removedAt === null && (
            <span title={comment.former.map((one) => one.text).join('\n—\n')}> · edited</span>
          )}
        </span>
        <span className="flex-1 max-desk:hidden" />
        {isOwn && comment.removedAt === null && edited === undefined && (
          <>
            <TextButton onClick={() => setEdited({ text: comment.text, etag: comment.etag })}>Edit</TextButton>
            {isGoing ? (
              <>
                <TextButton
                  className="text-danger!"
                  onClick={() => deeds.mutate({ act: 'remove-comment', comment: comment.id })}
                >
                  Remove this comment for good
                </TextButton>
                <TextButton onClick={() => setGoing(false)}>Leave it</TextButton>
              </>
            ) : (
              <TextButton onClick={() => setGoing(true)}>Remove</TextButton>
            )}
          </>
        )}
      </p>
      {comment.removedAt !== null ? (
        <p className="text-ink3">This comment was removed.</p>
      ) : edited === undefined ? (
        <Markdown text={comment.text} />
      ) : (
        <div className="mt-8 flex max-w-760 flex-col gap-6">
          <textarea
            className="border-accent"
            aria-label="Edit the comment"
            rows={3}
            value={edited.text}
            onChange={(event) => setEdited({ ...edited, text: event.target.value })}
          />
          <span className="flex flex-row items-center gap-8">
            <Button onClick={() => keep(edited.etag)}>Keep this text</Button>
            <Button bare onClick={() => setEdited(undefined)}>
              Leave it
            </Button>
          </span>
        </div>
      )}
    </div>
  );
}

/** The conversations about an item, or about one field of it; of the whole request with `null`. */
export const threadsAbout = (request: RequestDetail, item: string | null, field?: string | null): Thread[] =>
  request.threads.filter((one) => one.item === item && (field === undefined || one.field === field));
