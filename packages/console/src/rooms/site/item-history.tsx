import { useQuery } from '@tanstack/react-query';
import type { Environment, ItemVisit } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { Button, TextLink } from '../../parts/button.js';
import { Failure } from '../../parts/states.js';
import { clock } from '../../parts/words.js';
import { client } from '../../session.js';

/** Answers when a thing came to an environment: in which transfers, by which request, approved by whom. */
export function ItemHistory({ one }: { readonly one: Environment }): JSX.Element {
  const [typed, setTyped] = useState('');
  const [item, setItem] = useState('');
  const visits = useQuery({
    queryKey: ['item history', one.path, item],
    queryFn: () => client.call('itemHistory', { params: { site: one.site, environment: one.name }, query: { item } }),
    enabled: item !== '',
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    setItem(typed.trim());
  };
  return (
    <section className="border-t border-line px-16 py-12" aria-label="Where a thing came from">
      <form className="flex flex-wrap items-end gap-8" onSubmit={submit}>
        <label className="flex flex-[0_1_420px] flex-col gap-4">
          <span className="text-ink2">When did this come here?</span>
          <input
            placeholder="Title of a thing, or its id such as product:3"
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
          />
        </label>
        <Button type="submit" disabled={typed.trim() === ''}>
          Find out
        </Button>
      </form>
      {visits.isError && <Failure error={visits.error} />}
      {visits.data?.length === 0 && (
        <p className="border-b border-line py-8 wrap-anywhere text-ink2">
          No transfer has written it: it was here before, or was made here.
        </p>
      )}
      <ol>
        {(visits.data ?? []).map((visit) => (
          <Visit key={`${visit.transfer} ${visit.item}`} visit={visit} />
        ))}
      </ol>
    </section>
  );
}

function Visit({ visit }: { readonly visit: ItemVisit }): JSX.Element {
  return (
    <li className="border-b border-line py-8 wrap-anywhere">
      <p>
        <b>{visit.title}</b> {visit.change}, <TextLink to={`/transfers/${visit.transfer}`}>{clock(visit.at)}</TextLink>,{' '}
        {visit.kind} by {visit.person}
        {visit.undoneBy && (
          <>
            ; <TextLink to={`/transfers/${visit.undoneBy}`}>taken back</TextLink>
          </>
        )}
      </p>
      {visit.request && (
        <p className="text-ink2">
          <TextLink to={`/requests/${visit.request.id}`}>{visit.request.title}</TextLink> of {visit.request.author},{' '}
          {visit.approvedBy.length > 0 ? `approved by ${visit.approvedBy.join(', ')}` : 'approved by nobody'}
        </p>
      )}
      {visit.urgent && <p className="font-semibold text-warn">Urgent: {visit.urgent}</p>}
      {visit.override && <p className="font-semibold text-warn">Outside its window: {visit.override}</p>}
    </li>
  );
}
