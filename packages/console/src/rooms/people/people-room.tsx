import { useQuery } from '@tanstack/react-query';
import type { Colleague } from '@tessarion/contract';
import type { JSX } from 'react';
import { useSearchParams } from 'react-router';
import { Icon } from '../../parts/icon.js';
import { Failure, Loading } from '../../parts/states.js';
import { Ago } from '../../parts/words.js';
import { client, useMe } from '../../session.js';
import { useRoles } from './grants.js';
import { Invite } from './invite.js';
import { Person } from './person.js';
import { RoleForm, RoleView } from './role-form.js';
import { scopeWords } from './scope-field.js';
import { TeamForm, TeamView } from './team-form.js';

/** Who is here, what they may do, and where. */
export function PeopleRoom(): JSX.Element {
  const me = useMe();
  const people = useQuery({ queryKey: ['people'], queryFn: () => client.call('personList') });
  const [query, setQuery] = useSearchParams();
  const mayManage = me.data?.permissions.includes('people.manage') === true;
  const mayMake = me.data?.permissions.includes('role.manage') === true;
  const at = query.get('at') ?? '';
  const go = (to: string | undefined): void => setQuery(to === undefined ? {} : { at: to });
  const current = people.data?.find((one) => one.id === at);
  return (
    <main className="people">
      <section className="slab tableroom">
        <div className="tools">
          <h1>People & access</h1>
          <span className="sp" />
          {mayManage && (
            <button type="button" className="btn main" onClick={() => go('new')}>
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
                      <button type="button" className="cell-link" onClick={() => go(one.id)}>
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
        <Aside at={at} go={go} person={current} me={me.data?.id} mayManage={mayManage} mayMake={mayMake} />
      </aside>
    </main>
  );
}

const rolesOf = ({ roles }: Colleague): string =>
  roles.map((one) => `${one.role} for ${scopeWords(one.scope)}`).join(', ') || 'no role';

interface AsideProps {
  /** What is chosen: a person's id, `team NAME`, `role NAME`, or `new`, `new team`, `new role`. */
  readonly at: string;
  readonly go: (to: string | undefined) => void;
  readonly person: Colleague | undefined;
  readonly me: string | undefined;
  readonly mayManage: boolean;
  readonly mayMake: boolean;
}

function Aside({ at, go, person, me, mayManage, mayMake }: AsideProps): JSX.Element {
  const teams = useQuery({ queryKey: ['teams'], queryFn: () => client.call('teamList') });
  const roles = useRoles();
  const close = (): void => go(undefined);
  const team = teams.data?.find((one) => at === `team ${one.name}`);
  const role = roles.data?.find((one) => at === `role ${one.name}`);
  if (at === 'new' && mayManage) return <Invite />;
  if (at === 'new team' && mayManage) return <TeamForm done={(name) => go(name && `team ${name}`)} />;
  if (at === 'new role' && mayMake) return <RoleForm done={(name) => go(name && `role ${name}`)} />;
  if (person) return <Person key={person.id} one={person} mayManage={mayManage} isMe={person.id === me} />;
  if (team) return <TeamView key={team.name} team={team} mayManage={mayManage} close={close} />;
  if (role) return <RoleView key={role.name} role={role} mayManage={mayMake} close={close} />;
  return (
    <>
      <h2>Teams</h2>
      <ul className="plain">
        {(teams.data ?? []).map((one) => (
          <li key={one.name}>
            <button type="button" className="cell-link" onClick={() => go(`team ${one.name}`)}>
              <b>{one.title}</b>
            </button>
            <span className="q">{one.members.map((member) => member.name).join(', ') || 'nobody'}</span>
          </li>
        ))}
        {teams.data?.length === 0 && <li className="q">None yet. A lane can ask for somebody of a team.</li>}
      </ul>
      {mayManage && (
        <button type="button" className="bare-link" onClick={() => go('new team')}>
          Make a team
        </button>
      )}
      <h2>Roles</h2>
      <ul className="plain">
        {(roles.data ?? []).map((one) => (
          <li key={one.name} className="given">
            <button type="button" className="cell-link" onClick={() => go(`role ${one.name}`)}>
              <b>{one.title}</b>
            </button>
            <span className="qq">
              {one.permissions.length === 1 ? '1 permission' : `${one.permissions.length} permissions`}
              {one.isReady ? '' : ', made here'}
            </span>
          </li>
        ))}
      </ul>
      {mayMake && (
        <button type="button" className="bare-link" onClick={() => go('new role')}>
          Make a role
        </button>
      )}
    </>
  );
}
