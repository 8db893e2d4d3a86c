import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Notice } from '@tessarion/contract';
import { NOTICE_KINDS } from '@tessarion/core';
import type { JSX } from 'react';
import { Failure, Loading } from '../parts/states.js';
import { Ago, clock } from '../parts/words.js';
import { client } from '../session.js';

/** One's own: what is mailed, where one is signed in, and tokens. */
export function SettingsRoom(): JSX.Element {
  return (
    <main className="settings slab">
      <h1>Settings</h1>
      <Mail />
      <Sessions />
      <Tokens />
    </main>
  );
}

function Mail(): JSX.Element {
  const cache = useQueryClient();
  const wishes = useQuery({ queryKey: ['notice wishes'], queryFn: () => client.call('noticeWishes') });
  const wish = useMutation({
    mutationFn: ({ kind, mail }: { kind: Notice['kind']; mail: 'now' | 'never' }) =>
      client.call('noticeWish', { params: { kind }, body: { mail } }),
    onSuccess: (all) => cache.setQueryData(['notice wishes'], all),
  });
  if (wishes.isPending) return <Loading what="Reading what is mailed" rows={6} />;
  if (wishes.isError) return <Failure error={wishes.error} />;
  return (
    <section aria-labelledby="mailed">
      <h2 id="mailed">Mailed to me, beside the notices here, when</h2>
      {wish.isError && <Failure error={wish.error} />}
      <ul className="plain ticks">
        {(Object.keys(NOTICE_KINDS) as Notice['kind'][]).map((kind) => (
          <li key={kind}>
            <label className="tick">
              <input
                type="checkbox"
                checked={wishes.data[kind] === 'now'}
                onChange={(event) => wish.mutate({ kind, mail: event.target.checked ? 'now' : 'never' })}
              />
              <span>{NOTICE_KINDS[kind]}</span>
            </label>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Sessions(): JSX.Element {
  const cache = useQueryClient();
  const sessions = useQuery({ queryKey: ['sessions'], queryFn: () => client.call('sessionList') });
  const end = useMutation({
    mutationFn: (id: string) => client.call('sessionEnd', { params: { id } }),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['sessions'] }),
  });
  return (
    <section aria-labelledby="sessions">
      <h2 id="sessions">Signed in</h2>
      {end.isError && <Failure error={end.error} />}
      <ul className="plain">
        {(sessions.data ?? []).map((one) => (
          <li key={one.id} className="given">
            <span>
              <b>{one.isThis ? 'Here' : (one.from ?? 'Somewhere')}</b>{' '}
              <span className="q">
                since {clock(one.createdAt)}, seen <Ago time={one.lastSeenAt} suffix=" ago" />
              </span>
            </span>
            {!one.isThis && (
              <button type="button" className="bare-link" onClick={() => end.mutate(one.id)}>
                End it
              </button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Tokens(): JSX.Element {
  const cache = useQueryClient();
  const tokens = useQuery({ queryKey: ['tokens'], queryFn: () => client.call('tokenList') });
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
                {one.permissions === null ? 'all that you may' : one.permissions.join(', ')} for {one.scope}
                {one.expiresAt && `, until ${clock(one.expiresAt)}`}; used <Ago time={one.lastUsedAt} suffix=" ago" />
              </span>
            </span>
            <button type="button" className="bare-link" onClick={() => remove.mutate(one.id)}>
              End it
            </button>
          </li>
        ))}
        {tokens.data?.length === 0 && (
          <li className="q">
            None. Make one with <code className="mono">tessarion token create NAME</code>
          </li>
        )}
      </ul>
    </section>
  );
}
