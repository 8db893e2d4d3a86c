import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { RoleGiven } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { Failure } from '../../parts/states.js';
import { client } from '../../session.js';
import { ScopeField, scopeWords } from './scope-field.js';

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
      <label>
        Role
        <select value={role} onChange={(event) => set(event.target.value, scope)}>
          {(roles.data ?? []).map((one) => (
            <option key={one.name} value={one.name}>
              {one.title}
            </option>
          ))}
        </select>
      </label>
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
      <ul className="plain">
        {roles.map((given) => (
          <li key={given.id} className="given">
            <span>
              <b>{given.role}</b> <span className="q">for {scopeWords(given.scope)}</span>
              {byTeam(given) && <span className="qq"> by the team {given.team}</span>}
            </span>
            {mayGive && !byTeam(given) && (
              <button type="button" className="bare-link" onClick={() => take.mutate(given.id)}>
                Take back
              </button>
            )}
          </li>
        ))}
        {roles.length === 0 && <li className="q">{none}</li>}
      </ul>
      {failure !== undefined && <Failure error={failure} />}
      {mayGive && (
        <form
          className="stack"
          onSubmit={(event) => {
            event.preventDefault();
            give.mutate();
          }}
        >
          <GrantFields role={role} scope={scope} set={(...given) => setGrant(given)} />
          <button type="submit" className="btn">
            Give this role
          </button>
        </form>
      )}
    </>
  );
}
