import { mayDeliverAt } from '@tessarion/core';
import { laneOnto } from '../fleet/lane-onto.js';
import type { OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { rulesOfSite } from './plan.js';
/** @throws {ProblemError} `closed` outside the windows or in a freeze, where nothing overrides it */
export async function mustBeOpen(
  trx: OnRecords,
  request: { readonly site: string; readonly onto_path: string; readonly override: string | null },
  at: Date,
): Promise<void> {
  if (request.override !== null || (await laneOnto(trx, request.onto_path)) !== 'live') return;
  const moment = mayDeliverAt(await rulesOfSite(trx, request.site), at.getTime());
  if (moment.allowed) return;
  const next = moment.next === undefined ? 'It never opens within a year.' : `It opens ${shownTime(moment.next)}.`;
  throw new ProblemError(
    'closed',
    moment.because === 'freeze'
      ? `${request.onto_path} is frozen at ${shownTime(at.getTime())}.`
      : `${shownTime(at.getTime())} is outside the windows of ${request.site}.`,
    `${next} A change request can wait for it (tessarion deliver ID --when window); --override REASON goes all the same.`,
  );
}

/** A time, in milliseconds, as refusals tell it. */
export const shownTime = (at: number): string => `${new Date(at).toISOString().slice(0, 16).replace('T', ' ')} UTC`;
