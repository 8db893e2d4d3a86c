import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { GuestLink, Site } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { Link } from 'react-router';
import { Button, TextButton } from '../../parts/button.js';
import { Tick } from '../../parts/field.js';
import { InviteGuest } from '../../parts/invite-guest.js';
import { clock } from '../../parts/moments.js';
import { Failure } from '../../parts/states.js';
import { client, useMe } from '../../session.js';

/** Who looks at a site's copies and requests from outside, what they said of copies, and which they chose. */
export function SiteGuests({ site }: { readonly site: Site }): JSX.Element | null {
  const me = useMe();
  const guests = useQuery({
    queryKey: ['guests', site.name],
    queryFn: () => client.call('guestList', { params: { site: site.name }, query: {} }),
  });
  const copies = site.environments.filter((one) => one.kind !== 'live' && one.state !== 'working');
  const [chosen, setChosen] = useState<readonly string[]>();
  const mayInvite = me.data?.permissions.includes('guest.invite') === true && copies.length > 0;
  const open = (guests.data ?? []).filter((one) => one.isOpen);
  if (open.length === 0 && !mayInvite) return null;
  const toggle = (path: string): void =>
    setChosen((now = []) => (now.includes(path) ? now.filter((one) => one !== path) : [...now, path]));
  return (
    <section className="bg-slab px-16 py-12 max-desk:px-12" aria-label="Guests">
      <h2>
        Guests <span className="text-ink3">{open.length === 0 ? '' : open.length}</span>
      </h2>
      {guests.isError && <Failure error={guests.error} />}
      {open.map((one) => (
        <Guest key={one.id} one={one} mayAnswer={me.data?.permissions.includes('request.comment') === true} />
      ))}
      {mayInvite && chosen === undefined && (
        <TextButton onClick={() => setChosen(copies.length === 1 ? [copies[0]?.path ?? ''] : [])}>
          Show a copy to a guest
        </TextButton>
      )}
      {chosen !== undefined && (
        <>
          <fieldset className="my-8 flex flex-col gap-4">
            <legend className="text-ink2">What they look at; of several they choose one</legend>
            {copies.map((one) => (
              <Tick key={one.path}>
                <input type="checkbox" checked={chosen.includes(one.path)} onChange={() => toggle(one.path)} />
                <span>
                  {one.name} <span className="text-ink3">{one.description ?? ''}</span>
                </span>
              </Tick>
            ))}
          </fieldset>
          {chosen.length > 0 ? (
            <InviteGuest
              site={site.name}
              looks={chosen.map((environment) => ({ environment }))}
              note=""
              close={() => setChosen(undefined)}
            />
          ) : (
            <TextButton onClick={() => setChosen(undefined)}>Leave it</TextButton>
          )}
        </>
      )}
    </section>
  );
}

function Guest({ one, mayAnswer }: { readonly one: GuestLink; readonly mayAnswer: boolean }): JSX.Element {
  const chosen = one.looks.find((look) => look.position === one.choice);
  return (
    <div className="border-b border-line py-6">
      <p className="wrap-anywhere">
        <b>{one.name}</b>{' '}
        <span className="text-ink2">
          {chosen ? `chose ${chosen.title}` : one.lastSeenAt ? 'has looked' : 'has not looked yet'}
        </span>
      </p>
      <p className="wrap-anywhere text-ink3">
        {one.looks.map((look, i) => (
          <span key={look.position}>
            {i > 0 && ', '}
            {look.request ? <Link to={`/requests/${look.request}`}>{look.title}</Link> : look.title}
          </span>
        ))}{' '}
        · until {clock(one.expiresAt)}
      </p>
      {one.threads.map((thread) => (
        <article key={thread.id} className="mt-4 mb-8 block max-w-760 border-l-3 border-line py-4 pl-12">
          {thread.comments.map((comment) => (
            <p className="wrap-anywhere" key={comment.at}>
              <b>{comment.by}</b> {comment.text}
            </p>
          ))}
          {mayAnswer && <Answer guest={one.id} site={one.site} thread={thread.id} />}
        </article>
      ))}
    </div>
  );
}

function Answer({
  guest,
  site,
  thread,
}: {
  readonly guest: string;
  readonly site: string;
  readonly thread: string;
}): JSX.Element {
  const cache = useQueryClient();
  const [text, setText] = useState('');
  const answer = useMutation({
    mutationFn: () => client.call('guestAnswer', { params: { id: guest }, body: { thread, text } }),
    onSuccess: () => {
      setText('');
      return cache.invalidateQueries({ queryKey: ['guests', site] });
    },
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (text.trim() !== '') answer.mutate();
  };
  return (
    <form className="flex flex-wrap items-center gap-6" onSubmit={submit}>
      <input
        className="min-w-200 flex-1"
        aria-label="Answer"
        placeholder="Answer"
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      {text !== '' && (
        <Button type="submit" small disabled={answer.isPending}>
          Answer
        </Button>
      )}
      {answer.isError && <Failure error={answer.error} />}
    </form>
  );
}
