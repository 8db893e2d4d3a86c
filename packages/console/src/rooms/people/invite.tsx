import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, type JSX, useState } from 'react';
import { Button } from '../../parts/button.js';
import { Field } from '../../parts/field.js';
import { LinkOnce } from '../../parts/link-once.js';
import { Failure } from '../../parts/states.js';
import { client } from '../../session.js';
import { GrantFields } from './grants.js';

/** Invites somebody, with a first role. */
export function Invite(): JSX.Element {
  const cache = useQueryClient();
  const [name, setName] = useState('');
  const [mail, setMail] = useState('');
  const [[role, scope], setGrant] = useState<readonly [string, string]>(['observer', 'everything']);
  const invite = useMutation({
    mutationFn: () => client.call('personInvite', { body: { name, mail, role, scope } }),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['people'] }),
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    invite.mutate();
  };
  if (invite.data) return <Invited name={invite.data.name} mail={invite.data.mail} made={invite.data} />;
  return (
    <form className="flex flex-col gap-8" onSubmit={submit}>
      <h2>Invite somebody</h2>
      <Field>
        Name
        <input required value={name} onChange={(event) => setName(event.target.value)} />
      </Field>
      <Field>
        Mail address
        <input type="email" required value={mail} onChange={(event) => setMail(event.target.value)} />
      </Field>
      <GrantFields role={role} scope={scope} set={(...given) => setGrant(given)} />
      {invite.isError && <Failure error={invite.error} />}
      <Button type="submit" main wide className="self-start" disabled={invite.isPending}>
        Invite {name || 'them'}
      </Button>
    </form>
  );
}

/** The link with which somebody comes in. */
export function Invited({
  name,
  mail,
  made,
}: {
  readonly name: string;
  readonly mail: string;
  readonly made: { readonly key: string; readonly isMailed: boolean };
}): JSX.Element {
  return (
    <LinkOnce title={`${name} may come`} link={`${location.origin}/invitation#${made.key}`}>
      {made.isMailed ? `This link is mailed to ${mail}.` : 'Send them this link.'} It works once, for seven days, and is
      not shown again.
    </LinkOnce>
  );
}
