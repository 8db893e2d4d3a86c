import { useMutation } from '@tanstack/react-query';
import type { JournalEntry } from '@tessarion/contract';
import { PERMISSIONS } from '@tessarion/core';
import { type JSX, useState } from 'react';
import { Link } from 'react-router';
import { Button } from '../parts/button.js';
import { Choice, Chosen, DayChoice, momentsOf } from '../parts/choice.js';
import { Older } from '../parts/older.js';
import { Room, RoomHead } from '../parts/room.js';
import { SaveAs } from '../parts/save-as.js';
import { Empty, Failure, Loading } from '../parts/states.js';
import { Figure, FigureHead, WideCell } from '../parts/table.js';
import { usePaged } from '../parts/use-paged.js';
import { useView } from '../parts/use-view.js';
import { clock, exact, number } from '../parts/words.js';
import { client, useMe } from '../session.js';

const OUTCOMES = ['done', 'refused', 'failed'] as const;

/** Everything that was done and refused, sealed in order. */
export function JournalRoom(): JSX.Element {
  const view = useView();
  const filter = {
    ...view.among(['thing', 'act', 'outcome', 'actor']),
    ...momentsOf(view.get('since'), view.get('until')),
  };
  const { pages, items: entries } = usePaged(['journal', filter], (page) =>
    client.call('journalList', { query: { ...filter, ...page } }),
  );
  const me = useMe();
  if (me.data?.permissions.includes('journal.read') === false)
    return (
      <Room>
        <h1 className="sr-only">Journal</h1>
        <Empty title="The journal is not open to you">
          Your role may not {PERMISSIONS['journal.read']}. Ask somebody who gives roles here.
        </Empty>
      </Room>
    );
  return (
    <main className="flex min-h-0 flex-1 flex-col bg-slab">
      <RoomHead>
        <h1 className="text-title">Journal</h1>
        <Seal />
        <span className="flex-1 max-desk:hidden" />
        {['thing', 'act', 'actor'].map((name) => (
          <Chosen key={name} name={name} view={view} />
        ))}
        <Choice
          name="Outcome"
          value={view.get('outcome')}
          options={OUTCOMES}
          choose={(value) => view.set('outcome', value)}
        />
        <DayChoice name="Since" value={view.get('since')} choose={(day) => view.set('since', day)} />
        <DayChoice name="Until" value={view.get('until')} choose={(day) => view.set('until', day)} />
        <SaveAs list="journal" filter={filter} />
      </RoomHead>
      {pages.isPending ? (
        <Loading what="Reading the journal" rows={14} />
      ) : pages.isLoadingError ? (
        <Failure error={pages.error} />
      ) : entries.length === 0 ? (
        <Empty title="Nothing fits">Every act by anyone is listed here, also what was refused.</Empty>
      ) : (
        <div className="flex-1 overflow-auto">
          <table>
            <thead>
              <tr>
                <FigureHead>Place</FigureHead>
                <th>At</th>
                <th>Who</th>
                <th>Act</th>
                <th>What</th>
                <th>More</th>
                <th>From</th>
              </tr>
            </thead>
            <tbody>
              {entries.map((one) => (
                <Row key={one.id} one={one} choose={view.set} />
              ))}
            </tbody>
          </table>
          <Older pages={pages} />
        </div>
      )}
    </main>
  );
}

/** Checks every seal when somebody asks. */
function Seal(): JSX.Element {
  const verify = useMutation({ mutationFn: () => client.call('journalVerify') });
  const verdict = verify.data;
  return (
    <>
      <Button disabled={verify.isPending} onClick={() => verify.mutate()}>
        {verify.isPending ? 'Checking every seal' : 'Check the seals'}
      </Button>
      <span className={verdict && verdict.faults.length > 0 ? 'font-semibold text-danger' : 'text-ink3'} role="status">
        {verify.isError
          ? 'The seals could not be checked.'
          : verdict
            ? verdict.faults.length > 0
              ? (verdict.faults[0]?.words ?? '')
              : `${number(verdict.checked)} entries are as they were written${verdict.unsealed > 0 ? `, ${number(verdict.unsealed)} wait for a seal` : ''}`
            : ''}
      </span>
    </>
  );
}

function Row({
  one,
  choose,
}: {
  readonly one: JournalEntry;
  readonly choose: (name: string, value: string) => void;
}): JSX.Element {
  const [isOpen, setOpen] = useState(false);
  const words = Object.entries(one.details)
    .filter(([, value]) => typeof value === 'string' || typeof value === 'number')
    .map(([name, value]) => `${name} ${value}`)
    .join(' · ');
  const { request, transfer } = one.details;
  return (
    <>
      <tr>
        <Figure className="text-ink3">{one.position ?? '–'}</Figure>
        <td className="text-ink2" title={exact(one.at)}>
          {clock(one.at)}
        </td>
        <td>
          <button
            type="button"
            className="hover:text-accent"
            onClick={() => choose('actor', one.actor)}
            title={one.actor}
          >
            {one.name ?? one.actor}
          </button>
        </td>
        <td>
          <button type="button" className="mono hover:text-accent" onClick={() => choose('act', one.act)}>
            {one.act}
          </button>
          {one.outcome !== 'done' && <span className="font-semibold text-danger"> {one.outcome}</span>}
        </td>
        <td>
          <button type="button" className="mono hover:text-accent" onClick={() => choose('thing', one.thing)}>
            {one.thing}
          </button>
        </td>
        <WideCell className="text-ink2">
          <button
            type="button"
            className="block max-w-full truncate hover:text-accent"
            aria-expanded={isOpen}
            onClick={() => setOpen(!isOpen)}
          >
            {words === '' ? '–' : words}
          </button>
        </WideCell>
        <td className="text-ink3">{one.from ?? ''}</td>
      </tr>
      {isOpen && (
        <tr>
          <td />
          <td colSpan={6} className="h-auto">
            <pre className="mt-4 mb-8 mono wrap-anywhere whitespace-pre-wrap">
              {JSON.stringify(one.details, null, 2)}
            </pre>
            {typeof request === 'string' && <Link to={`/requests/${request}`}>Change request {request}</Link>}{' '}
            {typeof transfer === 'string' && <Link to={`/transfers/${transfer}`}>Transfer {transfer}</Link>}
          </td>
        </tr>
      )}
    </>
  );
}
