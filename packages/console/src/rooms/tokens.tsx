import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Permission } from '@tessarion/core';
import { type FormEvent, type JSX, useState } from 'react';
import { FormEnd } from '../parts/form-end.js';
import { LinkOnce } from '../parts/link-once.js';
import { Failure } from '../parts/states.js';
import { Ago, clock } from '../parts/words.js';
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
    <section aria-labelledby="tokens">
      <h2 id="tokens">Tokens</h2>
      {remove.isError && <Failure error={remove.error} />}
      <ul className="plain">
        {(tokens.data ?? []).map((one) => (
          <li key={one.id} className="given">
            <span>
              <b>{one.name}</b>{' '}
              <span className="q">
                {one.permissions === null ? 'all that you may' : one.permissions.join(', ')} for {scopeWords(one.scope)}
                {one.expiresAt && `, until ${clock(one.expiresAt)}`}; used <Ago time={one.lastUsedAt} suffix=" ago" />
              </span>
            </span>
            <button type="button" className="bare-link" onClick={() => remove.mutate(one.id)}>
              End it
            </button>
          </li>
        ))}
        {tokens.data?.length === 0 && (
          <li className="q">None. A program signs in with one, such as the command line.</li>
        )}
      </ul>
      {isMaking ? (
        <NewToken close={() => setMaking(false)} />
      ) : (
        <button type="button" className="btn" onClick={() => setMaking(true)}>
          Make a token
        </button>
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
        <button type="button" className="btn" onClick={close}>
          I have it
        </button>
      </>
    );
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    make.mutate();
  };
  return (
    <form className="stack token-form" onSubmit={submit}>
      <label>
        What it is for
        <input
          autoFocus
          required
          maxLength={120}
          placeholder="night shift"
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
      </label>
      <div className="two-even">
        <label>
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
        </label>
        <ScopeField scope={scope} choose={setScope} />
      </div>
      <label>
        May do
        <select
          value={chosen === undefined ? 'all' : 'chosen'}
          onChange={(event) => setChosen(event.target.value === 'all' ? undefined : ['site.read'])}
        >
          <option value="all">all that I may</option>
          <option value="chosen">only what I choose</option>
        </select>
      </label>
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
