import { DateTime } from 'luxon';
import { localMoment } from '../delivery/local-moment.js';

/** When somebody has mailed what happened since the day before: a time of day, in a time zone by its IANA name. */
export interface DigestTime {
  /** `HH:MM`. */
  readonly at: string;
  readonly zone: string;
}

/** When something that happened is mailed together with what else happened since the last time; always later. */
export function nextDigest(happened: Date, { at, zone }: DigestTime): Date {
  const today = DateTime.fromJSDate(happened, { zone }).startOf('day');
  for (let days = 0; ; days++) {
    const due = localMoment(today.plus({ days }), at);
    if (due > happened.getTime()) return new Date(due);
  }
}

/** Whether a time zone is known by that name. */
export const isTimeZone = (zone: string): boolean => DateTime.utc().setZone(zone).isValid;
