import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Permission } from '@tessarion/core';
import { type FormEvent, type JSX, useState } from 'react';
import { Button, TextButton } from '../parts/button.js';
import { Field } from '../parts/field.js';
import { FormEnd } from '../parts/form-end.js';
import { LinkOnce } from '../parts/link-once.js';
import { clock } from '../parts/moments.js';
import { Failure } from '../parts/states.js';
import { Ago } from '../parts/words.js';
import { client, useMe } from '../session.js';
import { PermissionPicks } from './people/permission-picks.js';
import { ScopeField, scopeWords } from './people/scope-field.js';

/** One's own tokens, by which programs do what their owner may. */
export function Tokens(): JSX.Element {
  const cache = useQueryClient();
  const tokens = useQuery({ queryKey: ['tokens'], queryFn: () => client.call('tokenList') });
  const [isMaking, setMaking] = useState(false);
  const remove = useMutation({
    mutationFn: (id: string) => client.call('tokenRemove', { params: { id } }),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['tokens'] }),
  });
  return (
    <section className="max-w-640" aria-labelledby="tokens">
      <h2 className="mt-20 mb-4" id="tokens">
        Tokens
      </h2>
      {remove.isError && <Failure error={remove.error} />}
      <ul>
        {(tokens.data ?? []).map((one) => (
          <li key={one.id} className="flex justify-between gap-8 border-b border-line py-4">
            <span>
              <b>{one.name}</b>{' '}
              <span className="text-ink2">
                {one.permissions === null ? 'all that you may' : one.permissions.join(', ')} for {scopeWords(one.scope)}
                {one.expiresAt && `, until ${clock(one.expiresAt)}`}; used <Ago time={one.lastUsedAt} suffix=" ago" />
              </span>
            </span>
            <TextButton className="flex-none self-baseline" onClick={() => remove.mutate(one.id)}>
              End it
            </TextButton>
          </li>
        ))}
        {tokens.data?.length === 0 && (
          <li className="border-b border-line py-4 text-ink2">
            None. A program signs in with one, such as the command line.
          </li>
        )}
      </ul>
      {isMaking ? (
        <NewToken close={() => setMaking(false)} />
      ) : (
        <Button onClick={() => setMaking(true)}>Make a token</Button>
      )}
    </section>
  );
}

const ENDS = { 30: 'in 30 days', 90: 'in 90 days', 365: 'in a year', 0: 'when I end it' } as const;

function NewToken({ close }: { readonly close: () => void }): JSX.Element {
  const cache = useQueryClient();
  const me = useMe();
  const [name, setName] = useState('');
  const [days, setDays] = useState(90);
  const [scope, setScope] = useState('everything');
  /** Nothing for all that its owner may. */
  const [chosen, setChosen] = useState<readonly Permission[]>();
  const make = useMutation({
    mutationFn: () =>
      client.call('tokenCreate', {
        body: {
          name,
          scope,
          days: days === 0 ? null : days,
          ...(chosen === undefined ? {} : { permissions: [...chosen] }),
        },
      }),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['tokens'] }),
  });
  if (make.data)
    return (
      <>
        <LinkOnce title={`The token ${make.data.name}`} name="token" link={make.data.value}>
          Whoever has it may do what it allows, in your name. It is not shown again.
        </LinkOnce>
        <Button onClick={close}>I have it</Button>
      </>
    );
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    make.mutate();
  };
  return (
    <form aria-label="A new token" className="mt-8 flex max-w-440 flex-col gap-8" onSubmit={submit}>
      <Field>
        What it is for
        <input
          autoFocus
          required
          maxLength={120}
          placeholder="night shift"
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
      </Field>
      <div className="grid grid-cols-[1fr_1fr] gap-8">
        <Field>
          Ends
          <select value={days} onChange={(event) => setDays(Number(event.target.value))}>
            {Object.entries(ENDS)
              .sort(([a], [b]) => (Number(a) || 9999) - (Number(b) || 9999))
              .map(([value, words]) => (
                <option key={value} value={value}>
                  {words}
                </option>
              ))}
          </select>
        </Field>
        <ScopeField scope={scope} choose={setScope} />
      </div>
      <Field>
        May do
        <select
          value={chosen === undefined ? 'all' : 'chosen'}
          onChange={(event) => setChosen(event.target.value === 'all' ? undefined : ['site.read'])}
        >
          <option value="all">all that I may</option>
          <option value="chosen">only what I choose</option>
        </select>
      </Field>
      {chosen !== undefined && (
        <PermissionPicks
          legend="Of what you may"
          among={me.data?.permissions ?? []}
          chosen={chosen}
          choose={setChosen}
        />
      )}
      {make.isError && <Failure error={make.error} />}
      <FormEnd button="Make it" isDisabled={make.isPending || chosen?.length === 0} leave={close} />
    </form>
  );
}
