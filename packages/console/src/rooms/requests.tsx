import type { ChangeRequest } from '@tessarion/contract';
import { REQUEST_STATES } from '@tessarion/core';
import { type JSX, useEffect, useRef, useState } from 'react';
import { Link } from 'react-router';
import { useKeys } from '../keys.js';
import { Choice, SiteChoice } from '../parts/choice.js';
import { Course } from '../parts/course.js';
import { Icon } from '../parts/icon.js';
import { Older } from '../parts/older.js';
import { Empty, Failure, Loading } from '../parts/states.js';
import { usePaged, useRowKeys } from '../parts/use-paged.js';
import { useView, type View } from '../parts/use-view.js';
import { Ago, clock, number } from '../parts/words.js';
import { client } from '../session.js';

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
  const which = VIEWS.find((one) => one.name === view.get('view')) ?? VIEWS[2];
  const filter = { ...which.query, ...view.among(['site', 'state', 'find']) };
  const { pages, items } = usePaged(['requests', filter], (page) =>
    client.call('requestList', { query: { ...filter, ...page } }),
  );
  const isNarrowed = Object.keys(view.among(['site', 'state', 'find'])).length > 0;
  const at = view.get('at');
  useRowKeys(items, view, (id) => `/requests/${id}`);
  return (
    <main className="tableroom slab">
      <div className="tools">
        <h1>Change requests</h1>
        <nav className="views" aria-label="Which">
          {VIEWS.map((one) => (
            <button
              key={one.name}
              type="button"
              className={one === which ? 'on course' : ''}
              aria-pressed={one === which}
              onClick={() => view.set('view', one.name)}
            >
              {one.title}
            </button>
          ))}
        </nav>
        <span className="sp" />
        <FindField view={view} />
        <SiteChoice view={view} />
        <Choice
          name="State"
          value={view.get('state')}
          options={REQUEST_STATES}
          choose={(value) => view.set('state', value)}
        />
      </div>
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
        <div className="scroll">
          <table>
            <thead>
              <tr>
                <th>State</th>
                <th>Title</th>
                <th>From, onto</th>
                <th className="fig-cell">Items</th>
                <th>By</th>
                <th>Reviewers</th>
                <th className="fig-cell">Threads</th>
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

/** Finds by words of the title, or the name of who opened it; the list follows once one pauses. */
function FindField({ view }: { readonly view: View }): JSX.Element {
  const said = view.get('find');
  const [text, setText] = useState(said);
  const field = useRef<HTMLInputElement>(null);
  useKeys([{ key: '/', does: 'Find', act: () => field.current?.focus() }]);
  useEffect(() => {
    if (text.trim() === said) return;
    const pause = setTimeout(() => view.set('find', text.trim()), 250);
    return () => clearTimeout(pause);
  });
  return (
    <label className="fl">
      <Icon name="find" />
      <input
        ref={field}
        value={text}
        maxLength={100}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={(event) => event.key === 'Escape' && event.currentTarget.blur()}
        placeholder="Title, or by whom"
        aria-label="Find by title, or by whom"
      />
      <kbd>/</kbd>
    </label>
  );
}

function Row({ one, isCurrent }: { readonly one: ChangeRequest; readonly isCurrent: boolean }): JSX.Element {
  return (
    <tr className={isCurrent ? 'cur' : ''}>
      <td>
        <Course state={one.state} />
      </td>
      <td className="wide-cell" title={one.title}>
        <Link to={`/requests/${one.id}`}>
          <b>{one.title}</b>
        </Link>
        {one.waitsForMe && <span className="acc"> · waits for you</span>}
        {one.deliverAt && <span className="q"> · due {clock(one.deliverAt)}</span>}
        {one.urgent && <span className="wn-text"> · urgent</span>}
      </td>
      <td className="mono">
        {one.from} <Icon name="right" size={12} /> {one.onto.split('/')[1]}
      </td>
      <td className="fig-cell">
        {number(one.itemCount)}
        <span className="only-narrow">{one.itemCount === 1 ? ' item' : ' items'}</span>
      </td>
      <td className="q">{one.author.name}</td>
      <td className="q">
        {one.reviewers.map((reviewer, i) => (
          <span key={reviewer.person?.id ?? reviewer.team}>
            {i > 0 && ', '}
            {reviewer.person?.name ?? `team ${reviewer.team}`}
            {reviewer.says !== null && (
              <>
                {' '}
                <Icon name={reviewer.says === 'approve' ? 'check' : 'undo'} size={12} />
              </>
            )}
          </span>
        ))}
      </td>
      <td className="fig-cell q">
        {one.openThreads > 0 && (
          <>
            {number(one.openThreads)}
            <span className="only-narrow">{one.openThreads === 1 ? ' open thread' : ' open threads'}</span>
          </>
        )}
      </td>
      <td className="q">
        <Ago time={one.updatedAt} suffix=" ago" />
      </td>
    </tr>
  );
}
