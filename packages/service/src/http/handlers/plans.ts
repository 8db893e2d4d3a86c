import type { LaneRule } from '@tessarion/contract';
import { decide, type FreezableSite, isFreezeFor, mayDeliverAt, readScope, type Thing } from '@tessarion/core';
import { holdSite } from '../../fleet/sites.js';
import { quietOf } from '../../front/traffic.js';
import { noSite } from '../../ground/absent.js';
import { hashSecret, newSecret } from '../../ground/data-folder.js';
import { publishEvent, publishEvents } from '../../ground/events.js';
import type { OnRecords } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import { getTeam } from '../../people/people.js';
import { agendaOf } from '../../plans/agenda.js';
import { addFreeze, endCalendar, removeFreeze, saveCalendar, saveLaneRule, setWindows } from '../../plans/changes.js';
import { listFreezes, plannedSites, planOf, rulesOfSite, toFreeze, windowsTag } from '../../plans/plan.js';
import { holdRequest, ruleOfLane, showRule } from '../../requests/requests.js';
import { settleApproval } from '../../requests/standing.js';
import { CALENDAR_PATH } from '../calendar.js';
import { mustBeSession } from './access.js';
import type { Handlers } from './call.js';

const LANES = ['staging', 'live'] as const;

const laneOf = async (on: OnRecords, site: string, onto: (typeof LANES)[number]): Promise<LaneRule> => {
  return { site, onto, ...showRule(await ruleOfLane(on, site, onto)) };
};

export const planHandlers: Handlers<
  | 'laneList'
  | 'laneRule'
  | 'deliveryPlan'
  | 'quietHours'
  | 'calendarMake'
  | 'calendarEnd'
  | 'deliveryPlanList'
  | 'agendaShow'
  | 'windowSet'
  | 'freezeList'
  | 'freezeAdd'
  | 'freezeRemove'
> = {
  laneList: ({ installation: { records }, params }) =>
    Promise.all(LANES.map((onto) => laneOf(records, params.site, onto))),

  async laneRule(call) {
    const { installation, params, body } = call;
    const { site, onto } = params;
    return installation.records.transaction(async (trx) => {
      await holdSite(trx, site);
      const before = await laneOf(trx, site, onto);
      call.mustMatch(before.etag);
      for (const team of body.teams) await getTeam(trx, team);
      await saveLaneRule(trx, site, onto, body);
      await call.note(trx, site, { onto, before, after: body });
      // What was approved by the former rule is judged by this one.
      const open = (await trx('change_request')
        .where({ site })
        .whereIn('state', ['in-review', 'approved', 'scheduled', 'blocked'])
        .select('id')) as { id: string }[];
      for (const { id } of open)
        await settleApproval(trx, await holdRequest(trx, id), installation.now(), call.person.id);
      await publishEvent(trx, { type: 'site', site });
      return laneOf(trx, site, onto);
    });
  },

  deliveryPlan: ({ installation: { records, now }, params, query }) =>
    planOf(records, params.site, now(), query.at === undefined ? undefined : new Date(query.at)),

  quietHours: ({ installation, params }) => quietOf(installation.records, params.site, installation.now()),

  calendarMake: (call) => {
    const { installation, person } = call;
    mustBeSession(call);
    return installation.records.transaction(async (trx) => {
      const key = newSecret('calendar');
      await saveCalendar(trx, person.id, hashSecret(key), installation.now());
      await call.note(trx, person.id, {});
      // In the query, which no log holds.
      return { url: `${installation.consoleUrl}${CALENDAR_PATH}?key=${key}` };
    });
  },

  calendarEnd: (call) => {
    const { installation, person } = call;
    return installation.records.transaction(async (trx) => {
      await endCalendar(trx, person.id);
      await call.note(trx, person.id, {});
      return undefined;
    });
  },

  async deliveryPlanList({ installation: { records, now }, query, sight }) {
    const limit = query.limit ?? 50;
    const sites = plannedSites(records).limit(limit + 1);
    if (!sight.isWhole) sites.whereIn('name', [...sight.sites]);
    if (query.cursor !== undefined) sites.where('name', '>', query.cursor);
    const found = (await sites) as { name: string }[];
    const page = found.slice(0, limit);
    const items = [];
    for (const { name } of page) items.push(await planOf(records, name, now()));
    return { items, next: found.length > limit ? (page.at(-1)?.name ?? null) : null };
  },

  agendaShow: ({ installation: { records }, query, sight }) =>
    agendaOf(records, sight, { from: Date.parse(query.from), until: Date.parse(query.until) }),

  async windowSet(call) {
    const { installation, params, body } = call;
    const { site } = params;
    return installation.records.transaction(async (trx) => {
      await holdSite(trx, site);
      const before = await rulesOfSite(trx, site);
      call.mustMatch(windowsTag(before.windows));
      await setWindows(trx, site, body.windows);
      const rules = await rulesOfSite(trx, site);
      const at = installation.now().getTime();
      const opens = (given: typeof rules): boolean => {
        const moment = mayDeliverAt(given, at);
        return moment.allowed || moment.next !== undefined;
      };
      for (const window of rules.windows)
        if (!opens({ ...rules, windows: [window] }))
          throw new ProblemError(
            'invalid',
            `The window from ${window.from} until ${window.until} never opens within a year in ${rules.zone}: freezes cover it.`,
            'Choose other times, or lift a freeze.',
          );
      await call.note(trx, site, { before: before.windows, after: rules.windows });
      await publishEvent(trx, { type: 'site', site });
      return planOf(trx, site, installation.now());
    });
  },

  async freezeList({ installation: { records }, sight }) {
    const sites = (await records('site').select('name', 'client', 'tags')) as FreezableSite[];
    const seen = sites.filter((one) => sight.seesSite(one.name));
    const isSeen = (scope: string): boolean => seen.some((one) => isFreezeFor(scope, one));
    return (await listFreezes(records)).filter((one) => sight.isWhole || isSeen(one.scope)).map(toFreeze);
  },

  async freezeAdd(call) {
    const { installation, body, person } = call;
    const { time } = body;
    if (time.repeats === 'never' && time.until <= time.from)
      throw new ProblemError(
        'invalid',
        `The freeze ends (${time.until}) before it begins (${time.from}).`,
        'Turn them round.',
      );
    return installation.records.transaction(async (trx) => {
      call.mustHold('window.manage', await thingOf(trx, body.scope));
      await mustNameATag(trx, body.scope);
      const id = await addFreeze(trx, body, person.id, installation.now());
      await call.note(trx, body.scope, { freeze: id, reason: body.reason, time });
      await tellSites(trx, body.scope);
      const found = (await listFreezes(trx)).find((one) => one.id === id);
      return toFreeze(found as NonNullable<typeof found>);
    });
  },

  async freezeRemove(call) {
    const { installation, params } = call;
    await installation.records.transaction(async (trx) => {
      const found = (await listFreezes(trx)).find((one) => one.id === params.id);
      const absent = new ProblemError(
        'not-found',
        `There is no freeze ${params.id}.`,
        'List them: tessarion freeze list',
      );
      if (!found) throw absent;
      const thing = await thingOf(trx, found.scope);
      // Who may not read it does not learn that it is there.
      if (!decide(call.actor, 'site.read', thing).allowed) throw absent;
      call.mustHold('window.manage', thing);
      await removeFreeze(trx, params.id);
      await call.note(trx, found.scope, { freeze: found.id, reason: found.reason, time: found.time });
      await tellSites(trx, found.scope);
    });
    return undefined;
  },
};

/** Lets whoever looks at the sites of a freeze know that they are frozen, or not any more. */
async function tellSites(on: OnRecords, scope: string): Promise<void> {
  const sites = (await on('site').select('name', 'client', 'tags')) as FreezableSite[];
  await publishEvents(
    on,
    sites.filter((one) => isFreezeFor(scope, one)).map(({ name }) => ({ type: 'site', site: name })),
  );
}

/** What a freeze is for, as a thing that somebody may manage. @throws {ProblemError} `not-found` */
async function thingOf(on: OnRecords, text: string): Promise<Thing> {
  // Sites of any client may come to have a tag.
  if (text.startsWith('tag:')) return { is: 'installation' };
  const scope = readScope(text);
  if (scope.to === 'everything') return { is: 'installation' };
  if (scope.to === 'client') {
    const found = await on('site').where({ client: scope.client }).first('name');
    if (!found) throw new ProblemError('not-found', `There is no client ${scope.client}.`, 'List: tessarion site list');
    // A site that does not exist: only what was given for the client, or everything, covers it.
    return { is: 'site', client: scope.client, site: '' };
  }
  const site = text.split('/')[0] as string;
  const found = await on('site').where({ name: site }).first('client');
  if (!found) throw noSite(site);
  return { is: 'site', client: found.client, site };
}

/** A freeze for a tag that no site has would be a slip of the pen; a tag may be taken from all sites later. @throws {ProblemError} `not-found` */
async function mustNameATag(on: OnRecords, scope: string): Promise<void> {
  if (!scope.startsWith('tag:')) return;
  const tag = scope.slice('tag:'.length);
  if (!(await on('site').whereRaw('jsonb_exists(tags, ?)', [tag]).first('name')))
    throw new ProblemError(
      'not-found',
      `No site has the tag ${tag}.`,
      `Give it to one: tessarion site tag SITE ${tag}`,
    );
}
