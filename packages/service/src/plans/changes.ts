import type { BodyOf } from '@tessarion/contract';
import { newId } from '../ground/data-folder.js';
import { json, type OnRecords } from '../ground/open.js';

/** Records what a lane asks of what goes onto its environments. */
export async function saveLaneRule(
  trx: OnRecords,
  site: string,
  onto: string,
  { approvals, teams, threadsBlock, guests = 0 }: BodyOf<'laneRule'>,
): Promise<void> {
  const rule = { site, onto, approvals, teams: json([...new Set(teams)]), threads_block: threadsBlock, guests };
  await trx('lane_rule').insert(rule).onConflict(['site', 'onto']).merge();
}

/** Records by which key somebody's calendar is read from now on. */
export async function saveCalendar(trx: OnRecords, person: string, hash: string, at: Date): Promise<void> {
  const key = { hash, created_at: at };
  await trx('calendar')
    .insert({ person_id: person, ...key })
    .onConflict('person_id')
    .merge(key);
}

/** Lets nobody read somebody's calendar any more. */
export async function endCalendar(trx: OnRecords, person: string): Promise<void> {
  await trx('calendar').where({ person_id: person }).delete();
}

/** Records a site's delivery windows in place of those that it had. */
export async function setWindows(trx: OnRecords, site: string, windows: BodyOf<'windowSet'>['windows']): Promise<void> {
  await trx('delivery_window').where({ site }).delete();
  if (windows.length === 0) return;
  await trx('delivery_window').insert(
    windows.map(({ days, from, until }, position) => ({
      site,
      position,
      days: json([...new Set(days)].sort()),
      from,
      until,
    })),
  );
}

/** Records a freeze. @returns its id */
export async function addFreeze(
  trx: OnRecords,
  { reason, scope, time }: BodyOf<'freezeAdd'>,
  person: string,
  at: Date,
): Promise<string> {
  const id = newId('z');
  await trx('freeze').insert({ id, reason, scope, time: json(time), person_id: person, created_at: at });
  return id;
}

/** Ends a freeze. */
export async function removeFreeze(trx: OnRecords, id: string): Promise<void> {
  await trx('freeze').where({ id }).delete();
}
