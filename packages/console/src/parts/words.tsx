import type { SentencePiece } from '@tessarion/core';
import { type JSX, useEffect, useState } from 'react';
import { exact } from './moments.js';

/** A number with its thousands set apart. */
export const number = (value: number): string => value.toLocaleString('en-GB');

/** Bytes in the largest unit that leaves at least one. */
export function size(bytes: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB'];
  let [value, unit] = [bytes, 0];
  while (value >= 1000 && unit < units.length - 1) {
    value /= 1000;
    unit++;
  }
  return `${unit === 0 ? value : value < 10 ? value.toFixed(1) : Math.round(value)} ${units[unit]}`;
}

/** Seconds in a unit that a person would use. */
export function duration(seconds: number): string {
  if (seconds < 1) return `${Math.max(1, Math.round(seconds * 1000))} ms`;
  if (seconds < 90) return `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s`;
  return seconds < 5400 ? `${Math.round(seconds / 60)} min` : `${Math.round(seconds / 3600)} h`;
}

/** How long ago a moment was, in the shortest words. @param now in milliseconds since 1970 */
export function age(time: string, now: number): string {
  const seconds = Math.max(0, (now - Date.parse(time)) / 1000);
  if (seconds < 60) return 'now';
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min`;
  if (seconds < 48 * 3600) return `${Math.floor(seconds / 3600)} h`;
  return `${Math.floor(seconds / 86_400)} d`;
}

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
