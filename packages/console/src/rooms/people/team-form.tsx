import { useQuery } from '@tanstack/react-query';
import type { Team } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { PickList } from '../../parts/pick-list.js';
import { client } from '../../session.js';
import { Grants } from './grants.js';
import { NamedForm } from './named-form.js';

const membersText = (team: Team | undefined): string => team?.members.map((one) => one.name).join(', ') || 'nobody';

/** A team: who is in it, and what was given to it. */
export function TeamView({
  team,
  mayManage,
  close,
}: {
  readonly team: Team;
  readonly mayManage: boolean;
  readonly close: () => void;
}): JSX.Element {
  return (
    <div className="flex flex-col gap-8">
      {mayManage ? (
        <TeamForm team={team} done={close} />
      ) : (
        <>
          <h2>{team.title}</h2>
          <p className="text-ink2">{membersText(team)}</p>
        </>
      )}
      <h2 className="mt-8 mb-4 text-[14px]/24">What its members are by it</h2>
      <Grants to={{ team: team.name }} roles={team.roles} none="Nothing was given to it." mayGive={mayManage} />
    </div>
  );
}

/** Makes a team, or says who is in it. */
export function TeamForm({
  team,
  done,
}: {
  readonly team?: Team;
  readonly done: (name?: string) => void;
}): JSX.Element {
  const people = useQuery({ queryKey: ['people'], queryFn: () => client.call('personList') });
  const [members, setMembers] = useState<readonly string[]>(team?.members.map((one) => one.id) ?? []);
  return (
    <NamedForm
      what="team"
      thing={team}
      example="legal"
      there={membersText(team)}
      button={team ? 'Keep it so' : 'Make this team'}
      warning={`${team?.roles.length ? `What was given to it ends for ${membersText(team)}. ` : ''}Requests that ask it for review ask nobody in its place.`}
      caches={['people', 'teams']}
      save={(name, title, etag) =>
        client.call('teamSave', { params: { name }, body: { title, members: [...members] }, etag })
      }
      remove={(name) => client.call('teamRemove', { params: { name } })}
      done={done}
    >
      <PickList
        title="Members"
        one="member"
        nobody="nobody yet"
        all={(people.data ?? []).filter((one) => one.state !== 'ended')}
        chosen={members}
        choose={setMembers}
      />
    </NamedForm>
  );
}
