import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, type JSX, type ReactNode, useState } from 'react';
import { Button, TextButton } from '../../parts/button.js';
import { Confirm } from '../../parts/confirm.js';
import { Field } from '../../parts/field.js';
import { Overtaken } from '../../parts/overtaken.js';
import { Failure } from '../../parts/states.js';
import { NameField } from '../../parts/text-field.js';

interface Named {
  readonly name: string;
  readonly title: string;
  readonly etag: string;
}

/** Makes, changes or removes what commands call by a name and people by a title: a role, a team. */
export function NamedForm({
  what,
  thing,
  example,
  there,
  button,
  isSaid = true,
  warning,
  caches,
  save,
  remove,
  done,
  children,
}: {
  readonly what: string;
  /** What is changed; nothing where one is made. */
  readonly thing: Named | undefined;
  /** A name that one might give. */
  readonly example: string;
  /** What it says now, should somebody else have changed it meanwhile. */
  readonly there: string | undefined;
  readonly button: string;
  readonly isSaid?: boolean;
  /** What becomes of the rest when it is removed. */
  readonly warning: string;
  /** What is read anew after a change. */
  readonly caches: readonly string[];
  readonly save: (name: string, title: string, edited: string | null) => Promise<Named>;
  readonly remove: (name: string) => Promise<unknown>;
  readonly done: (name?: string) => void;
  readonly children: ReactNode;
}): JSX.Element {
  const cache = useQueryClient();
  const [name, setName] = useState(thing?.name ?? '');
  const [title, setTitle] = useState(thing?.title ?? '');
  const [etag] = useState(thing?.etag ?? null);
  const [isRemoving, setRemoving] = useState(false);
  const fresh = {
    onSettled: () => Promise.all(caches.map((queryKey) => cache.invalidateQueries({ queryKey: [queryKey] }))),
  };
  const saving = useMutation({
    mutationFn: (edited: string | null) => save(name, title, edited),
    onSuccess: (saved) => done(saved.name),
    ...fresh,
  });
  const removing = useMutation({ mutationFn: () => remove(name), onSuccess: () => done(), ...fresh });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    saving.mutate(etag);
  };
  return (
    <>
      <form className="flex flex-col gap-8" onSubmit={submit}>
        <h2 className="mb-4 text-[14px]/24">{thing ? thing.title : `Make a ${what}`}</h2>
        {!thing && <NameField example={example} value={name} change={setName} />}
        <Field>
          Title
          <input required maxLength={120} value={title} onChange={(event) => setTitle(event.target.value)} />
        </Field>
        {children}
        {saving.isError && (
          <Overtaken error={saving.error} now={there} again={() => saving.mutate(thing?.etag ?? null)} />
        )}
        {removing.isError && <Failure error={removing.error} />}
        <Button type="submit" main className="self-start" disabled={!isSaid || saving.isPending}>
          {button}
        </Button>
        {thing && <TextButton onClick={() => setRemoving(true)}>Remove it</TextButton>}
      </form>
      <Confirm
        isOpen={isRemoving}
        close={() => setRemoving(false)}
        title={`Remove the ${what} ${title}`}
        button="Remove it"
        isDanger
        act={() => removing.mutate()}
      >
        {warning}
      </Confirm>
    </>
  );
}
