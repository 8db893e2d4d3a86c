import type { LaneRule } from '@tessarion/contract';
import { covers, decide, mayDeliverAt, readScope, type Thing } from '@tessarion/core';
import { newId } from '../../data-folder.js';
import { ProblemError } from '../../problems.js';
import { noSite } from '../../records/absent.js';
import { publishEvent } from '../../records/events.js';
import { json, type OnRecords } from '../../records/open.js';
import { getTeam } from '../../records/people.js';
import { holdRequest, ruleOfLane } from '../../records/requests.js';
import { listFreezes, planOf, rulesOfSite, toFreeze } from '../../requests/plan.js';
import { settleApproval } from '../../requests/standing.js';
import type { Handlers } from './call.js';

const LANES = ['staging', 'live'] as const;

const laneOf = async (on: OnRecords, site: string, onto: (typeof LANES)[number]): Promise<LaneRule> => {
  const { approvals, teams, threadsBlock } = await ruleOfLane(on, site, onto);
  return { site, onto, approvals, teams: [...teams], threadsBlock };
};

export const planHandlers: Handlers<
  | 'laneList'
  | 'laneRule'
  | 'deliveryPlan'
  | 'deliveryPlanList'
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
      for (const team of body.teams) await getTeam(trx, team);
      const before = await laneOf(trx, site, onto);
      await trx('lane_rule')
        .insert({
          site,
          onto,
          approvals: body.approvals,
          teams: json([...new Set(body.teams)]),
          threads_block: body.threadsBlock,
        })
        .onConflict(['site', 'onto'])
        .merge();
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

  deliveryPlan: ({ installation, params }) => planOf(installation.records, params.site, installation.now()),

  async deliveryPlanList({ installation: { records, now }, query, sight }) {
    const limit = query.limit ?? 50;
    const sites = records('site as s')
      .orderBy('name')
      .limit(limit + 1)
      .select('name');
    if (!sight.isWhole) sites.whereIn('name', [...sight.sites]);
    if (query.cursor !== undefined) sites.where('name', '>', query.cursor);
    // A freeze of everything is no news of one site.
    sites.whereRaw(
      `(EXISTS (SELECT FROM delivery_window w WHERE w.site = s.name)
        OR EXISTS (SELECT FROM "freeze" AS f WHERE f.scope IN (s.name, 'client:' || s.client))
        OR EXISTS (SELECT FROM change_request r WHERE r.site = s.name AND r.state = 'scheduled'))`,
    );
    const found = (await sites) as { name: string }[];
    const page = found.slice(0, limit);
    const items = [];
    for (const { name } of page) items.push(await planOf(records, name, now()));
    return { items, next: found.length > limit ? (page.at(-1)?.name ?? null) : null };
  },

  async windowSet(call) {
    const { installation, params, body } = call;
    const { site } = params;
    return installation.records.transaction(async (trx) => {
      const before = await rulesOfSite(trx, site);
      await trx('delivery_window').where({ site }).delete();
      if (body.windows.length > 0)
        await trx('delivery_window').insert(
          body.windows.map(({ days, from, until }, position) => ({
            site,
            position,
            days: json([...new Set(days)].sort()),
            from,
            until,
          })),
        );
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
    const sites = (await records('site').select('name', 'client')) as { name: string; client: string }[];
    const isSeen = (scope: string): boolean =>
      sites.some(
        ({ name, client }) => sight.seesSite(name) && covers(readScope(scope), { is: 'site', site: name, client }),
      );
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
      const id = newId('z');
      await trx('freeze').insert({
        id,
        reason: body.reason,
        scope: body.scope,
        time: json(time),
        person_id: person.id,
        created_at: installation.now(),
      });
      await call.note(trx, body.scope, { freeze: id, reason: body.reason, time });
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
      await trx('freeze').where({ id: params.id }).delete();
      await call.note(trx, found.scope, { freeze: found.id, reason: found.reason, time: found.time });
    });
    return undefined;
  },
};

/** What a freeze is for, as a thing that somebody may manage. @throws {ProblemError} `not-found` */
async function thingOf(on: OnRecords, text: string): Promise<Thing> {
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
