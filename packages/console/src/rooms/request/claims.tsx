import type { RequestDetail } from '@tessarion/contract';
import type { JSX } from 'react';
import { Link } from 'react-router';
import { TextButton } from '../../parts/button.js';
import type { Deeds } from './use-request.js';

/** What a request waits for, and who waits for what it has claimed. */
export function Claims({ request, deeds }: { readonly request: RequestDetail; readonly deeds: Deeds }): JSX.Element {
  const titleOf = (item: string): string => request.items.find((one) => one.id === item)?.title ?? item;
  const mayAct = request.acts.some((one) => one.act === 'revise' && one.allowed);
  return (
    <>
      {request.waitsFor.map((held) => (
        <p key={held.item} className="text-ink2">
          Waits for <b>{titleOf(held.item)}</b>, claimed by <Link to={`/requests/${held.request}`}>{held.title}</Link>{' '}
          of {held.author}
        </p>
      ))}
      {request.waitsFor.length > 0 && mayAct && (
        <TextButton disabled={deeds.isPending} onClick={() => deeds.mutate({ act: 'ask-over' })}>
          Ask for it to be handed over
        </TextButton>
      )}
      {request.wantedBy.map((wanted) => (
        <p key={wanted.item} className="text-ink2">
          <b>{titleOf(wanted.item)}</b> {wanted.isAsked ? 'is asked for' : 'is waited for'} by{' '}
          <Link to={`/requests/${wanted.request}`}>{wanted.title}</Link> of {wanted.author}{' '}
          {mayAct && (
            <TextButton disabled={deeds.isPending} onClick={() => deeds.mutate({ act: 'yield', items: [wanted.item] })}>
              Let it go first
            </TextButton>
          )}
        </p>
      ))}
    </>
  );
}
