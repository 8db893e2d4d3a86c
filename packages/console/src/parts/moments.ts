import { looks } from '../looks.js';

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

/** A moment as lists show it. */
export const clock = (time: string): string => written('clock', time).replace(',', '');

/** Hours and minutes. */
export const timeOfDay = (time: string): string => written('timeOfDay', time);

/** A day, such as `Tuesday 1 December`. */
export const dayOf = (time: string): string => written('day', time);
