import { DateTime } from 'luxon';

/**
 * A local time `HH:MM` of a day, in milliseconds since 1970. One that a change of clocks leaves out is taken as
 * the moment at which the clocks go forward; of one that comes twice it is the first.
 */
export function localMoment(day: DateTime, time: string): number {
  const [hour, minute] = time.split(':').map(Number) as [number, number];
  const wanted = day.set({ hour, minute, second: 0, millisecond: 0 });
  if (wanted.hour === hour && wanted.minute === minute) return earliest(wanted);
  // Left out: luxon goes on by the width of the gap; the gap's end is where the offset changes.
  let [before, after] = [wanted.minus({ hours: 3 }).toMillis(), wanted.toMillis()];
  const offset = DateTime.fromMillis(after, { zone: day.zone }).offset;
  while (after - before > 1) {
    const middle = Math.floor((before + after) / 2);
    if (DateTime.fromMillis(middle, { zone: day.zone }).offset === offset) after = middle;
    else before = middle;
  }
  return after;
}

/** Of a local time that comes twice, the first. */
const earliest = (wanted: DateTime): number =>
  Math.min(...wanted.getPossibleOffsets().map((possible) => possible.toMillis()));

/** Of a local time that comes twice, the last: what ends then ends when it has passed for good. */
export const lastMoment = (day: DateTime, time: string): number => {
  const [hour, minute] = time.split(':').map(Number) as [number, number];
  const wanted = day.set({ hour, minute, second: 0, millisecond: 0 });
  if (wanted.hour !== hour || wanted.minute !== minute) return localMoment(day, time);
  return Math.max(...wanted.getPossibleOffsets().map((possible) => possible.toMillis()));
};
