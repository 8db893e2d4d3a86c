import { useMutation, useQuery } from '@tanstack/react-query';
import type { Forecast } from '@tessarion/contract';
import { wantedBy } from '@tessarion/core';
import { type JSX, useState } from 'react';
import { useNavigate } from 'react-router';
import { Button, TextButton } from '../../parts/button.js';
import { Field } from '../../parts/field.js';
import { Failure } from '../../parts/states.js';
import { useDraft } from '../../parts/use-draft.js';
import { client, useMe } from '../../session.js';
import { type Asked, ReviewersField, reviewersOf } from '../request/reviewers-field.js';

interface Lane {
  /** Whether it leads upward, and a change request may go over it. */
  readonly isUp: boolean;
  /** Whether a plain push is refused. */
  readonly asks: boolean;
  readonly words: string;
}

/** What the lane of a forecast asks for before anything goes over it. */
export function useLane(forecast: Forecast): Lane {
  const isUp = forecast.direction === 'up' && forecast.snapshot === null;
  const site = forecast.onto.split('/')[0] ?? '';
  const onto = forecast.onto.endsWith('/live') ? 'live' : 'staging';
  const lanes = useQuery({
    queryKey: ['lanes', site],
    queryFn: () => client.call('laneList', { params: { site } }),
    enabled: isUp,
  });
  const rule = lanes.data?.find((one) => one.onto === onto);
  if (!isUp || !rule) return { isUp, asks: false, words: '' };
  const parts = wantedBy(rule);
  return { isUp, asks: parts.length > 0, words: parts.length > 0 ? `Onto ${onto} needs ${parts.join(' and ')}` : '' };
}

/** Opens a change request for what the forecast would write, and asks for review. */
export function AskForm({ forecast, words }: { readonly forecast: Forecast; readonly words: string }): JSX.Element {
  const navigate = useNavigate();
  const me = useMe();
  const [title, setTitle] = useDraft('request title');
  const [asked, setAsked] = useState<readonly Asked[]>([]);
  const ask = useMutation({
    mutationFn: async (isDraft: boolean) => {
      const opened = await client.call('requestOpen', {
        body: { forecast: forecast.id, title, reviewers: reviewersOf(asked) },
      });
      return isDraft ? opened : client.call('requestAsk', { params: { id: opened.id } });
    },
    onSuccess: (request, isDraft) => {
      setTitle('');
      void navigate(`/requests/${request.id}${isDraft ? '?edit=yes' : ''}`);
    },
  });
  const send = (isDraft: boolean): void => {
    if (title.trim() !== '' && !ask.isPending) ask.mutate(isDraft);
  };
  return (
    <div className="mt-auto flex flex-col gap-8">
      {words !== '' && <p className="flex items-center gap-6 text-ink2">{words}</p>}
      <Field>
        What it is
        <input
          value={title}
          maxLength={200}
          placeholder={forecast.undoes === null ? 'Autumn collection, first part' : 'Take the autumn collection back'}
          onChange={(event) => setTitle(event.target.value)}
          onKeyDown={(event) => {
            // It stands within the form that confirms a push.
            if (event.key !== 'Enter') return;
            event.preventDefault();
            send(false);
          }}
        />
      </Field>
      <ReviewersField asked={asked} author={me.data?.id} choose={setAsked} />
      {ask.isError && <Failure error={ask.error} />}
      <Button main wide disabled={title.trim() === '' || ask.isPending} onClick={() => send(false)}>
        Ask for review
      </Button>
      <TextButton disabled={title.trim() === '' || ask.isPending} onClick={() => send(true)}>
        Keep it as a draft, and write more
      </TextButton>
    </div>
  );
}
