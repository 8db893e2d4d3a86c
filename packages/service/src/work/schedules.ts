import { mergeLane, sentenceText } from '@tessarion/core';
import { DateTime } from 'luxon';
import type { EnvironmentRecord, PullSchedule, ScheduledPull } from '../fleet/environments.js';
import { getForecast, recordForecast } from '../forecasts/forecasts.js';
import { NO_WISHES } from '../forecasts/transfer-facts.js';
import { publishEvent } from '../ground/events.js';
import { failureOf } from '../ground/problems.js';
import { tellOfSchedule } from '../notices/tell.js';
import type { PushInput } from '../transfers/inputs.js';
import type { Installation } from '../transfers/installation.js';
import { computeForecast } from './forecasting.js';

/**
 * The last moment at which a schedule was due.
 *
 * @param zone time zone of the site, such as `Europe/Oslo`
 */
export function lastDue({ at, days }: PullSchedule, zone: string, now: Date): Date {
  const [hour, minute] = at.split(':').map(Number) as [number, number];
  let due = DateTime.fromJSDate(now, { zone }).set({ hour, minute, second: 0, millisecond: 0 });
  while (due.toJSDate() > now || (days.length > 0 && !days.includes(due.weekday)))
    due = due.minus({ days: 1 }).set({ hour, minute });
  return due.toJSDate();
}

/** Brings live's news into the copies whose time has come. What collides stops it, and is for a person to settle. */
export async function pullOnSchedule(installation: Installation): Promise<void> {
  const { records, environments, transfers, now } = installation;
  const sites = (await records('site').select('name', 'time_zone')) as { name: string; time_zone: string }[];
  const zones = new Map(sites.map((site) => [site.name, site.time_zone]));
  for (const one of await environments.list(records)) {
    if (!one.schedule || one.status !== 'ready') continue;
    const due = lastDue(one.schedule, zones.get(one.site) ?? 'UTC', now());
    if (due <= new Date(one.schedule.since)) continue;
    if (await transfers.isBusy(records, one.path)) continue;
    // Noted first: a worker that dies over it does not begin again and again.
    const schedule = { ...one.schedule, since: due.toISOString() };
    await environments.update(records, one.path, { schedule });
    const last = await pull(installation, one);
    const newest = await environments.find(records, one.path);
    if (last.outcome === 'stopped') await tellOfSchedule(records, one.path, one.schedule.by, last.text, now());
    if (newest?.schedule) await environments.update(records, one.path, { schedule: { ...newest.schedule, last } });
    await publishEvent(records, { type: 'site', site: one.site });
  }
}

async function pull(installation: Installation, copy: EnvironmentRecord): Promise<ScheduledPull> {
  const { records, environments, transfers, journal, now, log } = installation;
  const at = now().toISOString();
  const person = `schedule of ${copy.path}`;
  const from = copy.schedule?.from as string;
  const stopped = (text: string, forecast: string | null = null): ScheduledPull => ({
    at,
    outcome: 'stopped',
    text,
    forecast,
    transfer: null,
  });
  try {
    const source = await environments.find(records, from);
    if (source?.status !== 'ready') return stopped(`${from} is not there.`);
    const verdict = mergeLane(source, copy);
    if (!verdict.allowed) return stopped(verdict.reason);
    const wanted = { from_path: from, onto_path: copy.path, method: 'merge' as const, wishes: NO_WISHES };
    const id = await recordForecast(records, wanted, { id: copy.schedule?.by ?? null, name: person }, now());
    await computeForecast(installation, id);
    const { result, failure } = await getForecast(records, id);
    if (!result) return stopped(failure?.message ?? 'The forecast failed.', id);
    const failed = result.checks.find((check) => check.state === 'failed');
    if (failed) return stopped(failed.message, id);
    if (result.unsettled > 0)
      return stopped(
        `${result.unsettled === 1 ? '1 item collides' : `${result.unsettled} items collide`}; nothing was brought in.`,
        id,
      );
    if (result.written.length === 0)
      return { at, outcome: 'nothing', text: 'There was no news.', forecast: id, transfer: null };
    const input: PushInput = { forecast: id, from };
    const transfer = await records.transaction(async (trx) => {
      const begun = await transfers.create(trx, {
        kind: 'pull',
        from,
        onto: copy.path,
        site: copy.site,
        sentence: result.sentence,
        by: { id: copy.schedule?.by ?? null, name: person },
        input,
        forecast: id,
        checks: result.checks,
      });
      await journal.write(trx, {
        actor: person,
        act: 'pullCreate',
        outcome: 'done',
        thing: copy.path,
        details: { transfer: begun.id, from, forecast: id },
        who: undefined,
      });
      return begun;
    });
    return { at, outcome: 'begun', text: sentenceText(result.sentence), forecast: id, transfer: transfer.id };
  } catch (error) {
    log.warn({ environment: copy.path, err: error }, 'a scheduled pull could not begin');
    return stopped(failureOf(error).message);
  }
}
