import { keepPreviousData, useQuery } from '@tanstack/react-query';
import type { Environment, ItemVisit } from '@tessarion/contract';
import { type JSX, useDeferredValue, useRef, useState } from 'react';
import { useKeys } from '../../keys.js';
import { type Place, useMay } from '../../may.js';
import { ButtonLink, TextLink } from '../../parts/button.js';
import { FilterField } from '../../parts/filter-field.js';
import { clock } from '../../parts/moments.js';
import { Failure } from '../../parts/states.js';
import { Ago } from '../../parts/words.js';
import { client } from '../../session.js';

const FEW = 12;
const MOST = 100;

/** What was written onto an environment, thing by thing: by whom, when, for which request, and the way back. */
export function ItemHistory({ one, place }: { readonly one: Environment; readonly place: Place }): JSX.Element {
  const [text, setText] = useState('');
  const [isWhole, setWhole] = useState(false);
  const find = useDeferredValue(text.trim());
  const limit = isWhole || find !== '' ? MOST : FEW;
  const visits = useQuery({
    queryKey: ['transfers', 'items', one.path, find, limit],
    queryFn: () =>
      client.call('itemHistory', {
        params: { site: one.site, environment: one.name },
        query: { limit, ...(find === '' ? {} : { find }) },
      }),
    placeholderData: keepPreviousData,
  });
  const found = visits.data ?? [];
  const list = useRef<HTMLOListElement>(null);
  useKeys([
    {
      key: 'w',
      does: 'To the last change that can be taken back',
      act: () => list.current?.querySelector<HTMLElement>('[data-undo]')?.focus(),
    },
  ]);
  return (
    <section className="border-t border-line" aria-label="What changed here">
      <div className="flex flex-wrap items-center gap-8 px-16 pt-12 pb-8">
        <h2 className="m-0">What changed here</h2>
        <span className="flex-1 max-desk:hidden" />
        <FilterField
          name="Find by a title that it has or had"
          placeholder="Title, now or before"
          does="Find what changed here"
          text={text}
          change={setText}
        />
      </div>
      {visits.isError && <Failure error={visits.error} />}
      {visits.isSuccess && found.length === 0 && (
        <p className="px-16 pb-12 text-ink2 wrap-anywhere">
          {find === ''
            ? `No transfer has written anything onto ${one.path} yet.`
            : `No transfer has written a thing called “${find}” onto ${one.path}: it was there before, was made there, or has another name.`}
        </p>
      )}
      <ol ref={list} className="border-line not-empty:border-t">
        {found.map((visit) => (
          <Visit key={`${visit.transfer} ${visit.item}`} visit={visit} one={one} place={place} />
        ))}
      </ol>
      {found.length === FEW && !isWhole && (
        <button
          type="button"
          className="px-16 py-8 underline underline-offset-2 hover:text-accent"
          onClick={() => setWhole(true)}
        >
          Show more
        </button>
      )}
    </section>
  );
}

function Visit({
  visit,
  one,
  place,
}: {
  readonly visit: ItemVisit;
  readonly one: Environment;
  readonly place: Place;
}): JSX.Element {
  const may = useMay();
  return (
    <li className="grid grid-cols-[64px_minmax(0,1.4fr)_minmax(0,1fr)_auto] items-baseline gap-12 border-b border-line px-16 py-6 max-desk:grid-cols-[minmax(0,1fr)_auto] max-desk:gap-y-0">
      <span className="text-ink3 text-small max-desk:hidden">{visit.itemKind}</span>
      <span className="min-w-0 wrap-anywhere">
        <b>{visit.title}</b> <span className="text-ink2">{visit.change}</span>
        {visit.formerTitle !== null && <span className="text-ink3"> · “{visit.formerTitle}” before</span>}
        {visit.request && (
          <span className="block text-ink2">
            <TextLink to={`/requests/${visit.request.id}`}>{visit.request.title}</TextLink> of {visit.request.author},{' '}
            {visit.approvedBy.length > 0 ? `approved by ${visit.approvedBy.join(', ')}` : 'approved by nobody'}
          </span>
        )}
        {visit.urgent && <span className="block font-semibold text-warn">Urgent: {visit.urgent}</span>}
        {visit.override && <span className="block font-semibold text-warn">Outside its window: {visit.override}</span>}
      </span>
      <span className="text-ink2" title={clock(visit.at)}>
        <TextLink to={`/transfers/${visit.transfer}`}>{visit.kind}</TextLink> by {visit.person},{' '}
        <Ago time={visit.at} suffix=" ago" />
        {visit.undoneBy && (
          <>
            ; <TextLink to={`/transfers/${visit.undoneBy}`}>taken back</TextLink>
          </>
        )}
      </span>
      <span className="text-right max-desk:col-2 max-desk:row-1">
        {visit.canUndo && (
          <ButtonLink
            small
            data-undo
            may={may('transferUndo', place)}
            to={`/sites/${one.site}/forecast?${new URLSearchParams({ undo: visit.transfer, onto: one.path })}`}
          >
            Take it back
          </ButtonLink>
        )}
      </span>
    </li>
  );
}
