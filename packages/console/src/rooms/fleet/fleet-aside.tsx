import type { AgendaItem, EnvironmentKind, FleetSite } from '@tessarion/contract';
import { type JSX, memo, type ReactNode } from 'react';
import { Link } from 'react-router';
import { TextLink } from '../../parts/button.js';
import { Course } from '../../parts/course.js';
import { timeOfDay } from '../../parts/moments.js';
import { RunningJob } from '../../parts/progress.js';
import { number, useNow } from '../../parts/words.js';
import { useAgenda, useWaiting } from '../../session.js';

/** What waits for who looks, what comes in the next hours, and what is on the move. */
export const FleetAside = memo(function FleetAside({ sites }: { readonly sites: readonly FleetSite[] }): JSX.Element {
  const running = sites.flatMap((site) => site.environments.flatMap((one) => (one.running ? [one.running] : [])));
  const kinds = new Map<string, EnvironmentKind>(
    running.flatMap((one) =>
      [one.from, one.onto].flatMap((path) => (path ? [[path, kindOf(sites, path)] as const] : [])),
    ),
  );
  return (
    <aside className="flex min-h-0 flex-col gap-2 overflow-auto" aria-label="What waits">
      <Waiting />
      <Tonight />
      <Part title="On the move" count={running.length} isLast>
        {running.length === 0 && <p className="text-ink3">Nothing is running.</p>}
        {running.slice(0, 6).map((transfer) => (
          <RunningJob key={transfer.id} transfer={transfer} kinds={kinds} />
        ))}
        {running.length > 6 && <TextLink to="/transfers?state=running">{number(running.length - 6)} more</TextLink>}
      </Part>
    </aside>
  );
});

const kindOf = (sites: readonly FleetSite[], path: string): EnvironmentKind =>
  sites.find(({ name }) => path.startsWith(`${name}/`))?.environments.find((one) => one.path === path)?.kind ??
  'staging';

function Part({
  title,
  count,
  isLast = false,
  children,
}: {
  readonly title: string;
  readonly count?: number | undefined;
  readonly isLast?: boolean;
  readonly children: ReactNode;
}): JSX.Element {
  return (
    <section className={`bg-slab px-16 py-12 max-desk:px-12 ${isLast ? 'flex-1' : ''}`} aria-label={title}>
      <h2>
        {title} {count !== undefined && <span className="font-normal text-ink3">{number(count)}</span>}
      </h2>
      {children}
    </section>
  );
}

const SHOWN = 5;

function Waiting(): JSX.Element {
  const waiting = useWaiting();
  const items = waiting.data ?? [];
  return (
    <Part title="Waiting for you" count={waiting.isSuccess ? items.length : undefined}>
      {waiting.isSuccess && items.length === 0 && <p className="text-ink3">Nothing waits for you.</p>}
      {items.slice(0, SHOWN).map((one) => (
        <Link key={one.id} className="group flex flex-col py-3" to={`/requests/${one.id}`}>
          <b className="truncate group-hover:text-accent" title={one.title}>
            {one.title}
          </b>
          <span className="flex items-center gap-6 text-ink2">
            <Course state={one.state} />
            <span className="truncate">
              · {one.site} · {one.author.name}
            </span>
          </span>
        </Link>
      ))}
      {items.length > SHOWN && <TextLink to="/requests?view=waiting">{number(items.length - SHOWN)} more</TextLink>}
    </Part>
  );
}

const HOUR_MS = 3_600_000;

/** What comes in the next hours: deliveries, windows that open, freezes that begin or end. */
function Tonight(): JSX.Element {
  const now = useNow(60_000);
  // Asked for by the hour, so that a minute that passes asks for nothing new.
  const from = Math.floor(now / HOUR_MS) * HOUR_MS;
  const agenda = useAgenda(from, from + 25 * HOUR_MS);
  const items = (agenda.data ?? []).flatMap((one): { readonly at: string; readonly one: AgendaItem }[] => {
    const isAhead = (time: string | null): time is string =>
      time !== null && Date.parse(time) >= now && Date.parse(time) < now + 24 * HOUR_MS;
    if (isAhead(one.from)) return [{ at: one.from, one }];
    return one.is !== 'delivery' && isAhead(one.until) ? [{ at: one.until, one }] : [];
  });
  items.sort((a, b) => (a.at < b.at ? -1 : 1));
  return (
    <Part title="Next 24 hours">
      {agenda.isSuccess && items.length === 0 && <p className="text-ink3">Nothing is due, opens or freezes.</p>}
      <ul>
        {items.slice(0, 8).map(({ at, one }) => (
          <li
            key={`${one.is} ${one.request ?? one.sites[0]} ${at}`}
            className="grid grid-cols-[44px_minmax(0,1fr)] py-2"
          >
            <time className="text-ink2" dateTime={at}>
              {timeOfDay(at)}
            </time>
            <Due at={at} one={one} />
          </li>
        ))}
      </ul>
      {items.length > 0 && <TextLink to="/windows">Windows and freezes</TextLink>}
    </Part>
  );
}

/** Names of some sites, and how many more. */
const among = (sites: readonly string[]): string =>
  sites.length < 3 ? sites.join(' and ') : `${sites[0]} and ${number(sites.length - 1)} more`;

function Due({ at, one }: { readonly at: string; readonly one: AgendaItem }): JSX.Element {
  if (one.request !== null)
    return (
      <Link className="truncate hover:text-accent" to={`/requests/${one.request}`} title={one.reason ?? ''}>
        <b>{one.reason}</b> <span className="text-ink2">onto {among(one.sites)}</span>
      </Link>
    );
  const begins = at === one.from;
  const words = one.is === 'window' ? (begins ? 'opens' : 'closes') : begins ? 'freezes' : 'is free again';
  return (
    <span className="truncate" title={one.sites.join(', ')}>
      {among(one.sites)}{' '}
      <span className="text-ink2">
        {one.sites.length === 1 ? words : plural(words)}
        {begins && one.until !== null && `, until ${timeOfDay(one.until)}`}
      </span>
    </span>
  );
}

const plural = (words: string): string => (words === 'is free again' ? 'are free again' : words.replace(/s$/, ''));
