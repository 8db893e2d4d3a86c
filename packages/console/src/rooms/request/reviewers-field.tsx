import { useQuery } from '@tanstack/react-query';
import type { JSX } from 'react';
import { PickList } from '../../parts/pick-list.js';
import { client } from '../../session.js';

/** Who is asked, as `person ID` or `team NAME`. */
export type Asked = string;

/** Those who are asked, as the interface wants them. */
export const reviewersOf = (asked: readonly Asked[]) =>
  asked.map((one) => {
    const [is, who = ''] = one.split(' ');
    return is === 'team' ? { team: who } : { person: who };
  });

/** Chooses people and teams as reviewers; nobody reviews their own request. */
export function ReviewersField({
  asked,
  author,
  choose,
}: {
  readonly asked: readonly Asked[];
  readonly author: string | undefined;
  readonly choose: (asked: Asked[]) => void;
}): JSX.Element {
  const people = useQuery({ queryKey: ['people'], queryFn: () => client.call('personList') });
  const teams = useQuery({ queryKey: ['teams'], queryFn: () => client.call('teamList') });
  const all = [
    ...(teams.data ?? []).map((one) => ({ id: `team ${one.name}`, name: `${one.title} (team)` })),
    ...(people.data ?? [])
      .filter((one) => one.state === 'active' && one.id !== author)
      .map((one) => ({ id: `person ${one.id}`, name: one.name })),
  ];
  return (
    <PickList title="Reviewers" one="reviewer" nobody="nobody in particular" all={all} chosen={asked} choose={choose} />
  );
}
