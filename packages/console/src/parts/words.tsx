import type { SentencePiece } from '@tessarion/core';
import { type JSX, useEffect, useState } from 'react';
import { looks } from '../looks.js';

export const number = (value: number): string => value.toLocaleString('en-GB');

export function size(bytes: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB'];
  let [value, unit] = [bytes, 0];
  while (value >= 1000 && unit < units.length - 1) {
    value /= 1000;
    unit++;
  }
  return `${unit === 0 ? value : value < 10 ? value.toFixed(1) : Math.round(value)} ${units[unit]}`;
}

export function duration(seconds: number): string {
  if (seconds < 1) return `${Math.max(1, Math.round(seconds * 1000))} ms`;
  if (seconds < 90) return `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s`;
  return seconds < 5400 ? `${Math.round(seconds / 60)} min` : `${Math.round(seconds / 3600)} h`;
}

export function age(time: string, now: number): string {
  const seconds = Math.max(0, (now - Date.parse(time)) / 1000);
  if (seconds < 60) return 'now';
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min`;
  if (seconds < 48 * 3600) return `${Math.floor(seconds / 3600)} h`;
  return `${Math.floor(seconds / 86_400)} d`;
}

const FORMS = {
  exact: { dateStyle: 'medium', timeStyle: 'medium' },
  clock: { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', timeZoneName: 'short' },
  timeOfDay: { hour: '2-digit', minute: '2-digit' },
  day: { weekday: 'long', day: 'numeric', month: 'long' },
} as const satisfies Record<string, Intl.DateTimeFormatOptions>;

const OWN_ZONE = Intl.DateTimeFormat().resolvedOptions().timeZone;
/** To make one takes a tenth of a millisecond, and a list has hundreds of moments. */
const formats = new Map<string, Intl.DateTimeFormat>();

/** A moment in one of the forms, on the clock and of the zone that are wished for. */
function written(form: keyof typeof FORMS, time: string): string {
  const { clock, zone } = looks();
  const key = `${form} ${clock} ${zone}`;
  let format = formats.get(key);
  if (!format) {
    format = new Intl.DateTimeFormat('en-GB', {
      ...FORMS[form],
      ...(form === 'day' ? {} : { hour12: clock === '12' }),
      ...(zone === 'UTC' ? { timeZone: 'UTC' } : {}),
    });
    formats.set(key, format);
  }
  return format.format(new Date(time));
}

/** The exact moment with its zone. */
export const exact = (time: string): string => `${written('exact', time)} ${looks().zone === 'UTC' ? 'UTC' : OWN_ZONE}`;

export const clock = (time: string): string => written('clock', time).replace(',', '');

/** Hours and minutes. */
export const timeOfDay = (time: string): string => written('timeOfDay', time);

/** A day, such as `Tuesday 1 December`. */
export const dayOf = (time: string): string => written('day', time);

/** The current time, renewed every few seconds, so that ages stay true. */
export function useNow(everyMs = 15_000): number {
  const [now, setNow] = useState(Date.now);
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), everyMs);
    return () => clearInterval(timer);
  }, [everyMs]);
  return now;
}

/** How long ago; the exact time with its zone on hover. */
export function Ago({ time, suffix = '' }: { readonly time: string | null; readonly suffix?: string }): JSX.Element {
  const now = useNow();
  if (time === null) return <>–</>;
  return (
    <time dateTime={time} title={exact(time)}>
      {age(time, now)}
      {age(time, now) === 'now' ? '' : suffix}
    </time>
  );
}

/** The sentence that every transfer says of itself. */
export function SentenceText({ pieces }: { readonly pieces: readonly SentencePiece[] }): JSX.Element {
  return (
    <>
      {pieces.map((piece, i) => {
        const key = `${i} ${piece.text}`;
        if (piece.tone === 'strong')
          return (
            <b className="font-[620]" key={key}>
              {piece.text}
            </b>
          );
        if (piece.tone === 'path')
          return (
            <span key={key} className="mono text-[18px] max-desk:text-[15.5px]">
              {piece.text}
            </span>
          );
        if (piece.tone === 'needs-you')
          return (
            <b key={key} className="font-[620] text-accent">
              {piece.text}
            </b>
          );
        return <span key={key}>{piece.text}</span>;
      })}
    </>
  );
}
