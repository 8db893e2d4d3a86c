import type { OnRecords } from '../ground/open.js';

const DAY_MS = 86_400_000;
/** How long what was measured is kept. */
const KEPT_DAYS = 400;

/** Forgets what was measured long ago. */
export async function forgetMeasures(on: OnRecords, now: Date): Promise<void> {
  await on('measure')
    .where('day', '<', new Date(now.getTime() - KEPT_DAYS * DAY_MS))
    .delete();
}
