import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { GuestLink, RequestDetail } from '@tessarion/contract';
import type { JSX } from 'react';
import { useState } from 'react';
import { TextButton } from '../../parts/button.js';
import { InviteGuest } from '../../parts/invite-guest.js';
import { clock } from '../../parts/moments.js';
import { Failure } from '../../parts/states.js';
import { Ago } from '../../parts/words.js';
import { client, useMe } from '../../session.js';

/** Who looks at a request from outside, and what they said. */
export function Guests({ request }: { readonly request: RequestDetail }): JSX.Element | null {
  const me = useMe();
  const key = ['request', request.id, 'guests'];
  const guests = useQuery({
    queryKey: key,
    queryFn: () => client.call('guestList', { params: { site: request.site }, query: { request: request.id } }),
  });
  const [isInviting, setInviting] = useState(false);
  const isOver = ['delivered', 'undone', 'withdrawn'].includes(request.state);
  const mayInvite = me.data?.permissions.includes('guest.invite') === true && !isOver;
  if ((guests.data ?? []).length === 0 && !mayInvite) return null;
  return (
    <section>
      <h2 className="mt-12 mb-4 text-small text-ink3">Guests</h2>
      {guests.isError && <Failure error={guests.error} />}
      <ul>
        {(guests.data ?? []).map((one) => (
          <GuestLine key={one.id} one={one} request={request.id} mayEnd={mayInvite} />
        ))}
      </ul>
      {mayInvite && !isInviting && <TextButton onClick={() => setInviting(true)}>Invite a guest</TextButton>}
      {isInviting && (
        <InviteGuest
          site={request.site}
          looks={[{ request: request.id }]}
          note={request.preview === null ? 'There is no preview yet: make one, so that they see something.' : ''}
          close={() => setInviting(false)}
        />
      )}
    </section>
  );
}

function GuestLine({
  one,
  request,
  mayEnd,
}: {
  readonly one: GuestLink;
  readonly request: string;
  readonly mayEnd: boolean;
}): JSX.Element {
  const cache = useQueryClient();
  const end = useMutation({
    mutationFn: () => client.call('guestEnd', { params: { id: one.id } }),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['request', request] }),
  });
  const look = one.looks.find((each) => each.request === request);
  return (
    <li className="flex flex-col border-b border-line py-4">
      <b>{one.name}</b>
      <span className="text-ink2">
        {look?.yes
          ? look.yes.isCurrent
            ? 'said yes'
            : 'said yes to a former revision'
          : one.lastSeenAt
            ? 'has looked'
            : 'has not looked yet'}
        {one.choice !== null && one.choice === look?.position && ', chose this one'}
      </span>
      <span className="text-ink3">
        {one.isOpen ? (
          <>
            {one.lastSeenAt && (
              <>
                last here <Ago time={one.lastSeenAt} suffix=" ago" /> ·{' '}
              </>
            )}
            link until {clock(one.expiresAt)}{' '}
            {mayEnd && (
              <TextButton disabled={end.isPending} onClick={() => end.mutate()}>
                End the link
              </TextButton>
            )}
          </>
        ) : (
          'link ended'
        )}
      </span>
      {end.isError && <Failure error={end.error} />}
    </li>
  );
}
