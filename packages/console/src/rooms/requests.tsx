import { useInfiniteQuery } from '@tanstack/react-query';
import type { ChangeRequest } from '@tessarion/contract';
import type { JSX } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { useKeys } from '../keys.js';
import { Course } from '../parts/course.js';
import { Icon } from '../parts/icon.js';
import { Older } from '../parts/older.js';
import { Empty, Failure, Loading } from '../parts/states.js';
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
  const [query, setQuery] = useSearchParams();
  const navigate = useNavigate();
  const view = VIEWS.find((one) => one.name === query.get('view')) ?? VIEWS[2];
  const site = query.get('site') ?? undefined;
  const pages = useInfiniteQuery({
    queryKey: ['requests', view.name, site ?? ''],
    queryFn: ({ pageParam }) =>
      client.call('requestList', {
        query: {
          ...view.query,
          ...(site === undefined ? {} : { site }),
          limit: 100,
          ...(pageParam === '' ? {} : { cursor: pageParam }),
        },
      }),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
  });
  const items = pages.data?.pages.flatMap((page) => page.items) ?? [];
  const at = query.get('at');
  const set = (name: string, value: string | undefined): void => {
    const next = new URLSearchParams(query);
    if (value === undefined) next.delete(name);
    else next.set(name, value);
    setQuery(next, { replace: true });
  };
  const move = (step: number): void => {
    const next = items[Math.min(items.length - 1, Math.max(0, items.findIndex((one) => one.id === at) + step))];
    if (next) set('at', next.id);
  };
  useKeys({ j: () => move(1), k: () => move(-1), Enter: () => at && void navigate(`/requests/${at}`) });
  return (
    <main className="tableroom slab">
      <div className="tools">
        <h1>Change requests</h1>
        <nav className="views" aria-label="Which">
          {VIEWS.map((one) => (
            <button
              key={one.name}
              type="button"
              className={one === view ? 'on course' : ''}
              aria-pressed={one === view}
              onClick={() => set('view', one.name)}
            >
              {one.title}
            </button>
          ))}
        </nav>
        <span className="sp" />
        {site !== undefined && (
          <button type="button" className="btn" onClick={() => set('site', undefined)}>
            {site} <Icon name="close" />
          </button>
        )}
      </div>
      {pages.isPending ? (
        <Loading what="Reading the change requests" rows={10} />
      ) : pages.isError ? (
        <Failure error={pages.error} />
      ) : items.length === 0 ? (
        <Empty title={view.name === 'waiting' ? 'Nothing waits for you' : 'No change requests'}>
          {EMPTY[view.name]}
        </Empty>
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
      <td className="fig-cell">{number(one.itemCount)}</td>
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
      <td className="fig-cell q">{one.openThreads === 0 ? '' : number(one.openThreads)}</td>
      <td className="q">
        <Ago time={one.updatedAt} suffix=" ago" />
      </td>
    </tr>
  );
}
