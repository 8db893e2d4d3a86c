import { useMutation } from '@tanstack/react-query';
import { type FormEvent, type JSX, type ReactNode, useState } from 'react';
import { Button } from './button.js';
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
          <Button small className="ml-6" onClick={() => setDraft({ text, etag })}>
            {button}
          </Button>
        )}
      </>
    );
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    saving.mutate(draft);
  };
  return (
    <form className="flex flex-wrap items-center gap-6" onSubmit={submit}>
      <input
        className="min-w-200 flex-1"
        autoFocus
        maxLength={500}
        aria-label={label}
        placeholder={placeholder}
        value={draft.text}
        onChange={(event) => setDraft({ ...draft, text: event.target.value })}
      />
      <Button type="submit" small main disabled={saving.isPending}>
        Keep
      </Button>
      <Button small onClick={close}>
        Leave it
      </Button>
      {saving.isError && (
        <Overtaken error={saving.error} now={shown} again={() => saving.mutate({ text: draft.text, etag })} />
      )}
    </form>
  );
}
