import { useMutation } from '@tanstack/react-query';
import { type FormEvent, type JSX, type ReactNode, useState } from 'react';
import { Overtaken } from './overtaken.js';

/** A short text that is read, and changed where it stands. What was typed stays until it is written. */
export function InlineText({
  text,
  etag,
  label,
  placeholder,
  shown,
  button,
  save,
}: {
  readonly text: string;
  readonly etag: string;
  readonly label: string;
  readonly placeholder?: string;
  readonly shown: ReactNode;
  /** What the button says that opens it; nothing for who may only read. */
  readonly button: string | undefined;
  /** @param etag of the text that was edited */
  readonly save: (text: string, etag: string) => Promise<unknown>;
}): JSX.Element {
  const [draft, setDraft] = useState<{ readonly text: string; readonly etag: string }>();
  const saving = useMutation({
    mutationFn: (one: { readonly text: string; readonly etag: string }) => save(one.text, one.etag),
    onSuccess: () => setDraft(undefined),
  });
  const close = (): void => {
    setDraft(undefined);
    saving.reset();
  };
  if (draft === undefined)
    return (
      <>
        {shown}{' '}
        {button !== undefined && (
          <button type="button" className="btn sm" onClick={() => setDraft({ text, etag })}>
            {button}
          </button>
        )}
      </>
    );
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    saving.mutate(draft);
  };
  return (
    <form className="inline-edit" onSubmit={submit}>
      <input
        autoFocus
        maxLength={500}
        aria-label={label}
        placeholder={placeholder}
        value={draft.text}
        onChange={(event) => setDraft({ ...draft, text: event.target.value })}
      />
      <button type="submit" className="btn sm main" disabled={saving.isPending}>
        Keep
      </button>
      <button type="button" className="btn sm" onClick={close}>
        Leave it
      </button>
      {saving.isError && (
        <Overtaken error={saving.error} now={shown} again={() => saving.mutate({ text: draft.text, etag })} />
      )}
    </form>
  );
}
