import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Colleague, Me } from '@tessarion/contract';
import { PERMISSIONS, type Permission } from '@tessarion/core';
import { type FormEvent, type JSX, useState } from 'react';
import { useSearchParams } from 'react-router';
import { Confirm } from '../parts/confirm.js';
import { Icon } from '../parts/icon.js';
import { Failure, Loading } from '../parts/states.js';
import { Ago } from '../parts/words.js';
import { client, useSites } from '../session.js';

/** Who is here, what they may do, and where. */
export function PeopleRoom(): JSX.Element {
  const me = useQuery<Me>({ queryKey: ['me'], queryFn: () => client.call('me') });
  const people = useQuery({ queryKey: ['people'], queryFn: () => client.call('personList') });
  const teams = useQuery({ queryKey: ['teams'], queryFn: () => client.call('teamList') });
  const [query, setQuery] = useSearchParams();
  const mayManage = me.data?.permissions.includes('people.manage') === true;
  const current = people.data?.find((one) => one.id === query.get('at'));
  return (
    <main className="people">
      <section className="slab tableroom">
        <div className="tools">
          <h1>People & access</h1>
          <span className="sp" />
          {mayManage && (
            <button type="button" className="btn main" onClick={() => setQuery({ at: 'new' })}>
              <Icon name="plus" />
              Invite somebody
            </button>
          )}
        </div>
        {people.isPending ? (
          <Loading what="Reading who is here" rows={8} />
        ) : people.isError ? (
          <Failure error={people.error} />
        ) : (
          <div className="scroll">
            <table>
              <thead>
                <tr>
                  <th>Name</th>
                  <th>Roles</th>
                  <th>Teams</th>
                  <th>Seen</th>
                </tr>
              </thead>
              <tbody>
                {people.data.map((one) => (
                  <tr key={one.id} className={one === current ? 'cur' : ''}>
                    <td>
                      <button type="button" className="cell-link" onClick={() => setQuery({ at: one.id })}>
                        <b>{one.name}</b>
                      </button>{' '}
                      <span className="qq">{one.mail}</span>
                      {one.state !== 'active' && (
                        <span className={one.state === 'ended' ? 'q' : 'wn-text'}>
                          {' '}
                          · {one.state === 'ended' ? 'left' : 'invited'}
                        </span>
                      )}
                    </td>
                    <td className="wide-cell" title={rolesOf(one)}>
                      {rolesOf(one)}
                    </td>
                    <td className="q">{one.teams.join(', ')}</td>
                    <td className="q">
                      <Ago time={one.lastSeenAt} suffix=" ago" />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </section>
      <aside tabIndex={0} aria-label="More" className="slab people-aside">
        {query.get('at') === 'new' && mayManage ? (
          <Invite />
        ) : current ? (
          <Person key={current.id} one={current} mayManage={mayManage} isMe={current.id === me.data?.id} />
        ) : (
          <>
            <h2>Teams</h2>
            <ul className="plain">
              {(teams.data ?? []).map((team) => (
                <li key={team.name}>
                  <b>{team.title}</b>
                  <span className="q">{team.members.map((one) => one.name).join(', ') || 'nobody'}</span>
                </li>
              ))}
            </ul>
            <Roles />
          </>
        )}
      </aside>
    </main>
  );
}

const scopeWords = (scope: string): string =>
  scope === 'everything' ? 'everything' : scope.startsWith('client:') ? scope.slice('client:'.length) : scope;

const rolesOf = ({ roles }: Colleague): string =>
  roles.map((one) => `${one.role} for ${scopeWords(one.scope)}`).join(', ') || 'no role';

function Roles(): JSX.Element {
  const roles = useQuery({ queryKey: ['roles'], queryFn: () => client.call('roleList') });
  return (
    <>
      <h2>Roles</h2>
      {(roles.data ?? []).map((role) => (
        <details key={role.name}>
          <summary>
            <b>{role.title}</b>
            {!role.isReady && <span className="qq"> made here</span>}
          </summary>
          <ul className="plain may">
            {role.permissions.map((permission: Permission) => (
              <li key={permission}>
                <span>{PERMISSIONS[permission]}</span>
                <span className="qq mono">{permission}</span>
              </li>
            ))}
          </ul>
        </details>
      ))}
    </>
  );
}

/** A role, and for what: the two choices by which access is given. */
function GrantFields({
  role,
  scope,
  set,
}: {
  readonly role: string;
  readonly scope: string;
  readonly set: (role: string, scope: string) => void;
}): JSX.Element {
  const roles = useQuery({ queryKey: ['roles'], queryFn: () => client.call('roleList') });
  const sites = useSites();
  const clients = [...new Set((sites.data ?? []).map((one) => one.client))].sort();
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
      <label>
        For
        <select value={scope} onChange={(event) => set(role, event.target.value)}>
          <option value="everything">everything</option>
          <optgroup label="A client">
            {clients.map((one) => (
              <option key={one} value={`client:${one}`}>
                {one}
              </option>
            ))}
          </optgroup>
          <optgroup label="A site">
            {(sites.data ?? []).map((one) => (
              <option key={one.name}>{one.name}</option>
            ))}
          </optgroup>
          <optgroup label="An environment">
            {(sites.data ?? []).flatMap((one) =>
              one.environments.map((each) => <option key={each.path}>{each.path}</option>),
            )}
          </optgroup>
        </select>
      </label>
    </>
  );
}

function Invite(): JSX.Element {
  const cache = useQueryClient();
  const [name, setName] = useState('');
  const [mail, setMail] = useState('');
  const [[role, scope], setGrant] = useState(['observer', 'everything']);
  const invite = useMutation({
    mutationFn: () =>
      client.call('personInvite', { body: { name, mail, role: role as string, scope: scope as string } }),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['people'] }),
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    invite.mutate();
  };
  if (invite.data) return <KeyOnce name={invite.data.name} secret={invite.data.key} />;
  return (
    <form className="stack" onSubmit={submit}>
      <h2>Invite somebody</h2>
      <label>
        Name
        <input required value={name} onChange={(event) => setName(event.target.value)} />
      </label>
      <label>
        Mail address
        <input type="email" required value={mail} onChange={(event) => setMail(event.target.value)} />
      </label>
      <GrantFields role={role as string} scope={scope as string} set={(...given) => setGrant(given)} />
      {invite.isError && <Failure error={invite.error} />}
      <button type="submit" className="btn main big" disabled={invite.isPending}>
        Invite {name || 'them'}
      </button>
    </form>
  );
}

/** A link that is shown once. */
function KeyOnce({ name, secret }: { readonly name: string; readonly secret: string }): JSX.Element {
  const link = `${location.origin}/invitation#${secret}`;
  return (
    <div className="stack">
      <h2>{name} may come</h2>
      <p className="q">Send them this link. It works once, for seven days, and is not shown again.</p>
      <textarea
        className="mono"
        readOnly
        rows={3}
        value={link}
        aria-label="Link"
        onFocus={(event) => event.target.select()}
      />
      <button type="button" className="btn" onClick={() => void navigator.clipboard.writeText(link)}>
        Copy the link
      </button>
    </div>
  );
}

function Person({
  one,
  mayManage,
  isMe,
}: {
  readonly one: Colleague;
  readonly mayManage: boolean;
  readonly isMe: boolean;
}): JSX.Element {
  const cache = useQueryClient();
  const done = { onSuccess: () => cache.invalidateQueries({ queryKey: ['people'] }) };
  const [[role, scope], setGrant] = useState(['observer', 'everything']);
  const [isEnding, setEnding] = useState(false);
  const give = useMutation({
    mutationFn: () =>
      client.call('roleGive', { body: { person: one.id, role: role as string, scope: scope as string } }),
    ...done,
  });
  const take = useMutation({ mutationFn: (id: string) => client.call('roleTake', { params: { id } }), ...done });
  const end = useMutation({
    mutationFn: () => client.call(one.state === 'ended' ? 'personReturn' : 'personEnd', { params: { id: one.id } }),
    ...done,
  });
  const again = useMutation({ mutationFn: () => client.call('personInviteAgain', { params: { id: one.id } }) });
  const failure = [give, take, end, again].find((act) => act.isError)?.error;
  if (again.data) return <KeyOnce name={one.name} secret={again.data.key} />;
  return (
    <div className="stack">
      <h2>{one.name}</h2>
      <p className="q">{one.mail}</p>
      <ul className="plain">
        {one.roles.map((given) => (
          <li key={given.id} className="given">
            <span>
              <b>{given.role}</b> <span className="q">for {scopeWords(given.scope)}</span>
              {given.team && <span className="qq"> by the team {given.team}</span>}
            </span>
            {mayManage && given.team === null && (
              <button type="button" className="bare-link" onClick={() => take.mutate(given.id)}>
                Take back
              </button>
            )}
          </li>
        ))}
        {one.roles.length === 0 && <li className="q">No role: they see nothing.</li>}
      </ul>
      {failure !== undefined && <Failure error={failure} />}
      {mayManage && one.state !== 'ended' && (
        <form
          className="stack"
          onSubmit={(event) => {
            event.preventDefault();
            give.mutate();
          }}
        >
          <GrantFields role={role as string} scope={scope as string} set={(...given) => setGrant(given)} />
          <button type="submit" className="btn">
            Give this role
          </button>
        </form>
      )}
      {mayManage && !isMe && (
        <div className="more-acts">
          {one.state !== 'ended' && (
            <button type="button" className="btn" onClick={() => again.mutate()}>
              {one.state === 'invited' ? 'Make a new link' : 'Let them choose a new password'}
            </button>
          )}
          <button
            type="button"
            className={`btn ${one.state === 'ended' ? '' : 'danger'}`}
            onClick={() => (one.state === 'ended' ? end.mutate() : setEnding(true))}
          >
            {one.state === 'ended' ? 'Let them in again' : 'End their access'}
          </button>
        </div>
      )}
      <Confirm
        isOpen={isEnding}
        close={() => setEnding(false)}
        title={`End the access of ${one.name}`}
        button="End their access"
        isDanger
        act={() => end.mutate()}
      >
        Their sessions, tokens and invitations end at once. What they did stays on record.
      </Confirm>
    </div>
  );
}
