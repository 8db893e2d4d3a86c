import { useQuery } from '@tanstack/react-query';
import type { AgendaItem, Transfer } from '@tessarion/contract';
import { counted } from '@tessarion/core';
import type { JSX } from 'react';
import { Link } from 'react-router';
import { Button } from '../../parts/button.js';
import { Icon } from '../../parts/icon.js';
import { timeOfDay } from '../../parts/moments.js';
import { Failure } from '../../parts/states.js';
import { Tile } from '../../parts/tile.js';
import type { View } from '../../parts/use-view.js';
import { number, useNow } from '../../parts/words.js';
import { client, useAgenda } from '../../session.js';
import { NAMES } from './words.js';

/** The first days of the weeks that a month touches, as midnights of the viewer's zone; and the one after. */
function daysOf(month: Date): number[] {
  const first = new Date(month.getFullYear(), month.getMonth(), 1);
  const before = (first.getDay() + 6) % 7;
  const last = new Date(month.getFullYear(), month.getMonth() + 1, 0).getDate();
  const count = Math.ceil((before + last) / 7) * 7;
  return Array.from({ length: count + 1 }, (_one, i) =>
    new Date(month.getFullYear(), month.getMonth(), 1 - before + i).getTime(),
  );
}

const monthText = (month: Date): string => `${month.getFullYear()}-${String(month.getMonth() + 1).padStart(2, '0')}`;

/** What happened or is due on a day. */
interface Day {
  readonly start: number;
  readonly delivered: readonly Transfer[];
  readonly due: readonly AgendaItem[];
  readonly freezes: readonly AgendaItem[];
  readonly windows: readonly AgendaItem[];
}

/** A month of deliveries: those that went, those that are due, freezes, and when one may deliver. */
export function Month({ view }: { readonly view: View }): JSX.Element {
  const now = useNow(60_000);
  const [year, at] = view.get('month').split('-').map(Number);
  const month = year && at ? new Date(year, at - 1, 1) : new Date(now);
  const days = daysOf(month);
  const [from = 0, until = 0] = [days[0], days.at(-1)];
  const agenda = useAgenda(from, until);
  const pushes = useQuery({
    queryKey: ['transfers', 'month', from],
    queryFn: async () =>
      (
        await client.call('transferList', {
          query: {
            kind: 'push',
            state: 'done',
            since: new Date(from).toISOString(),
            until: new Date(until).toISOString(),
            limit: MOST,
          },
        })
      ).items.filter(({ onto }) => onto.endsWith('/live')),
  });
  const touches = (one: AgendaItem, start: number, end: number): boolean =>
    Date.parse(one.from) < end && Date.parse(one.until ?? one.from) >= start;
  const shown = days.slice(0, -1).map((start, i): Day => {
    const end = days[i + 1] as number;
    const of = (is: AgendaItem['is']) => (agenda.data ?? []).filter((one) => one.is === is && touches(one, start, end));
    return {
      start,
      delivered: (pushes.data ?? []).filter(({ endedAt }) => {
        const time = Date.parse(endedAt ?? '');
        return time >= start && time < end;
      }),
      due: of('delivery'),
      freezes: of('freeze'),
      windows: of('window'),
    };
  });
  const go = (step: number): void =>
    view.set('month', monthText(new Date(month.getFullYear(), month.getMonth() + step, 1)));
  const title = new Intl.DateTimeFormat('en-GB', { month: 'long', year: 'numeric' }).format(month);
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <div className="flex items-center gap-4 px-16 pb-8 max-desk:px-12">
        <Button bare aria-label="The month before" onClick={() => go(-1)}>
          <Icon name="left" />
        </Button>
        <h2 className="m-0 min-w-140 text-center text-title" aria-live="polite">
          {title}
        </h2>
        <Button bare aria-label="The month after" onClick={() => go(1)}>
          <Icon name="right" />
        </Button>
        <Button small bare onClick={() => view.set('month', '')}>
          This month
        </Button>
      </div>
      {(agenda.isError || pushes.isError) && <Failure error={agenda.error ?? pushes.error} />}
      <div className="grid grid-cols-7 border-b border-line text-small/28 text-ink3 max-desk:hidden" aria-hidden="true">
        {NAMES.map((name) => (
          <span key={name} className="px-10">
            {name}
          </span>
        ))}
      </div>
      <ol
        className="grid min-h-0 flex-1 auto-rows-[minmax(92px,1fr)] grid-cols-7 overflow-auto max-desk:block"
        aria-label={title}
      >
        {shown.map((day) => (
          <DayCell key={day.start} day={day} isOther={new Date(day.start).getMonth() !== month.getMonth()} now={now} />
        ))}
      </ol>
    </div>
  );
}

const SHOWN = 3;
/** Deliveries of a month that are shown; the list of transfers has all. */
const MOST = 200;
const DAY_MS = 86_400_000;

function DayCell({
  day: { start, delivered, due, freezes, windows },
  isOther,
  now,
}: {
  readonly day: Day;
  /** Of the month before or after. */
  readonly isOther: boolean;
  readonly now: number;
}): JSX.Element {
  const date = new Date(start);
  const isToday = now >= start && now < start + DAY_MS;
  const isEmpty = delivered.length + due.length + freezes.length === 0;
  const open = [...new Set(windows.flatMap((one) => one.sites))];
  return (
    <li
      className={`min-w-0 border-r border-b border-line px-10 py-6 ${isOther ? 'bg-course' : ''} ${isToday ? 'shadow-under' : ''} ${isEmpty ? 'max-desk:hidden' : 'max-desk:flex max-desk:flex-wrap max-desk:gap-x-12 max-desk:border-r-0'}`}
      aria-current={isToday ? 'date' : undefined}
    >
      <div className="flex items-baseline gap-6">
        <time
          dateTime={`${monthText(date)}-${String(date.getDate()).padStart(2, '0')}`}
          className={isToday ? 'font-semibold text-accent' : isOther ? 'text-ink3' : 'text-ink2'}
        >
          <span className="desk:hidden">{NAMES[(date.getDay() + 6) % 7]} </span>
          {date.getDate()}
        </time>
        {open.length > 0 && (
          <span
            className="ml-auto truncate text-small text-ink3"
            title={windows.map((one) => `${one.sites.join(', ')} from ${timeOfDay(one.from)}`).join('; ')}
          >
            {counted(open.length, 'site')} open
          </span>
        )}
      </div>
      {freezes.map((one) => (
        <p
          key={`${one.reason} ${one.from}`}
          className="truncate border-l-3 border-warn bg-warn-tint px-6 text-small"
          title={`${one.reason ?? 'Frozen'}: ${one.sites.join(', ')}`}
        >
          {one.reason ?? 'frozen'}
          {one.sites.length > 1 && <span className="text-ink2"> · {number(one.sites.length)} sites</span>}
        </p>
      ))}
      {due.slice(0, SHOWN).map((one) => (
        <Link
          key={one.request}
          className="flex min-h-24 items-center gap-6 text-small hover:text-accent"
          to={`/requests/${one.request}`}
          title={`${one.reason} onto ${one.sites.join(', ')}`}
        >
          <span className="text-accent">{timeOfDay(one.from)}</span>
          <b className="truncate">{one.reason}</b>
        </Link>
      ))}
      {due.length > SHOWN && <span className="text-small text-ink3">{number(due.length - SHOWN)} more are due</span>}
      {delivered.slice(0, SHOWN).map((one) => (
        <Link
          key={one.id}
          className="flex min-h-24 items-center gap-6 text-small text-ink2 hover:text-accent"
          to={`/transfers/${one.id}`}
          title={one.sentence.map((piece) => piece.text).join('')}
        >
          <Tile kind="live" state="in-step" size={12} decorative />
          <span className="truncate">{one.site}</span>
          <span className="ml-auto text-ink3">{timeOfDay(one.endedAt ?? one.createdAt)}</span>
        </Link>
      ))}
      {delivered.length > SHOWN && (
        <span className="text-small text-ink3">{number(delivered.length - SHOWN)} more went</span>
      )}
    </li>
  );
}
