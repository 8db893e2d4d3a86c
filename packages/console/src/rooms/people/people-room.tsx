import { useQuery } from '@tanstack/react-query';
import type { Colleague } from '@tessarion/contract';
import type { JSX } from 'react';
import { type Column, ListRoom, Opens } from '../../parts/list-room.js';
import { useOpen } from '../../parts/use-view.js';
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
  const [at, open] = useOpen();
  const mayManage = me.data?.permissions.includes('people.manage') === true;
  const mayMake = me.data?.permissions.includes('role.manage') === true;
  const current = people.data?.find((one) => one.id === at);
  const columns: readonly Column<Colleague>[] = [
    { head: 'Name', cell: (one) => <Named one={one} open={() => open(one.id)} /> },
    { head: 'Roles', look: () => 'wide-cell', whole: rolesOf, cell: rolesOf },
    { head: 'Teams', look: () => 'q', cell: ({ teams }) => teams.join(', ') },
    { head: 'Seen', look: () => 'q', cell: ({ lastSeenAt }) => <Ago time={lastSeenAt} suffix=" ago" /> },
  ];
  return (
    <ListRoom
      title="People & access"
      act={mayManage ? { words: 'Invite somebody', isMain: true } : undefined}
      read={{ ...people, what: 'Reading who is here', rows: 8 }}
      items={people.data ?? []}
      idOf={({ id }) => id}
      at={at}
      choose={open}
      columns={columns}
      empty={null}
    >
      <Aside
        at={at}
        go={(to) => open(to ?? '')}
        person={current}
        me={me.data?.id}
        mayManage={mayManage}
        mayMake={mayMake}
      />
    </ListRoom>
  );
}

function Named({ one, open }: { readonly one: Colleague; readonly open: () => void }): JSX.Element {
  return (
    <>
      <Opens open={open}>{one.name}</Opens> <span className="qq">{one.mail}</span>
      {one.state !== 'active' && (
        <span className={one.state === 'ended' ? 'q' : 'wn-text'}> · {one.state === 'ended' ? 'left' : 'invited'}</span>
      )}
    </>
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
