import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { BodyOf } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { client } from '../session.js';
import { TextButton } from './button.js';
import { Field } from './field.js';
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
        <TextButton onClick={close}>Done</TextButton>
      </>
    );
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    invite.mutate();
  };
  return (
    <form className="flex flex-col gap-8" onSubmit={submit}>
      {note !== '' && <p className="font-semibold text-warn">{note}</p>}
      <Field>
        Name
        <input required autoFocus maxLength={100} value={name} onChange={(event) => setName(event.target.value)} />
      </Field>
      <Field>
        Mail address, if they are to be mailed
        <input type="email" value={mail} onChange={(event) => setMail(event.target.value)} />
      </Field>
      <Field>
        Words to go with it
        <textarea className="border-accent" rows={2} value={words} onChange={(event) => setWords(event.target.value)} />
      </Field>
      <Field>
        Days it holds
        <input type="number" min={1} max={90} required value={days} onChange={(event) => setDays(event.target.value)} />
      </Field>
      <Field>
        Passcode, if one is to be asked for
        <input
          minLength={6}
          autoComplete="off"
          value={passcode}
          onChange={(event) => setPasscode(event.target.value)}
        />
      </Field>
      {invite.isError && <Failure error={invite.error} />}
      <FormEnd button="Make the link" isDisabled={invite.isPending} leave={close} />
    </form>
  );
}
