import { useQuery } from '@tanstack/react-query';
import type { Environment, ItemVisit } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { Link } from 'react-router';
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
    <section className="whence" aria-label="Where a thing came from">
      <form className="inline-edit" onSubmit={submit}>
        <label>
          <span className="q">When did this come here?</span>
          <input
            placeholder="Title of a thing, or its id such as product:3"
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
          />
        </label>
        <button type="submit" className="btn" disabled={typed.trim() === ''}>
          Find out
        </button>
      </form>
      {visits.isError && <Failure error={visits.error} />}
      {visits.data?.length === 0 && (
        <p className="q">No transfer has written it: it was here before, or was made here.</p>
      )}
      <ol className="plain">
        {(visits.data ?? []).map((visit) => (
          <Visit key={`${visit.transfer} ${visit.item}`} visit={visit} />
        ))}
      </ol>
    </section>
  );
}

function Visit({ visit }: { readonly visit: ItemVisit }): JSX.Element {
  return (
    <li>
      <p>
        <b>{visit.title}</b> {visit.change},{' '}
        <Link className="u" to={`/transfers/${visit.transfer}`}>
          {clock(visit.at)}
        </Link>
        , {visit.kind} by {visit.person}
        {visit.undoneBy && (
          <>
            ;{' '}
            <Link className="u" to={`/transfers/${visit.undoneBy}`}>
              taken back
            </Link>
          </>
        )}
      </p>
      {visit.request && (
        <p className="q">
          <Link className="u" to={`/requests/${visit.request.id}`}>
            {visit.request.title}
          </Link>{' '}
          of {visit.request.author},{' '}
          {visit.approvedBy.length > 0 ? `approved by ${visit.approvedBy.join(', ')}` : 'approved by nobody'}
        </p>
      )}
      {visit.urgent && <p className="wn-text">Urgent: {visit.urgent}</p>}
      {visit.override && <p className="wn-text">Outside its window: {visit.override}</p>}
    </li>
  );
}
