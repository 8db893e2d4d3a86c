import { useInfiniteQuery } from '@tanstack/react-query';
import type { Transfer } from '@tessarion/contract';
import type { JSX } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { useKeys } from '../keys.js';
import { Icon } from '../parts/icon.js';
import { Older } from '../parts/older.js';
import { Empty, Failure, Loading } from '../parts/states.js';
import { Ago, clock, duration } from '../parts/words.js';
import { client, useSites } from '../session.js';

const KINDS = ['push', 'pull', 'clone', 'reset', 'restore', 'undo', 'rename', 'snapshot', 'remove', 'adopt'] as const;
const STATES = ['waiting', 'running', 'done', 'failed', 'stopped', 'undone'] as const;

/** Every push and pull, newest first. */
export function TransfersRoom(): JSX.Element {
  const [query, setQuery] = useSearchParams();
  const navigate = useNavigate();
  const sites = useSites();
  const filter = Object.fromEntries(
    ['site', 'kind', 'state'].flatMap((name) => (query.get(name) ? [[name, query.get(name) as string]] : [])),
  );
  const pages = useInfiniteQuery({
    queryKey: ['transfers', filter],
    queryFn: ({ pageParam }) =>
      client.call('transferList', {
        query: { ...filter, limit: 100, ...(pageParam === '' ? {} : { cursor: pageParam }) },
      }),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
  });
  const items = pages.data?.pages.flatMap((page) => page.items) ?? [];
  const at = query.get('at');
  const set = (name: string, value: string): void => {
    const next = new URLSearchParams(query);
    if (value === '') next.delete(name);
    else next.set(name, value);
    setQuery(next, { replace: true });
  };
  const move = (step: number): void => {
    const next = items[Math.min(items.length - 1, Math.max(0, items.findIndex((one) => one.id === at) + step))];
    if (next) set('at', next.id);
  };
  useKeys({ j: () => move(1), k: () => move(-1), Enter: () => at && void navigate(`/transfers/${at}`) });
  return (
    <main className="tableroom slab">
      <div className="tools">
        <h1>Transfers</h1>
        <span className="sp" />
        <Choice
          name="Site"
          value={query.get('site') ?? ''}
          options={sites.data?.map((site) => site.name) ?? []}
          choose={(value) => set('site', value)}
        />
        <Choice name="Kind" value={query.get('kind') ?? ''} options={KINDS} choose={(value) => set('kind', value)} />
        <Choice
          name="State"
          value={query.get('state') ?? ''}
          options={STATES}
          choose={(value) => set('state', value)}
        />
      </div>
      {pages.isPending ? (
        <Loading what="Reading the transfers" rows={12} />
      ) : pages.isError ? (
        <Failure error={pages.error} />
      ) : items.length === 0 ? (
        <Empty title="No transfers fit">
          Every copy, push, pull, reset and undo is listed here, with who did it and what it wrote.
        </Empty>
      ) : (
        <div className="scroll">
          <table>
            <thead>
              <tr>
                <th>When</th>
                <th>What</th>
                <th>From, onto</th>
                <th>Sentence</th>
                <th>By</th>
                <th>Outcome</th>
                <th className="fig-cell">Took</th>
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

function Row({ one, isCurrent }: { readonly one: Transfer; readonly isCurrent: boolean }): JSX.Element {
  const took = one.startedAt && one.endedAt ? (Date.parse(one.endedAt) - Date.parse(one.startedAt)) / 1000 : undefined;
  return (
    <tr className={isCurrent ? 'cur' : ''}>
      <td className="q" title={clock(one.createdAt)}>
        <Ago time={one.createdAt} suffix=" ago" />
      </td>
      <td>
        <Link to={`/transfers/${one.id}`}>
          <b>{one.kind}</b>
        </Link>
      </td>
      <td className="mono">
        {one.from && (
          <>
            {one.from} <Icon name="right" size={12} />{' '}
          </>
        )}
        {one.onto}
      </td>
      <td className="q wide-cell" title={one.sentence.map((piece) => piece.text).join('')}>
        {one.sentence.map((piece) => piece.text).join('')}
      </td>
      <td className="q">{one.person}</td>
      <td className={one.state === 'failed' ? 'bad' : 'q'}>{one.undoneBy ? 'undone' : one.state}</td>
      <td className="fig-cell qq">{took === undefined ? '' : duration(took)}</td>
    </tr>
  );
}

function Choice({
  name,
  value,
  options,
  choose,
}: {
  readonly name: string;
  readonly value: string;
  readonly options: readonly string[];
  readonly choose: (value: string) => void;
}): JSX.Element {
  return (
    <label className="choice">
      <span className="qq">{name}</span>
      <select value={value} onChange={(event) => choose(event.target.value)}>
        <option value="">all</option>
        {options.map((one) => (
          <option key={one}>{one}</option>
        ))}
      </select>
    </label>
  );
}
