import { useQuery } from '@tanstack/react-query';
import type { AgendaItem, ChangeRequest, Environment, Site, Transfer } from '@tessarion/contract';
import { scaleTime } from 'd3-scale';
import type { JSX, ReactNode } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { useKeys } from '../../keys.js';
import { TextLink } from '../../parts/button.js';
import { stateWords } from '../../parts/course.js';
import { clock } from '../../parts/moments.js';
import { Crumb } from '../../parts/room.js';
import { Failure, Unread } from '../../parts/states.js';
import { WideCell } from '../../parts/table.js';
import { Tile } from '../../parts/tile.js';
import { useView } from '../../parts/use-view.js';
import { Views } from '../../parts/views.js';
import { number, useNow } from '../../parts/words.js';
import { client, useAgenda, useSite } from '../../session.js';
import { KINDS } from './map.js';

const DAY_MS = 86_400_000;
/** Days before and after now. The agenda is told for two months at most. */
const SPANS = {
  week: { words: 'Week', back: 6, ahead: 2 },
  month: { words: 'Month', back: 23, ahead: 8 },
  quarter: { words: 'Quarter', back: 80, ahead: 14 },
} as const;
type SpanName = keyof typeof SPANS;
const AGENDA_DAYS = 62;
const MOST = 500;

/** A stretch of time that is shown, in milliseconds since 1970, and where in it a moment lies, from 0 to 100. */
interface Axis {
  readonly from: number;
  readonly until: number;
  readonly now: number;
  readonly at: (time: number) => number;
}

/** A site over time: what moved, when one may deliver, what is asked for, on one axis; and the same as a table. */
export function TimelineRoom(): JSX.Element {
  const { site: name = '' } = useParams();
  const site = useSite(name);
  const navigate = useNavigate();
  useKeys([{ key: 'Escape', does: `Back to ${name}`, act: () => void navigate(`/sites/${name}`) }]);
  if (!site.isSuccess) return <Unread error={site.error} what={`Reading ${name}`} />;
  return <Timeline site={site.data} />;
}

function Timeline({ site }: { readonly site: Site }): JSX.Element {
  const view = useView();
  const wanted = view.get('span');
  const span: SpanName = wanted in SPANS ? (wanted as SpanName) : 'month';
  const isNarrow = window.matchMedia('(max-width: 720px)').matches;
  const minute = useNow(60_000);
  const { back, ahead } = SPANS[span];
  const day = new Date(minute);
  const midnight = new Date(day.getFullYear(), day.getMonth(), day.getDate()).getTime();
  const [from, until] = [midnight - back * DAY_MS, midnight + (ahead + 1) * DAY_MS];
  const scale = scaleTime().domain([from, until]).range([0, 100]);
  const axis: Axis = { from, until, now: minute, at: (time) => Math.min(100, Math.max(0, scale(time))) };
  const transfers = useQuery({
    queryKey: ['transfers', 'timeline', site.name, from],
    queryFn: async () =>
      (
        await client.call('transferList', {
          query: { site: site.name, since: new Date(from).toISOString(), limit: MOST },
        })
      ).items,
  });
  const requests = useQuery({
    queryKey: ['requests', 'timeline', site.name],
    queryFn: async () => (await client.call('requestList', { query: { site: site.name, limit: 200 } })).items,
  });
  const agenda = useAgenda(Math.max(from, until - AGENDA_DAYS * DAY_MS), until);
  const plan = (agenda.data ?? []).filter((one) => one.sites.includes(site.name));
  const moves = transfers.data ?? [];
  const asked = (requests.data ?? []).filter((one) => endOf(one, minute) >= from && one.state !== 'draft');
  const error = transfers.error ?? requests.error ?? agenda.error;
  const order = KINDS.toReversed().flatMap((kind) => site.environments.filter((one) => one.kind === kind));
  return (
    <>
      <Crumb
        way={[
          ['Fleet', '/'],
          [site.name, `/sites/${site.name}`],
        ]}
        here="Timeline"
      />
      <main className="flex min-h-0 flex-1 flex-col gap-2 overflow-auto">
        {error !== null && <Failure error={error} />}
        <section className="bg-slab pb-12" aria-label="Timeline">
          <div className="flex flex-wrap items-center gap-12 px-16 py-8 max-desk:px-12">
            <Views
              name="How far"
              views={Object.entries(SPANS).map(([one, { words }]) => ({ view: one, words }))}
              at={span}
              choose={(one) => view.set('span', one === 'month' ? '' : one)}
            />
            <span className="flex-1 max-desk:hidden" />
            <TextLink to={`/figures?site=${site.name}`}>Figures of {site.name}</TextLink>
          </div>
          <Ticks axis={axis} ticks={scale.ticks(isNarrow ? 4 : 10)} />
          {order.map((one) => (
            <Lane key={one.path} name={<EnvironmentName one={one} />} axis={axis}>
              {one.kind === 'live' && <Plan axis={axis} plan={plan} />}
              {together(
                moves.filter(({ onto }) => onto === one.path),
                axis,
              ).map((own) => (
                <Moves key={own[0]?.id} own={own} one={one} axis={axis} />
              ))}
            </Lane>
          ))}
          <Lane name="Requests" axis={axis} rows={Math.max(1, Math.min(asked.length, MOST_REQUESTS))}>
            {asked.slice(0, MOST_REQUESTS).map((one, i) => (
              <Asked key={one.id} one={one} row={i} axis={axis} />
            ))}
            {asked.length === 0 && <span className="absolute inset-y-0 left-8 flex items-center text-ink3">none</span>}
          </Lane>
          {asked.length > MOST_REQUESTS && (
            <p className="px-16 py-4 text-ink3">and {number(asked.length - MOST_REQUESTS)} more, in the table</p>
          )}
        </section>
        <Table axis={axis} moves={moves} plan={plan} asked={asked} />
      </main>
    </>
  );
}

const MOST_REQUESTS = 8;
const ENDED: readonly ChangeRequest['state'][] = ['delivered', 'undone', 'withdrawn'];

/** When a request came to its end; what is open goes on to now, and what is due to its time. */
const endOf = (one: ChangeRequest, now: number): number =>
  ENDED.includes(one.state) ? Date.parse(one.updatedAt) : Math.max(now, Date.parse(one.deliverAt ?? one.updatedAt));

function EnvironmentName({ one }: { readonly one: Environment }): JSX.Element {
  return (
    <>
      <Tile kind={one.kind} state={one.state} size={18} decorative />
      <span className="truncate">{one.name}</span>
    </>
  );
}

const GRID = 'grid grid-cols-[132px_minmax(0,1fr)] max-desk:grid-cols-1';

function Ticks({ axis, ticks }: { readonly axis: Axis; readonly ticks: readonly Date[] }): JSX.Element {
  return (
    <div className={`${GRID} border-b border-line`} aria-hidden="true">
      <span className="max-desk:hidden" />
      <span className="relative mr-16 block h-28 max-desk:mx-12">
        {ticks
          // What would be cut at the end is left out.
          .filter((tick) => axis.at(+tick) < 95)
          .map((tick) => (
            <span
              key={+tick}
              className="absolute top-0 text-micro/28 whitespace-nowrap text-ink3"
              style={{ left: `${axis.at(+tick)}%` }}
            >
              {tick.toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })}
            </span>
          ))}
      </span>
    </div>
  );
}

const LANE_HEIGHT = 36;
const REQUEST_HEIGHT = 24;

function Lane({
  name,
  axis,
  rows,
  children,
}: {
  readonly name: ReactNode;
  readonly axis: Axis;
  /** How many lines it has, where that is not one. */
  readonly rows?: number;
  readonly children: ReactNode;
}): JSX.Element {
  return (
    <div className={`${GRID} border-b border-line`}>
      <span className="flex items-center gap-8 px-16 font-medium max-desk:px-12 max-desk:pt-6">{name}</span>
      <div
        className="@container relative mr-16 max-desk:mx-12"
        style={{ height: rows === undefined ? LANE_HEIGHT : rows * REQUEST_HEIGHT + 12 }}
      >
        <i className="pointer-events-none absolute inset-y-0 w-1 bg-accent" style={{ left: `${axis.at(axis.now)}%` }} />
        {children}
      </div>
    </div>
  );
}

const part = (axis: Axis, from: number, until: number) => ({
  left: `${axis.at(from)}%`,
  width: `max(2px, ${axis.at(until) - axis.at(from)}%)`,
});

/** When one may deliver, and freezes, behind what moved. */
function Plan({ axis, plan }: { readonly axis: Axis; readonly plan: readonly AgendaItem[] }): JSX.Element {
  return (
    <>
      {plan.map((one) => {
        const from = Date.parse(one.from);
        const key = `${one.is} ${one.from} ${one.request ?? ''}`;
        if (one.is === 'delivery')
          return (
            <Link
              key={key}
              className="absolute inset-y-0 z-1 w-24 -translate-x-1/2 before:absolute before:inset-y-4 before:left-9 before:w-6 before:bg-accent"
              style={{ left: `${axis.at(from)}%` }}
              to={`/requests/${one.request}`}
              title={`${one.reason}, due ${clock(one.from)}`}
              aria-label={`${one.reason}, due ${clock(one.from)}`}
            />
          );
        const style = part(axis, from, Date.parse(one.until ?? one.from));
        return (
          <i
            key={key}
            className={`absolute inset-y-4 ${one.is === 'window' ? 'bg-bed' : 'border border-warn bg-warn-tint'}`}
            style={style}
            title={`${one.is === 'window' ? 'One may deliver' : (one.reason ?? 'Frozen')} from ${clock(one.from)} until ${clock(one.until ?? one.from)}`}
          />
        );
      })}
    </>
  );
}

/** So near to each other, in hundredths of the axis, moves are told together. */
const NEAR = 2;

/** Moves in the order of time, those that would lie upon each other together. */
function together(moves: readonly Transfer[], axis: Axis): Transfer[][] {
  const found: Transfer[][] = [];
  for (const one of moves.toSorted((a, b) => (a.createdAt < b.createdAt ? -1 : 1))) {
    const last = found.at(-1);
    const first = last?.[0];
    if (last && first && axis.at(Date.parse(one.createdAt)) - axis.at(Date.parse(first.createdAt)) < NEAR)
      last.push(one);
    else found.push([one]);
  }
  return found;
}

function Moves({
  own,
  one,
  axis,
}: {
  readonly own: readonly Transfer[];
  readonly one: Environment;
  readonly axis: Axis;
}): JSX.Element {
  const first = own[0] as Transfer;
  const failed = own.some(({ state }) => state === 'failed');
  const isRunning = own.some(({ endedAt }) => endedAt === null);
  const words =
    own.length === 1
      ? `${first.kind}, ${first.state}, by ${first.person}, ${clock(first.createdAt)}`
      : `${own.length} moves from ${clock(first.createdAt)}: ${[...new Set(own.map(({ kind }) => kind))].join(', ')}${failed ? '; not all went' : ''}`;
  return (
    <Link
      className="absolute inset-y-0 grid w-24 -translate-x-1/2 place-items-center hover:z-2"
      style={{ left: `${axis.at(Date.parse(first.createdAt))}%` }}
      to={own.length === 1 ? `/transfers/${first.id}` : `/transfers?site=${first.site}`}
      title={words}
      aria-label={words}
    >
      <Tile kind={one.kind} state={failed ? 'failed' : isRunning ? 'working' : 'in-step'} size={14} decorative />
      {own.length > 1 && (
        <span className="absolute bottom-0 text-micro/12 text-ink2" aria-hidden="true">
          {own.length}
        </span>
      )}
    </Link>
  );
}

function Asked({
  one,
  row,
  axis,
}: {
  readonly one: ChangeRequest;
  readonly row: number;
  readonly axis: Axis;
}): JSX.Element {
  const [from, until] = [Date.parse(one.createdAt), endOf(one, axis.now)];
  const isOver = ENDED.includes(one.state);
  const words = `${one.title}: ${stateWords(one.state)}, from ${clock(one.createdAt)}`;
  // What begins late has its words before it.
  const isLate = axis.at(from) > 60;
  return (
    <Link
      className={`absolute flex h-24 items-center hover:text-accent ${isLate ? 'flex-row-reverse' : ''}`}
      style={{
        top: 6 + row * REQUEST_HEIGHT,
        ...(isLate ? { right: `${100 - axis.at(until)}%` } : { left: `${axis.at(from)}%` }),
        maxWidth: '100%',
      }}
      to={`/requests/${one.id}`}
      title={words}
    >
      <i
        className={`block h-8 flex-none ${isOver ? 'bg-ink3' : 'bg-ink'}`}
        style={{ width: `max(6px, ${axis.at(until) - axis.at(from)}cqw)` }}
      />
      <span className="truncate px-6 text-small">
        {one.title} <span className="text-ink3">{stateWords(one.state)}</span>
      </span>
    </Link>
  );
}

/** The same, line by line, the newest first. */
function Table({
  axis,
  moves,
  plan,
  asked,
}: {
  readonly axis: Axis;
  readonly moves: readonly Transfer[];
  readonly plan: readonly AgendaItem[];
  readonly asked: readonly ChangeRequest[];
}): JSX.Element {
  const lines = [
    ...moves.map((one) => ({
      at: one.createdAt,
      what: one.kind,
      words: one.sentence.map((piece) => piece.text).join(''),
      state: one.state as string,
      to: `/transfers/${one.id}`,
    })),
    ...asked.map((one) => ({
      at: one.createdAt,
      what: 'request',
      words: one.title,
      state: stateWords(one.state),
      to: `/requests/${one.id}`,
    })),
    ...plan.map((one) => ({
      at: one.from,
      what: one.is === 'delivery' ? 'due' : one.is,
      words: one.reason ?? `until ${clock(one.until ?? one.from)}`,
      state: Date.parse(one.from) > axis.now ? 'to come' : '',
      to: one.request === null ? '/windows' : `/requests/${one.request}`,
    })),
  ].sort((a, b) => (a.at < b.at ? 1 : -1));
  return (
    <section className="flex-1 bg-slab" aria-label="As a table">
      <table>
        <thead>
          <tr>
            <th>When</th>
            <th>What</th>
            <th>About</th>
            <th>How it stands</th>
          </tr>
        </thead>
        <tbody>
          {lines.map((line) => (
            <tr key={`${line.at} ${line.what} ${line.to}`}>
              <td className="text-ink2">{clock(line.at)}</td>
              <td>
                <b>{line.what}</b>
              </td>
              <WideCell title={line.words}>
                <Link className="hover:text-accent" to={line.to}>
                  {line.words}
                </Link>
              </WideCell>
              <td className="text-ink2">{line.state}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
