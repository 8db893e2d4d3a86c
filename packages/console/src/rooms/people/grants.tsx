import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { RoleGiven } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { Button, TextButton } from '../../parts/button.js';
import { Field } from '../../parts/field.js';
import { Failure } from '../../parts/states.js';
import { client } from '../../session.js';
import { ScopeField, scopeWords } from './scope-field.js';

/** All roles, ready-made and own. */
export const useRoles = () => useQuery({ queryKey: ['roles'], queryFn: () => client.call('roleList') });

/** A role, and for what: the two choices by which access is given. */
export function GrantFields({
  role,
  scope,
  set,
}: {
  readonly role: string;
  readonly scope: string;
  readonly set: (role: string, scope: string) => void;
}): JSX.Element {
  const roles = useRoles();
  return (
    <>
      <Field>
        Role
        <select value={role} onChange={(event) => set(event.target.value, scope)}>
          {(roles.data ?? []).map((one) => (
            <option key={one.name} value={one.name}>
              {one.title}
            </option>
          ))}
        </select>
      </Field>
      <ScopeField scope={scope} choose={(chosen) => set(role, chosen)} />
    </>
  );
}

/** The roles that a person or a team has; given and taken back by who may. */
export function Grants({
  to,
  roles,
  none,
  mayGive,
}: {
  readonly to: { readonly person: string } | { readonly team: string };
  readonly roles: readonly RoleGiven[];
  /** What it means to have no role. */
  readonly none: string;
  readonly mayGive: boolean;
}): JSX.Element {
  const cache = useQueryClient();
  const done = {
    onSuccess: () =>
      Promise.all(['people', 'teams'].map((queryKey) => cache.invalidateQueries({ queryKey: [queryKey] }))),
  };
  const [[role, scope], setGrant] = useState<readonly [string, string]>(['observer', 'everything']);
  const give = useMutation({ mutationFn: () => client.call('roleGive', { body: { ...to, role, scope } }), ...done });
  const take = useMutation({ mutationFn: (id: string) => client.call('roleTake', { params: { id } }), ...done });
  const failure = [give, take].find((act) => act.isError)?.error;
  const byTeam = (given: RoleGiven): boolean => 'person' in to && given.team !== null;
  return (
    <>
      <ul>
        {roles.map((given) => (
          <li key={given.id} className="flex flex-row items-baseline justify-between gap-8 border-b border-line py-4">
            <span>
              <b>{given.role}</b> <span className="text-ink2">for {scopeWords(given.scope)}</span>
              {byTeam(given) && <span className="text-ink3"> by the team {given.team}</span>}
            </span>
            {mayGive && !byTeam(given) && (
              <TextButton className="flex-none self-baseline" onClick={() => take.mutate(given.id)}>
                Take back
              </TextButton>
            )}
          </li>
        ))}
        {roles.length === 0 && <li className="flex flex-col border-b border-line py-4 text-ink2">{none}</li>}
      </ul>
      {failure !== undefined && <Failure error={failure} />}
      {mayGive && (
        <form
          className="flex flex-col gap-8"
          onSubmit={(event) => {
            event.preventDefault();
            give.mutate();
          }}
        >
          <GrantFields role={role} scope={scope} set={(...given) => setGrant(given)} />
          <Button type="submit" className="self-start">
            Give this role
          </Button>
        </form>
      )}
    </>
  );
}
