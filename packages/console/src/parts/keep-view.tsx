import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { SavedView } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { client } from '../session.js';
import { Button } from './button.js';
import { Dialog } from './dialog.js';
import { Field } from './field.js';
import { Failure } from './states.js';

/** Keeps what a room shows under a name. */
export function KeepView({
  room,
  query,
  close,
}: {
  readonly room: SavedView['room'];
  readonly query: string;
  readonly close: () => void;
}): JSX.Element {
  const cache = useQueryClient();
  const [name, setName] = useState('');
  const save = useMutation({
    mutationFn: () => client.call('viewSave', { body: { room, name, query } }),
    onSuccess: close,
    onSettled: () => cache.invalidateQueries({ queryKey: ['views'] }),
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    save.mutate();
  };
  return (
    <Dialog isOpen close={close} title="Keep this view" className="w-400 p-16">
      <form className="grid gap-12" onSubmit={submit}>
        <Field>
          Name
          <input required maxLength={60} value={name} onChange={(event) => setName(event.target.value)} />
        </Field>
        {save.isError && <Failure error={save.error} />}
        <Button type="submit" main className="justify-self-end" disabled={save.isPending}>
          Keep it
        </Button>
      </form>
    </Dialog>
  );
}
