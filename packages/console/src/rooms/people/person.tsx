import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { Colleague } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { Button, TextButton, TextLink } from '../../parts/button.js';
import { Confirm } from '../../parts/confirm.js';
import { Failure } from '../../parts/states.js';
import { client, useMe } from '../../session.js';
import { Grants } from './grants.js';
import { Invited } from './invite.js';

/** Somebody, what they may do, and the ends of that. */
export function Person({
  one,
  mayManage,
  isMe,
}: {
  readonly one: Colleague;
  readonly mayManage: boolean;
  readonly isMe: boolean;
}): JSX.Element {
  const cache = useQueryClient();
  const mayRead = useMe().data?.permissions.includes('journal.read') === true;
  const done = { onSuccess: () => cache.invalidateQueries({ queryKey: ['people'] }) };
  const [asked, setAsked] = useState<'end' | 'erase' | 'factor'>();
  const end = useMutation({
    mutationFn: () => client.call(one.state === 'ended' ? 'personReturn' : 'personEnd', { params: { id: one.id } }),
    ...done,
  });
  const again = useMutation({ mutationFn: () => client.call('personInviteAgain', { params: { id: one.id } }) });
  const erase = useMutation({ mutationFn: () => client.call('personErase', { params: { id: one.id } }), ...done });
  const factor = useMutation({ mutationFn: () => client.call('personFactorEnd', { params: { id: one.id } }), ...done });
  const failure = [end, again, erase, factor].find((act) => act.isError)?.error;
  if (again.data) return <Invited name={one.name} mail={one.mail} made={again.data} />;
  return (
    <div className="flex flex-col gap-8">
      <h2 className="mb-4 text-[14px]/24">{one.name}</h2>
      <p className="text-ink2">{one.mail}</p>
      {mayRead && <TextLink to={`/journal?actor=${encodeURIComponent(`person ${one.id}`)}`}>What they did</TextLink>}
      <Grants
        to={{ person: one.id }}
        roles={one.roles}
        none="No role: they see nothing."
        mayGive={mayManage && one.state !== 'ended'}
      />
      {failure !== undefined && <Failure error={failure} />}
      {mayManage && !isMe && (
        <div className="flex flex-wrap gap-8">
          {one.state !== 'ended' && (
            <Button onClick={() => again.mutate()}>
              {one.state === 'invited' ? 'Make a new link' : 'Let them choose a new password'}
            </Button>
          )}
          <Button
            danger={one.state !== 'ended'}
            onClick={() => (one.state === 'ended' ? end.mutate() : setAsked('end'))}
          >
            {one.state === 'ended' ? 'Let them in again' : 'End their access'}
          </Button>
          {one.state === 'active' && (
            <TextButton onClick={() => setAsked('factor')}>They lost their second factor</TextButton>
          )}
          {one.state === 'ended' && <TextButton onClick={() => setAsked('erase')}>Erase their name</TextButton>}
        </div>
      )}
      {factor.isSuccess && (
        <p className="text-ink2">They sign in with their password alone, until they set up another one.</p>
      )}
      <Confirm
        isOpen={asked === 'end'}
        close={() => setAsked(undefined)}
        title={`End the access of ${one.name}`}
        button="End their access"
        isDanger
        act={() => end.mutate()}
      >
        Their sessions, tokens and invitations end at once. What they did stays on record.
      </Confirm>
      <Confirm
        isOpen={asked === 'factor'}
        close={() => setAsked(undefined)}
        title={`Take away the second factor of ${one.name}`}
        button="Take it away"
        isDanger
        act={() => factor.mutate()}
      >
        Their sessions end. Be sure that it is they who ask.
      </Confirm>
      <Confirm
        isOpen={asked === 'erase'}
        close={() => setAsked(undefined)}
        title={`Erase the name of ${one.name}`}
        mustType={one.mail}
        button="Erase it for good"
        isDanger
        act={() => erase.mutate()}
      >
        Name and mail address go from everything that they did, also from the journal. It cannot be taken back; that
        somebody did it stays.
      </Confirm>
    </div>
  );
}
