import { mayDeliverAt } from '@tessarion/core';
import { laneOnto } from '../fleet/lane-onto.js';
import type { OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { rulesOfSite } from './plan.js';

/** When a request is to go; undefined for now. @throws {ProblemError} `invalid`, `closed` */
export async function momentOf(
  trx: OnRecords,
  request: { readonly site: string; readonly onto_path: string },
  when: string,
  now: Date,
): Promise<Date | undefined> {
  if (when === 'now') return undefined;
  if (when === 'window') {
    if ((await laneOnto(trx, request.onto_path)) !== 'live') return undefined;
    const rules = await rulesOfSite(trx, request.site);
    const moment = mayDeliverAt(rules, now.getTime());
    if (moment.allowed) return undefined;
    if (moment.next === undefined)
      throw new ProblemError(
        'closed',
        `${request.site} never opens within a year.`,
        'Look at its windows and freezes.',
      );
    return new Date(moment.next);
  }
  return mustBeToCome(when, now);
}

/** @throws {ProblemError} `invalid` */
function mustBeToCome(when: string, now: Date): Date {
  const at = new Date(when);
  if (at <= now)
    throw new ProblemError('invalid', `${when} is in the past.`, 'Name a time that is still to come, or deliver now.');
  return at;
}

/** When somebody wants a request delivered, as it is kept. @throws {ProblemError} `invalid` */
export const wantedTime = (wanted: string | null, now: Date): string | null =>
  wanted === null || wanted === 'window' ? wanted : mustBeToCome(wanted, now).toISOString();
