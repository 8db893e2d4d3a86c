import { DateTime } from 'luxon';
import { lastMoment, localMoment } from './local-moment.js';

/** When delivering is allowed, week by week: from one time of day to another, which may lie on the next day. */
export interface WeeklyWindow {
  /** Days on which it opens; 1 is Monday. */
  readonly days: readonly number[];
  /** Times of day in the site's zone, `HH:MM`. `until` at or before `from` is on the next day. */
  readonly from: string;
  readonly until: string;
}

/** When delivering is forbidden. */
export type Freeze =
  /** Once; local times such as `2026-12-20T18:00`. */
  | { readonly repeats: 'never'; readonly from: string; readonly until: string }
  /** Each year, from the first day up to and with the last; `MM-DD`. */
  | { readonly repeats: 'yearly'; readonly from: string; readonly until: string };

/** A site as freezes name it. */
export interface FreezableSite {
  readonly name: string;
  readonly client: string;
  readonly tags: readonly string[];
}

/** Whether a freeze for `everything`, `client:NAME`, `tag:NAME` or a site is one for a site. */
export function isFreezeFor(scope: string, { name, client, tags }: FreezableSite): boolean {
  if (scope.startsWith('tag:')) return tags.includes(scope.slice('tag:'.length));
  return scope === 'everything' || scope === `client:${client}` || scope === name;
}

/** A stretch of time, in milliseconds since 1970; it begins at `from` and ends before `until`. */
export interface Stretch {
  readonly from: number;
  readonly until: number;
}

const DAY = 86_400_000;

/** The openings of some windows that touch a span of time, joined where they meet, in order. */
export function openingsOf(windows: readonly WeeklyWindow[], zone: string, span: Stretch): Stretch[] {
  const found: Stretch[] = [];
  let day: DateTime = DateTime.fromMillis(span.from, { zone }).startOf('day').minus({ days: 2 });
  let next = followingDay(day);
  const last = DateTime.fromMillis(span.until, { zone }).startOf('day').plus({ days: 1 });
  while (day <= last) {
    const afterNext = followingDay(next);
    for (const window of windows) {
      if (!window.days.includes(day.weekday)) continue;
      const from = momentOf(localMoment, window.from, day, next);
      const isOvernight = window.until <= window.from;
      const until = isOvernight
        ? momentOf(lastMoment, window.until, next, afterNext)
        : momentOf(lastMoment, window.until, day, next);
      if (until > from && until > span.from && from < span.until) found.push({ from, until });
    }
    [day, next] = [next, afterNext];
  }
  return joined(found);
}

const followingDay = (day: DateTime): DateTime => {
  const next = day.plus({ days: 1 });
  return next.hour === 0 ? next : next.startOf('day');
};

/** A time of a day that ends where another begins: clocks are asked only on days that they change on. */
function momentOf(moment: typeof localMoment, time: string, day: DateTime, next: DateTime): number {
  const start = day.toMillis();
  if (day.hour !== 0 || next.toMillis() - start !== DAY) return moment(day, time);
  const [hour, minute] = time.split(':').map(Number) as [number, number];
  return start + (hour * 60 + minute) * 60_000;
}

/** The stretches in which some freezes hold that touch a span of time, joined where they meet, in order. */
export function frozenOf(freezes: readonly Freeze[], zone: string, span: Stretch): Stretch[] {
  const found: Stretch[] = [];
  for (const freeze of freezes)
    for (const stretch of freeze.repeats === 'never' ? [once(freeze, zone)] : eachYear(freeze, zone, span))
      if (stretch.until > stretch.from && stretch.until > span.from && stretch.from < span.until) found.push(stretch);
  return joined(found);
}

function once({ from, until }: Freeze, zone: string): Stretch {
  const at = (local: string, of: typeof localMoment): number => {
    const [date, time] = local.split('T') as [string, string];
    return of(DateTime.fromISO(date, { zone }), time);
  };
  return { from: at(from, localMoment), until: at(until, lastMoment) };
}

function* eachYear({ from, until }: Freeze, zone: string, span: Stretch): Generator<Stretch> {
  const first = DateTime.fromMillis(span.from, { zone }).year - 1;
  const last = DateTime.fromMillis(span.until, { zone }).year;
  for (let year = first; year <= last; year++)
    yield {
      from: dayOf(year, from, zone).toMillis(),
      until: dayOf(until < from ? year + 1 : year, until, zone)
        .plus({ days: 1 })
        .startOf('day')
        .toMillis(),
    };
}

/** 29 February is the 28th in a year that has none. */
function dayOf(year: number, text: string, zone: string): DateTime {
  const [month, day] = text.split('-').map(Number) as [number, number];
  const first = DateTime.fromObject({ year, month, day: 1 }, { zone });
  return first.set({ day: Math.min(day, first.daysInMonth ?? day) }).startOf('day');
}

function joined(stretches: readonly Stretch[]): Stretch[] {
  const found: Stretch[] = [];
  for (const { from, until } of [...stretches].sort((a, b) => a.from - b.from)) {
    const former = found.at(-1);
    if (former && from <= former.until)
      found[found.length - 1] = { from: former.from, until: Math.max(former.until, until) };
    else found.push({ from, until });
  }
  return found;
}

function without(open: readonly Stretch[], closed: readonly Stretch[]): Stretch[] {
  let left = [...open];
  for (const gap of closed)
    left = left.flatMap((one) =>
      gap.until <= one.from || gap.from >= one.until
        ? [one]
        : [
            { from: one.from, until: Math.min(one.until, gap.from) },
            { from: Math.max(one.from, gap.until), until: one.until },
          ].filter((part) => part.until > part.from),
    );
  return left;
}

/** Rules of delivery for one environment. Without windows it is allowed at all times but in freezes. */
export interface DeliveryRules {
  readonly windows: readonly WeeklyWindow[];
  readonly freezes: readonly Freeze[];
  /** IANA name of the site's time zone. */
  readonly zone: string;
}

/** When delivering is allowed within a span, in order. */
export function deliverable({ windows, freezes, zone }: DeliveryRules, span: Stretch): Stretch[] {
  const open = windows.length === 0 ? [span] : openingsOf(windows, zone, span);
  const clipped = open.map((one) => ({
    from: Math.max(one.from, span.from),
    until: Math.min(one.until, span.until),
  }));
  return without(clipped, frozenOf(freezes, zone, span));
}

/** Whether may be delivered at a moment; `until` and `next` in milliseconds, undefined where there is no such time. */
export type DeliveryMoment =
  | { readonly allowed: true; readonly until: number | undefined }
  | { readonly allowed: false; readonly because: 'window' | 'freeze'; readonly next: number | undefined };

/** How far is looked ahead, in days: mostly the first suffices. */
const AHEAD = [3, 30, 366] as const;

/** Whether one may deliver at a moment, until when, or why not and when next. Looks a year and a day ahead. */
export function mayDeliverAt(rules: DeliveryRules, at: number): DeliveryMoment {
  for (const days of AHEAD) {
    const until = at + days * DAY;
    const [first] = deliverable(rules, { from: at, until });
    if (first && first.from > at) return { allowed: false, because: reasonAt(rules, at), next: first.from };
    if (first && first.until < until) return { allowed: true, until: first.until };
    if (first && days === AHEAD.at(-1)) return { allowed: true, until: undefined };
  }
  return { allowed: false, because: reasonAt(rules, at), next: undefined };
}

const reasonAt = ({ freezes, zone }: DeliveryRules, at: number): 'window' | 'freeze' =>
  frozenOf(freezes, zone, { from: at, until: at + 1 }).length > 0 ? 'freeze' : 'window';

/** How late a delivery may begin where no windows say it. */
const GRACE = 15 * 60_000;

/**
 * Whether a delivery that was meant for a moment may still begin later, when nobody could begin it in time: within
 * the stretch that it was meant for, or a quarter of an hour where nothing closes.
 */
export function isStillDue(rules: DeliveryRules, at: number, now: number): boolean {
  if (now < at || !mayDeliverAt(rules, now).allowed) return false;
  if (now - at <= GRACE) return true;
  const [stretch] = deliverable(rules, { from: at, until: now + 1 });
  return rules.windows.length > 0 && stretch !== undefined && stretch.from === at && stretch.until > now;
}
