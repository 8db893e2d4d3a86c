import { useMutation, useQuery } from '@tanstack/react-query';
import type { JournalEntry } from '@tessarion/contract';
import { actWords, PERMISSIONS } from '@tessarion/core';
import { type JSX, useState } from 'react';
import { Button, TextLink } from '../parts/button.js';
import { Choice, Chosen, DayChoice, momentsOf } from '../parts/choice.js';
import { FindInView } from '../parts/filter-field.js';
import { FindChoice } from '../parts/find-choice.js';
import { clock, exact } from '../parts/moments.js';
import { Older } from '../parts/older.js';
import { Room, RoomHead } from '../parts/room.js';
import { SaveAs } from '../parts/save-as.js';
import { SavedViews } from '../parts/saved-views.js';
import { Empty, Failure, Loading } from '../parts/states.js';
import { WideCell } from '../parts/table.js';
import { usePaged } from '../parts/use-paged.js';
import { useView } from '../parts/use-view.js';
import { number } from '../parts/words.js';
import { client, useMe } from '../session.js';

const OUTCOMES = ['done', 'refused', 'failed'] as const;

/** Everything that was done and refused, sealed in order. */
export function JournalRoom(): JSX.Element {
  const view = useView();
  const filter = {
    ...view.among(['thing', 'act', 'outcome', 'actor', 'find']),
    ...momentsOf(view.get('since'), view.get('until')),
  };
  const { pages, items: entries } = usePaged(['journal', filter], (page) =>
    client.call('journalList', { query: { ...filter, ...page } }),
  );
  const people = useQuery({ queryKey: ['people', 'people'], queryFn: () => client.call('personList') });
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
        <SavedViews room="journal" />
        <span className="flex-1 max-desk:hidden" />
        {['thing', 'act'].map((name) => (
          <Chosen key={name} name={name} view={view} />
        ))}
        <FindInView view={view} name="Find by thing, person or details" placeholder="Thing, person, details" />
        <FindChoice
          name="Person"
          isFilter
          none="all"
          value={view.get('actor')}
          choose={(actor) => view.set('actor', actor)}
          options={(people.data ?? []).map(({ id, name, mail }) => ({
            value: `person ${id}`,
            words: name,
            kind: mail,
          }))}
        />
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
                <th>At</th>
                <th>What happened</th>
                <th>From</th>
                <th>
                  <span className="sr-only">Details</span>
                </th>
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

/** Where what an entry is about is shown. */
function pathTo({ thing, details }: JournalEntry): string | undefined {
  if (typeof details.request === 'string') return `/requests/${details.request}`;
  if (/^t-[0-9a-z]{10}$/.test(thing)) return `/transfers/${thing}`;
  if (/^p-[0-9a-z]{10}$/.test(thing)) return `/people?at=${thing}`;
  const [kind = '', name = ''] = thing.split(' ');
  if (kind === 'server') return `/servers?at=${name}`;
  if (kind === 'profile') return `/profiles/${name}`;
  const [site, environment] = thing.split('/');
  if (!/^[a-z][a-z0-9-]*(\/[a-z][a-z0-9-]*)?$/.test(thing)) return undefined;
  return environment === undefined ? `/sites/${site}` : `/sites/${site}?at=${environment}`;
}

function Row({
  one,
  choose,
}: {
  readonly one: JournalEntry;
  readonly choose: (name: string, value: string) => void;
}): JSX.Element {
  const [isOpen, setOpen] = useState(false);
  const [before, hasThing, after] = actWords(one.act, one.details.says);
  const to = pathTo(one);
  const called = one.called ?? one.thing;
  const { transfer } = one.details;
  return (
    <>
      <tr>
        <td className="w-px text-ink2" title={exact(one.at)}>
          {clock(one.at)}
        </td>
        <WideCell className="w-full!">
          <b>{one.name ?? one.actor}</b> {before}{' '}
          {hasThing &&
            (to === undefined ? <span className="mono">{called}</span> : <TextLink to={to}>{called}</TextLink>)}{' '}
          {after}
          {one.called !== null && one.thing !== '' && one.called !== one.thing && !one.thing.startsWith('p-') && (
            <span className="text-ink3"> · {one.thing}</span>
          )}
          {one.outcome !== 'done' && <span className="font-semibold text-danger"> · {one.outcome}</span>}
        </WideCell>
        <td className="w-px text-ink3">{one.from ?? ''}</td>
        <td className="w-px">
          <button
            type="button"
            className="min-h-24 text-ink2 underline underline-offset-2 hover:text-accent"
            aria-expanded={isOpen}
            aria-label={`${isOpen ? 'Less' : 'More'} of what ${one.name ?? one.actor} did, ${clock(one.at)}`}
            onClick={() => setOpen(!isOpen)}
          >
            {isOpen ? 'Less' : 'More'}
          </button>
        </td>
      </tr>
      {isOpen && (
        <tr>
          <td colSpan={4} className="h-auto bg-bed">
            <div className="flex flex-wrap items-center gap-8 py-8">
              <Button small onClick={() => choose('actor', one.actor)}>
                Only {one.name ?? one.actor}
              </Button>
              <Button small onClick={() => choose('act', one.act)}>
                Only {one.act}
              </Button>
              {one.thing !== '' && (
                <Button small onClick={() => choose('thing', one.thing)}>
                  Only {one.thing}
                </Button>
              )}
              {typeof transfer === 'string' && <TextLink to={`/transfers/${transfer}`}>Transfer {transfer}</TextLink>}
              <span className="text-ink3">
                {one.position === null ? 'waits for its seal' : `sealed at place ${number(one.position)}`}
              </span>
            </div>
            <pre className="mono wrap-anywhere pb-8 whitespace-pre-wrap">{JSON.stringify(one.details, null, 2)}</pre>
          </td>
        </tr>
      )}
    </>
  );
}
