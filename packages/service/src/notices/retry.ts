/** Waits between tries to mail something, in seconds; the last one is repeated. */
const BACK_OFF = [30, 120, 600, 3600, 6 * 3600];

/** When something is mailed again that was not taken. @param tries how often it was tried before */
export const retryAt = (tries: number, now: Date): Date =>
  new Date(now.getTime() + (BACK_OFF[Math.min(tries, BACK_OFF.length - 1)] as number) * 1000);
