import { useQuery } from '@tanstack/react-query';
import type { Colleague } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { TextButton } from '../../parts/button.js';
import { FilterField } from '../../parts/filter-field.js';
import { type Column, ListRoom, Opens } from '../../parts/list-room.js';
import { Empty } from '../../parts/states.js';
import { WIDE } from '../../parts/table.js';
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
  const [text, setText] = useState('');
  const mayManage = me.data?.permissions.includes('people.manage') === true;
  const mayMake = me.data?.permissions.includes('role.manage') === true;
  const current = people.data?.find((one) => one.id === at);
  const found = (people.data ?? []).filter((one) =>
    `${one.name} ${one.mail}`.toLowerCase().includes(text.trim().toLowerCase()),
  );
  const columns: readonly Column<Colleague>[] = [
    { head: 'Name', cell: (one) => <Named one={one} open={() => open(one.id)} /> },
    { head: 'Roles', look: () => `${WIDE} max-desk:order-none!`, whole: rolesOf, cell: rolesOf },
    { head: 'Teams', cell: ({ teams }) => teams.join(', ') },
    { head: 'Seen', cell: ({ lastSeenAt }) => <Ago time={lastSeenAt} suffix=" ago" /> },
  ];
  return (
    <ListRoom
      title="People & access"
      legend={<FilterField name="Find by name or mail" does="Find somebody" text={text} change={setText} />}
      act={mayManage ? { words: 'Invite somebody', isMain: true } : undefined}
      read={{ ...people, what: 'Reading who is here', rows: 8 }}
      items={found}
      idOf={({ id }) => id}
      at={at}
      choose={open}
      columns={columns}
      empty={<Empty title="Nobody fits">Clear the filter to see all.</Empty>}
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
      <Opens open={open}>{one.name}</Opens> <span className="text-ink3">{one.mail}</span>
      {one.state !== 'active' && (
        <span className={one.state === 'ended' ? 'text-ink2' : 'font-semibold text-warn'}>
          {' '}
          · {one.state === 'ended' ? 'left' : 'invited'}
        </span>
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
      <h2 className="mb-4 text-[14px]/24">Teams</h2>
      <ul>
        {(teams.data ?? []).map((one) => (
          <li className="flex flex-col border-b border-line py-4" key={one.name}>
            <button
              type="button"
              className="inline-flex h-28 items-center gap-6 whitespace-nowrap hover:text-accent"
              onClick={() => go(`team ${one.name}`)}
            >
              <b>{one.title}</b>
            </button>
            <span className="text-ink2">{one.members.map((member) => member.name).join(', ') || 'nobody'}</span>
          </li>
        ))}
        {teams.data?.length === 0 && (
          <li className="flex flex-col border-b border-line py-4 text-ink2">
            None yet. A lane can ask for somebody of a team.
          </li>
        )}
      </ul>
      {mayManage && <TextButton onClick={() => go('new team')}>Make a team</TextButton>}
      <h2 className="mt-8 mb-4 text-[14px]/24">Roles</h2>
      <ul>
        {(roles.data ?? []).map((one) => (
          <li key={one.name} className="flex flex-row items-baseline justify-between gap-8 border-b border-line py-4">
            <button
              type="button"
              className="inline-flex h-28 items-center gap-6 whitespace-nowrap hover:text-accent"
              onClick={() => go(`role ${one.name}`)}
            >
              <b>{one.title}</b>
            </button>
            <span className="text-ink3">
              {one.permissions.length === 1 ? '1 permission' : `${one.permissions.length} permissions`}
              {one.isReady ? '' : ', made here'}
            </span>
          </li>
        ))}
      </ul>
      {mayMake && <TextButton onClick={() => go('new role')}>Make a role</TextButton>}
    </>
  );
}
