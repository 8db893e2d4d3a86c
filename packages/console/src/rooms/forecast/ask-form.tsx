import { useMutation, useQuery } from '@tanstack/react-query';
import type { Forecast, Me } from '@tessarion/contract';
import { type JSX, useState } from 'react';
import { useNavigate } from 'react-router';
import { Failure } from '../../parts/states.js';
import { client } from '../../session.js';

export interface Lane {
  /** Whether it leads upward, and a change request may go over it. */
  readonly isUp: boolean;
  /** Whether a plain push is refused. */
  readonly asks: boolean;
  readonly words: string;
}

/** What the lane of a forecast asks for before anything goes over it. */
export function useLane(forecast: Forecast): Lane {
  const isUp = forecast.direction === 'up' && forecast.undoes === null && forecast.snapshot === null;
  const site = forecast.onto.split('/')[0] ?? '';
  const onto = forecast.onto.endsWith('/live') ? 'live' : 'staging';
  const lanes = useQuery({
    queryKey: ['lanes', site],
    queryFn: () => client.call('laneList', { params: { site } }),
    enabled: isUp,
  });
  const rule = lanes.data?.find((one) => one.onto === onto);
  if (!isUp || !rule) return { isUp, asks: false, words: '' };
  const parts = [
    ...(rule.approvals > 0 ? [rule.approvals === 1 ? '1 approval' : `${rule.approvals} approvals`] : []),
    ...rule.teams.map((team) => `somebody of ${team}`),
  ];
  return { isUp, asks: parts.length > 0, words: parts.length > 0 ? `Onto ${onto} needs ${parts.join(' and ')}` : '' };
}

/** Opens a change request for what the forecast would write, and asks for review. */
export function AskForm({ forecast, words }: { readonly forecast: Forecast; readonly words: string }): JSX.Element {
  const navigate = useNavigate();
  const me = useQuery<Me>({ queryKey: ['me'], queryFn: () => client.call('me') });
  const people = useQuery({ queryKey: ['people'], queryFn: () => client.call('personList') });
  const teams = useQuery({ queryKey: ['teams'], queryFn: () => client.call('teamList') });
  const [title, setTitle] = useState('');
  const [reviewer, setReviewer] = useState('');
  const ask = useMutation({
    mutationFn: async () => {
      const [is, who = ''] = reviewer.split(' ');
      const opened = await client.call('requestOpen', {
        body: {
          forecast: forecast.id,
          title,
          ...(reviewer === '' ? {} : { reviewers: [is === 'team' ? { team: who } : { person: who }] }),
        },
      });
      return client.call('requestAsk', { params: { id: opened.id } });
    },
    onSuccess: (request) => void navigate(`/requests/${request.id}`),
  });
  const send = (): void => {
    if (title.trim() !== '' && !ask.isPending) ask.mutate();
  };
  return (
    <div className="ready-zone stack">
      {words !== '' && <p className="q">{words}</p>}
      <label>
        What it is
        <input
          value={title}
          placeholder="Autumn collection, first part"
          onChange={(event) => setTitle(event.target.value)}
          onKeyDown={(event) => {
            if (event.key !== 'Enter') return;
            event.preventDefault();
            send();
          }}
        />
      </label>
      <label>
        Reviewer
        <select value={reviewer} onChange={(event) => setReviewer(event.target.value)}>
          <option value="">nobody in particular</option>
          {(teams.data ?? []).map((one) => (
            <option key={one.name} value={`team ${one.name}`}>
              {one.title} (team)
            </option>
          ))}
          {(people.data ?? [])
            .filter((one) => one.state === 'active' && one.id !== me.data?.id)
            .map((one) => (
              <option key={one.id} value={`person ${one.id}`}>
                {one.name}
              </option>
            ))}
        </select>
      </label>
      {ask.isError && <Failure error={ask.error} />}
      <button type="button" className="btn main big" disabled={title.trim() === '' || ask.isPending} onClick={send}>
        Ask for review
      </button>
    </div>
  );
}
