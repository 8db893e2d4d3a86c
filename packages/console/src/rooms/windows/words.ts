/** Days of the week, Monday first. */
export const NAMES = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun'];

/** Days of the week, as people say them. */
export const daysText = (days: readonly number[]): string =>
  days.length === 7 ? 'every day' : days.map((day) => NAMES[day - 1]).join(', ');
