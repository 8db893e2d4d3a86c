import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { BodyOf } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { client } from '../session.js';
import { FormEnd } from './form-end.js';
import { LinkOnce } from './link-once.js';
import { Failure } from './states.js';

/** Makes a link for somebody without an account. */
export function InviteGuest({
  site,
  looks,
  note,
  close,
}: {
  readonly site: string;
  readonly looks: BodyOf<'guestInvite'>['looks'];
  /** What is still to be done so that they see something; empty where nothing is. */
  readonly note: string;
  readonly close: () => void;
}): JSX.Element {
  const cache = useQueryClient();
  const [name, setName] = useState('');
  const [mail, setMail] = useState('');
  const [words, setWords] = useState('');
  const [days, setDays] = useState('14');
  const [passcode, setPasscode] = useState('');
  const invite = useMutation({
    mutationFn: () =>
      client.call('guestInvite', {
        params: { site },
        body: {
          name,
          words,
          looks,
          days: Number(days),
          ...(mail === '' ? {} : { mail }),
          ...(passcode === '' ? {} : { passcode }),
        },
      }),
    onSuccess: () => {
      void cache.invalidateQueries({ queryKey: ['request'] });
      void cache.invalidateQueries({ queryKey: ['guests', site] });
    },
  });
  if (invite.data)
    return (
      <>
        <LinkOnce title={`For ${invite.data.link.name}`} link={invite.data.url}>
          {invite.data.isMailed ? 'The link is mailed.' : 'Send them this link.'} It is not shown again.
        </LinkOnce>
        <button type="button" className="bare-link" onClick={close}>
          Done
        </button>
      </>
    );
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    invite.mutate();
  };
  return (
    <form className="stack" onSubmit={submit}>
      {note !== '' && <p className="wn-text">{note}</p>}
      <label>
        Name
        <input required autoFocus maxLength={100} value={name} onChange={(event) => setName(event.target.value)} />
      </label>
      <label>
        Mail address, if they are to be mailed
        <input type="email" value={mail} onChange={(event) => setMail(event.target.value)} />
      </label>
      <label>
        Words to go with it
        <textarea className="ta" rows={2} value={words} onChange={(event) => setWords(event.target.value)} />
      </label>
      <label>
        Days it holds
        <input type="number" min={1} max={90} required value={days} onChange={(event) => setDays(event.target.value)} />
      </label>
      <label>
        Passcode, if one is to be asked for
        <input
          minLength={6}
          autoComplete="off"
          value={passcode}
          onChange={(event) => setPasscode(event.target.value)}
        />
      </label>
      {invite.isError && <Failure error={invite.error} />}
      <FormEnd button="Make the link" isDisabled={invite.isPending} leave={close} />
    </form>
  );
}
