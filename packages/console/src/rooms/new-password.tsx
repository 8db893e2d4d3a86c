import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, type JSX, useState } from 'react';
import { Button } from '../parts/button.js';
import { Field } from '../parts/field.js';
import { FormEnd } from '../parts/form-end.js';
import { Failure } from '../parts/states.js';
import { client, useMe } from '../session.js';

/** Another password of one's own. */
export function NewPassword(): JSX.Element {
  const cache = useQueryClient();
  const me = useMe();
  const [isOpen, setOpen] = useState(false);
  const [password, setPassword] = useState('');
  const [next, setNext] = useState('');
  const change = useMutation({
    mutationFn: () => client.call('passwordChange', { body: { password, next } }),
    onSuccess: () => {
      setOpen(false);
      setPassword('');
      setNext('');
      void cache.invalidateQueries({ queryKey: ['sessions'] });
    },
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    change.mutate();
  };
  return (
    <section className="max-w-640" aria-labelledby="password">
      <h2 className="mt-20 mb-4" id="password">
        Password
      </h2>
      {isOpen ? (
        <form className="mt-8 flex max-w-440 flex-col gap-8" onSubmit={submit}>
          {/* By which a password manager knows whose it is. */}
          <input type="text" hidden readOnly autoComplete="username" value={me.data?.mail ?? ''} />
          <Field>
            The one that you have
            <input
              autoFocus
              required
              type="password"
              autoComplete="current-password"
              value={password}
              onChange={(event) => setPassword(event.target.value)}
            />
          </Field>
          <Field>
            Another one, of at least 12 characters
            <input
              required
              type="password"
              minLength={12}
              autoComplete="new-password"
              value={next}
              onChange={(event) => setNext(event.target.value)}
            />
          </Field>
          {change.isError && <Failure error={change.error} />}
          <FormEnd button="Take it from now on" isDisabled={change.isPending} leave={() => setOpen(false)} />
        </form>
      ) : (
        <>
          {change.data && (
            <p role="status">
              It is another one now
              {change.data.ended > 0 ? `, and ${change.data.ended} other sessions have ended` : ''}.
            </p>
          )}
          <Button onClick={() => setOpen(true)}>Choose another</Button>
        </>
      )}
    </section>
  );
}
