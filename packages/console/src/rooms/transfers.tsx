import type { Transfer } from '@tessarion/contract';
import { Fragment, type JSX } from 'react';
import { Link } from 'react-router';
import { Choice, Chosen, DayChoice, momentsOf } from '../parts/choice.js';
import { Icon } from '../parts/icon.js';
import { clock, dayOf, timeOfDay } from '../parts/moments.js';
import { Older } from '../parts/older.js';
import { RoomHead } from '../parts/room.js';
import { SaveAs } from '../parts/save-as.js';
import { SavedViews } from '../parts/saved-views.js';
import { SiteChoice } from '../parts/site-choice.js';
import { Empty, Failure, Loading } from '../parts/states.js';
import { Figure, FigureHead, WideCell } from '../parts/table.js';
import { usePaged, useRowKeys } from '../parts/use-paged.js';
import { useView } from '../parts/use-view.js';
import { duration } from '../parts/words.js';
import { client } from '../session.js';

const KINDS = [
  'push',
  'pull',
  'clone',
  'preview',
  'reset',
  'restore',
  'undo',
  'rename',
  'snapshot',
  'remove',
  'adopt',
  'leave',
] as const;
const STATES = ['waiting', 'running', 'done', 'failed', 'stopped', 'undone'] as const;

/** Every push and pull, newest first. */
export function TransfersRoom(): JSX.Element {
  const view = useView();
  const filter = {
    ...view.among(['site', 'kind', 'state', 'person']),
    ...momentsOf(view.get('since'), view.get('until')),
  };
  const { pages, items } = usePaged(['transfers', filter], (page) =>
    client.call('transferList', { query: { ...filter, ...page } }),
  );
  const at = useRowKeys(items, view, (id) => `/transfers/${id}`);
  const choice = (name: string, options: readonly string[]): JSX.Element => (
    <Choice
      name={`${name[0]?.toUpperCase()}${name.slice(1)}`}
      value={view.get(name)}
      options={options}
      choose={(value) => view.set(name, value)}
    />
  );
  return (
    <main className="flex min-h-0 flex-1 flex-col bg-slab">
      <RoomHead>
        <h1 className="text-title">Transfers</h1>
        <Chosen name="person" view={view} />
        <SavedViews room="transfers" />
        <span className="flex-1 max-desk:hidden" />
        <SiteChoice view={view} />
        {choice('kind', KINDS)}
        {choice('state', STATES)}
        <DayChoice name="Since" value={view.get('since')} choose={(day) => view.set('since', day)} />
        <DayChoice name="Until" value={view.get('until')} choose={(day) => view.set('until', day)} />
        <SaveAs list="transfers" filter={filter} />
      </RoomHead>
      {pages.isPending ? (
        <Loading what="Reading the transfers" rows={12} />
      ) : pages.isLoadingError ? (
        <Failure error={pages.error} />
      ) : items.length === 0 ? (
        <Empty title="No transfers fit">
          Every copy, push, pull, reset and undo is listed here, with who did it and what it wrote.
        </Empty>
      ) : (
        <div className="flex-1 overflow-auto">
          <table>
            <thead>
              <tr>
                <th>When</th>
                <th>What</th>
                <th>From, onto</th>
                <th>Sentence</th>
                <th>By</th>
                <th>Outcome</th>
                <FigureHead>Took</FigureHead>
              </tr>
            </thead>
            <tbody>
              {items.map((one, i) => (
                <Fragment key={one.id}>
                  {dayOf(one.createdAt) !== dayOf(items[i - 1]?.createdAt ?? '1970-01-01') && (
                    <tr className="bg-course">
                      <th className="static h-28 bg-course text-small" colSpan={7} scope="rowgroup">
                        {dayOf(one.createdAt)}
                      </th>
                    </tr>
                  )}
                  <Row one={one} isCurrent={one.id === at} choose={view.set} />
                </Fragment>
              ))}
            </tbody>
          </table>
          <Older pages={pages} />
        </div>
      )}
    </main>
  );
}

function Row({
  one,
  isCurrent,
  choose,
}: {
  readonly one: Transfer;
  readonly isCurrent: boolean;
  readonly choose: (name: string, value: string) => void;
}): JSX.Element {
  const took = one.startedAt && one.endedAt ? (Date.parse(one.endedAt) - Date.parse(one.startedAt)) / 1000 : undefined;
  return (
    <tr
      data-row
      aria-current={isCurrent || undefined}
      className={`relative hover:bg-course ${isCurrent ? 'bg-accent-tint shadow-at' : ''}`}
    >
      <td className="text-ink2" title={clock(one.createdAt)}>
        {timeOfDay(one.createdAt)}
      </td>
      <td>
        <Link className="after:absolute after:inset-0" to={`/transfers/${one.id}`}>
          <b>{one.kind}</b>
        </Link>
      </td>
      <td className="mono">
        {one.from && (
          <>
            {one.from} <Icon name="right" size={12} className="inline align-[-1px] text-ink3" />{' '}
          </>
        )}
        {one.onto}
      </td>
      <WideCell className="text-ink2" title={one.sentence.map((piece) => piece.text).join('')}>
        {one.sentence.map((piece) => piece.text).join('')}
      </WideCell>
      <td>
        <button
          type="button"
          className="relative text-ink2 hover:text-accent"
          onClick={() => choose('person', one.person)}
        >
          {one.person}
        </button>
      </td>
      <td className={one.state === 'failed' ? 'font-semibold text-danger' : 'text-ink2'}>
        {one.undoneBy ? 'undone' : one.state}
      </td>
      <Figure className="text-ink3">{took === undefined ? '' : duration(took)}</Figure>
    </tr>
  );
}
