import type { ChangeRequest } from '@tessarion/contract';
import { REQUEST_STATES } from '@tessarion/core';
import type { JSX } from 'react';
import { Link } from 'react-router';
import { Choice } from '../parts/choice.js';
import { Course } from '../parts/course.js';
import { FindInView } from '../parts/filter-field.js';
import { Icon } from '../parts/icon.js';
import { clock } from '../parts/moments.js';
import { Older } from '../parts/older.js';
import { RoomHead } from '../parts/room.js';
import { SavedViews } from '../parts/saved-views.js';
import { SiteChoice } from '../parts/site-choice.js';
import { Empty, Failure, Loading } from '../parts/states.js';
import { Figure, FigureHead, WideCell } from '../parts/table.js';
import { usePaged, useRowKeys } from '../parts/use-paged.js';
import { useView } from '../parts/use-view.js';
import { Views } from '../parts/views.js';
import { Ago, number } from '../parts/words.js';
import { client, useWaiting } from '../session.js';

const VIEWS = [
  { name: 'waiting', title: 'Waiting for me', query: { whose: 'waiting' } },
  { name: 'mine', title: 'Mine', query: { whose: 'mine' } },
  { name: 'open', title: 'Open', query: { open: 'yes' } },
  { name: 'all', title: 'All', query: {} },
] as const;

const EMPTY: Record<(typeof VIEWS)[number]['name'], string> = {
  waiting: 'What you are asked to review, and what came back to you, is listed here.',
  mine: 'Open one from a forecast: choose what is to go, and ask for review.',
  open: 'Whatever is on its way to live, and not there yet, is listed here.',
  all: 'Open one from a forecast: choose what is to go, and ask for review.',
};

/** Changes on their way: those that wait for me, mine, all. */
export function RequestsRoom(): JSX.Element {
  const view = useView();
  // What waits for who looks comes first, where something does.
  const waiting = useWaiting().data?.length ?? 0;
  const usual = waiting > 0 ? VIEWS[0] : VIEWS[2];
  const which = VIEWS.find((one) => one.name === view.get('view')) ?? usual;
  const filter = { ...which.query, ...view.among(['site', 'state', 'find']) };
  const { pages, items } = usePaged(['requests', filter], (page) =>
    client.call('requestList', { query: { ...filter, ...page } }),
  );
  const isNarrowed = Object.keys(view.among(['site', 'state', 'find'])).length > 0;
  const at = useRowKeys(items, view, (id) => `/requests/${id}`);
  return (
    <main className="flex min-h-0 flex-1 flex-col bg-slab">
      <RoomHead>
        <h1 className="text-title">Change requests</h1>
        <Views
          name="Which"
          views={VIEWS.map((one) => ({ view: one.name, words: one.title }))}
          at={which.name}
          choose={(name) => view.set('view', name)}
        />
        <SavedViews room="requests" />
        <span className="flex-1 max-desk:hidden" />
        <FindInView view={view} name="Find by title, or by whom" placeholder="Title, or by whom" />
        <SiteChoice view={view} />
        <Choice
          name="State"
          value={view.get('state')}
          options={REQUEST_STATES}
          choose={(value) => view.set('state', value)}
        />
      </RoomHead>
      {pages.isPending ? (
        <Loading what="Reading the change requests" rows={10} />
      ) : pages.isLoadingError ? (
        <Failure error={pages.error} />
      ) : items.length === 0 ? (
        isNarrowed ? (
          <Empty title="No change request fits">Take a filter out, or look among all of them.</Empty>
        ) : (
          <Empty title={which.name === 'waiting' ? 'Nothing waits for you' : 'No change requests'}>
            {EMPTY[which.name]}
          </Empty>
        )
      ) : (
        <div className="flex-1 overflow-auto">
          <table>
            <thead>
              <tr>
                <th>State</th>
                <th>Title</th>
                <th>From, onto</th>
                <FigureHead>Items</FigureHead>
                <th>By</th>
                <th>Waits for</th>
                <FigureHead>Threads</FigureHead>
                <th>Changed</th>
              </tr>
            </thead>
            <tbody>
              {items.map((one) => (
                <Row key={one.id} one={one} isCurrent={one.id === at} />
              ))}
            </tbody>
          </table>
          <Older pages={pages} />
        </div>
      )}
    </main>
  );
}

/** Who or what is next. */
function waitsFor({ state, waitsForMe, author, reviewers, deliverAt }: ChangeRequest): string {
  if (waitsForMe) return 'you';
  switch (state) {
    case 'draft':
    case 'returned':
    case 'blocked':
      return author.name;
    case 'in-review': {
      const silent = reviewers.filter((one) => one.says === null || !one.isCurrent);
      return silent.map((one) => one.person?.name ?? `team ${one.team}`).join(', ') || 'anybody who reviews';
    }
    case 'approved':
      return 'who delivers it';
    case 'scheduled':
      return deliverAt === null ? 'the next window' : clock(deliverAt);
    case 'delivering':
      return 'its transfer';
    default:
      return '';
  }
}

function Row({ one, isCurrent }: { readonly one: ChangeRequest; readonly isCurrent: boolean }): JSX.Element {
  return (
    <tr aria-current={isCurrent || undefined} className={isCurrent ? 'bg-accent-tint shadow-at' : ''}>
      <td>
        <Course state={one.state} />
      </td>
      <WideCell title={one.title}>
        <Link to={`/requests/${one.id}`}>
          <b>{one.title}</b>
        </Link>
        {one.waitsForMe && <span className="text-accent"> · waits for you</span>}
        {one.deliverAt && <span className="text-ink2"> · due {clock(one.deliverAt)}</span>}
        {one.urgent && <span className="font-semibold text-warn"> · urgent</span>}
      </WideCell>
      <td className="mono">
        {one.from} <Icon name="right" size={12} className="inline align-[-1px] text-ink3" /> {one.onto.split('/')[1]}
      </td>
      <Figure>
        {number(one.itemCount)}
        <span className="desk:hidden">{one.itemCount === 1 ? ' item' : ' items'}</span>
      </Figure>
      <td className="text-ink2">{one.author.name}</td>
      <td className="text-ink2">{waitsFor(one)}</td>
      <Figure className="text-ink2">
        {one.openThreads > 0 && (
          <>
            {number(one.openThreads)}
            <span className="desk:hidden">{one.openThreads === 1 ? ' open thread' : ' open threads'}</span>
          </>
        )}
      </Figure>
      <td className="text-ink2">
        <Ago time={one.updatedAt} suffix=" ago" />
      </td>
    </tr>
  );
}
