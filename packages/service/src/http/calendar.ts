import type { DeliveryPlan, Person } from '@tessarion/contract';
import type { FastifyInstance } from 'fastify';
import ical, { ICalCalendarMethod } from 'ical-generator';
import { hashSecret } from '../ground/data-folder.js';
import { ProblemError } from '../ground/problems.js';
import { callerOf } from '../people/actors.js';
import { sightOf } from '../people/sight.js';
import { plannedSites, planOf } from '../plans/plan.js';
import type { Installation } from '../transfers/installation.js';
import type { Limits } from './limits.js';

/** Where the calendar is asked for. */
export const CALENDAR_PATH = '/calendar.ics';
const DELIVERY_MINUTES = 15;
/** All sites are planned for it. */
const COSTS = 25;
const DAY_MS = 86_400_000;

/**
 * A calendar (RFC 5545) of all that somebody may read: openings, freezes and deliveries of the next weeks, as moments
 * and not as rules, so that every program agrees about changes of clocks.
 */
export function addCalendar(app: FastifyInstance, installation: Installation, limits: Limits): void {
  const { records, now, consoleUrl } = installation;
  app.get(CALENDAR_PATH, async (request, reply) => {
    const key = String((request.query as { key?: string }).key ?? '');
    const person = (await records('calendar as c')
      .join('person as p', 'p.id', 'c.person_id')
      .where({ 'c.hash': hashSecret(key), 'p.state': 'active' })
      .first('p.id', 'p.name', 'p.mail')) as Person | undefined;
    if (!person) {
      await limits.ofStranger(request.ip);
      throw new ProblemError('not-found', 'There is no such calendar.', 'Make its address anew, in Settings.');
    }
    await limits.ofPerson(person.id, COSTS);
    const { actor } = await callerOf(records, person, undefined);
    const sight = await sightOf(records, actor);
    const calendar = ical({
      name: 'Deliveries',
      prodId: '//Tessarion//Deliveries//EN',
      method: ICalCalendarMethod.PUBLISH,
    });
    // From a day that stays the same for a while, so that what is going on keeps its name.
    const since = new Date(Math.floor(now().getTime() / DAY_MS) * DAY_MS - DAY_MS);
    /** What began before is known by its end. */
    const nameOf = (one: { from: string; until: string }): string =>
      one.from === since.toISOString() ? `until-${one.until}` : one.from;
    const sites = (await plannedSites(records)) as { name: string }[];
    for (const { name } of sites)
      if (sight.seesEnvironment(`${name}/live`)) addPlan(await planOf(records, name, since));
    return reply
      .type('text/calendar; charset=utf-8')
      .header('cache-control', 'private, no-store')
      .send(calendar.toString());

    function addPlan({ site, openings, windows, frozen, freezes, deliveries }: DeliveryPlan): void {
      const url = `${consoleUrl}/windows?at=${site}`;
      // Without windows it is open at all times, which is no news.
      if (windows.length > 0)
        for (const one of openings)
          calendar.createEvent({
            id: `open-${site}-${nameOf(one)}@tessarion`,
            start: new Date(one.from),
            end: new Date(one.until),
            summary: `${site}: window`,
            url,
          });
      for (const one of frozen)
        calendar.createEvent({
          id: `frozen-${site}-${nameOf(one)}@tessarion`,
          start: new Date(one.from),
          end: new Date(one.until),
          summary: `${site}: frozen`,
          description: freezes.map((freeze) => freeze.reason).join('\n'),
          url,
        });
      for (const one of deliveries)
        calendar.createEvent({
          id: `${one.request}@tessarion`,
          start: new Date(one.at),
          end: new Date(Date.parse(one.at) + DELIVERY_MINUTES * 60_000),
          summary: `${site}: ${one.title}`,
          url: `${consoleUrl}/requests/${one.request}`,
        });
    }
  });
}
