import type { BodyOf, ForecastWishes } from '@tessarion/contract';
import { isOpenRequest, mayDeliverAt } from '@tessarion/core';
import { newId } from '../../data-folder.js';
import { ProblemError } from '../../problems.js';
import type { OnRecords } from '../../records/open.js';
import { getColleague, getTeam } from '../../records/people.js';
import {
  addHistory,
  addRevision,
  getRequest,
  holdRequest,
  itemsOfForecast,
  type RequestRecord,
  requestTag,
  type StepRecord,
  stepsOf,
} from '../../records/requests.js';
import { mustBeUndoable } from '../../records/transfers.js';
import { mustStay } from '../../requests/asked-for.js';
import { claim, heldBy } from '../../requests/claims.js';
import { beginDelivery, mustBeOpen, mustBeReady } from '../../requests/deliver.js';
import { move, tell } from '../../requests/moves.js';
import { rulesOfSite } from '../../requests/plan.js';
import { chosen, lookAgain, mustBeEditable, noteActivity } from '../../requests/revisions.js';
import { destinationOf, hasCollisions, laneOnto, settleApproval } from '../../requests/standing.js';
import { showRequest, showRequests } from '../../requests/view.js';
import type { ForecastRecord } from '../../work/forecasting.js';
import { resultOf } from '../../work/ready-to-go.js';
import { NO_WISHES } from '../../work/transfer-facts.js';
import type { Call, Handlers } from './call.js';
import { getForecast } from './forecasts.js';
import { mustConfirm } from './transfers.js';

/** What an edit changes, in words. */
const EDITED: Readonly<Record<keyof BodyOf<'requestEdit'>, string>> = {
  title: 'title',
  description: 'description',
  reviewers: 'reviewers',
  steps: 'manual steps',
  wantedFor: 'wanted time',
};

/** More than this cannot be reviewed one by one, and is not kept item by item. */
const MOST_ITEMS = 20_000;

export const requestHandlers: Handlers<
  | 'requestList'
  | 'requestOpen'
  | 'requestShow'
  | 'requestEdit'
  | 'requestAsk'
  | 'requestRevise'
  | 'requestWithdraw'
  | 'stepTick'
  | 'requestDeliver'
  | 'requestUnschedule'
> = {
  async requestList({ installation: { records }, query, person, sight }) {
    const { limit = 50, cursor, whose, state, open, site, find } = query;
    const [at, id] = cursor?.split('/') ?? [];
    const rows = records<RequestRecord>('change_request as r')
      .orderBy('created_at', 'desc')
      .orderBy('id', 'desc')
      .limit(limit + 1);
    sight.narrow(rows, 'site', 'onto_path');
    if (state !== undefined) rows.where({ state });
    if (site !== undefined) rows.where({ site });
    if (find !== undefined) {
      const like = `%${find.replace(/[\\%_]/g, '\\$&')}%`;
      rows.whereRaw('(title ILIKE :like OR author IN (SELECT id FROM person WHERE name ILIKE :like))', { like });
    }
    if (open !== undefined) rows.whereNotIn('state', ['delivered', 'undone', 'withdrawn']);
    if (whose === 'mine') rows.where({ author: person.id });
    if (whose === 'waiting')
      rows.whereRaw(
        `((author = :me AND state IN ('returned', 'blocked'))
          OR (author <> :me AND (state = 'in-review' OR (state = 'delivered' AND urgent IS NOT NULL))
            AND EXISTS (SELECT FROM request_reviewer v WHERE v.request_id = r.id AND (v.person_id = :me
              OR v.team IN (SELECT team FROM team_member WHERE person_id = :me)))
            AND NOT EXISTS (SELECT FROM request_verdict v WHERE v.request_id = r.id AND v.person_id = :me
              AND v.revision = r.revision AND NOT v.is_answered)))`,
        { me: person.id },
      );
    if (at !== undefined && id !== undefined) rows.whereRaw('(created_at, id) < (?::timestamptz, ?)', [at, id]);
    const found = (await rows) as RequestRecord[];
    const page = found.slice(0, limit);
    const last = page.at(-1);
    return {
      items: await showRequests(records, page, person.id),
      next: found.length > limit && last ? `${last.created_at.toISOString()}/${last.id}` : null,
    };
  },

  async requestShow(call) {
    return shown(call, call.installation.records, call.params.id);
  },

  async requestOpen(call) {
    const { installation, body, person } = call;
    const { records, environments, transfers, now } = installation;
    const forecast = await getForecast(installation, body.forecast);
    mustBeAskable(forecast);
    if (forecast.undoes !== null) mustBeUndoable(await transfers.get(records, forecast.undoes));
    const onto = await environments.get(records, forecast.onto_path);
    return records.transaction(async (trx) => {
      const newest = await trx('forecast').where({ id: forecast.id }).forUpdate().first('result', 'state', 'failure');
      mustBeAskable({ ...forecast, ...newest });
      const items = await itemsOfForecast(trx, forecast.id);
      if (items.every((item) => item.outcome === 'kept'))
        throw new ProblemError('conflict', 'There is nothing in it that would be written.', 'Choose something first.');
      if ((forecast.result?.itemCount ?? 0) > MOST_ITEMS)
        throw new ProblemError(
          'conflict',
          `It has more than ${MOST_ITEMS} items, which nobody can review one by one.`,
          'Choose less, and open several requests.',
        );
      await mustStay(trx, forecast);
      const wanted = chosen(items);
      const [held] = await heldBy(trx, onto.path, wanted, null);
      if (held && body.waitInLine !== true)
        throw new ProblemError(
          'claimed',
          `${held.item} is claimed by "${held.title}" (${held.request}) of ${held.author}.`,
          'Leave it out, or wait in line for it: --wait-in-line',
        );
      const id = newId('q');
      const request: RequestRecord = {
        id,
        site: onto.site,
        from_path: forecast.from_path,
        onto_path: onto.path,
        title: body.title,
        description: body.description ?? '',
        state: 'draft',
        author: person.id,
        created_at: now(),
        updated_at: now(),
        revision: 1,
        forecast: forecast.id,
        revising: null,
        wanted_for: wantedTime(body.wantedFor ?? null, now()),
        deliver_at: null,
        deliverer: null,
        override: null,
        transfer: null,
        because: null,
        urgent: null,
        undoes: forecast.undoes,
        idle_warned_at: null,
      };
      await trx('change_request').insert(request);
      const first = { request_id: id, number: 1, forecast: forecast.id, at: now(), person_id: person.id, items };
      await addRevision(trx, first);
      await setReviewers(trx, request, body.reviewers ?? []);
      await setSteps(trx, request, body.steps ?? []);
      await claim(trx, request, wanted);
      await addHistory(trx, id, { at: now(), person: person.id, act: 'open', words: '' });
      await call.note(trx, onto.path, { request: id, title: body.title, items: items.length });
      await tell(trx, request);
      return shown(call, trx, id);
    });
  },

  requestEdit: (call) =>
    changing(call, async (trx, request) => {
      const { body } = call;
      await mustBeTheirs(call, trx, request);
      mustBeEditable(request);
      call.mustMatch(await requestTag(trx, request));
      const changes = {
        ...(body.title === undefined ? {} : { title: body.title }),
        ...(body.description === undefined ? {} : { description: body.description }),
        // A time that was wanted, and is over by now, may stay.
        ...(body.wantedFor === undefined || body.wantedFor === request.wanted_for
          ? {}
          : { wanted_for: wantedTime(body.wantedFor, call.installation.now()) }),
      };
      await trx('change_request')
        .where({ id: request.id })
        .update({ ...changes, updated_at: call.installation.now() });
      if (body.reviewers) {
        await setReviewers(trx, request, body.reviewers);
        await settleApproval(trx, request, call.installation.now(), call.person.id);
      }
      if (body.steps) await setSteps(trx, request, body.steps);
      const at = call.installation.now();
      const words = Object.keys(body)
        .map((field) => EDITED[field as keyof typeof body])
        .join(', ');
      await addHistory(trx, request.id, { at, person: call.person.id, act: 'edit', words });
      return { before: { title: request.title }, after: body };
    }),

  requestAsk: (call) =>
    changing(call, async (trx, request) => {
      const { installation, person } = call;
      const at = installation.now();
      await mustStay(trx, request);
      if (await hasCollisions(trx, request))
        throw new ProblemError(
          'unsettled',
          `Something in change request ${request.id} collides, and is not settled.`,
          `Settle it: tessarion request revise ${request.id} --take ID, or --keep ID`,
        );
      // Asking again answers those who sent it back: what they said before counts for nothing until they speak again.
      await trx.raw(
        `UPDATE request_verdict SET is_answered = true WHERE request_id = :id AND person_id IN (
           SELECT person_id FROM (
             SELECT DISTINCT ON (person_id) person_id, says FROM request_verdict
             WHERE request_id = :id ORDER BY person_id, id DESC) AS newest
           WHERE says = 'return')`,
        { id: request.id },
      );
      const asked = await move(trx, request, 'ask', { at, by: person.id }, { because: null });
      await settleApproval(trx, asked, at, null);
      return {};
    }),

  requestRevise: (call) =>
    changing(call, async (trx, request) => {
      const { body, person, installation } = call;
      mustBeEditable(request);
      const forecast = (await trx<ForecastRecord>('forecast')
        .where({ id: request.forecast })
        .first()) as ForecastRecord;
      const isOther = Object.keys(body).length > 0;
      // Who only looks again has no part in what is found.
      const by = isOther ? person.id : request.author;
      const wishes: ForecastWishes = { ...NO_WISHES, ...forecast.wishes, ...withoutAbsent(body) };
      return {
        forecast: await lookAgain(trx, request, wishes, { at: installation.now(), by, follows: !isOther }),
        ...body,
      };
    }),

  requestWithdraw: (call) =>
    changing(call, async (trx, request) => {
      const { reason } = call.body;
      await mustBeTheirs(call, trx, request);
      const by = { at: call.installation.now(), by: call.person.id, words: reason };
      await move(trx, request, 'withdraw', by, { because: reason, deliver_at: null });
      return { reason };
    }),

  stepTick: (call) =>
    changing(call, async (trx, request) => {
      const { params, body, person, installation } = call;
      if (!isOpenRequest(request.state) && request.state !== 'delivered')
        throw new ProblemError('conflict', `It is ${request.state}.`, 'Nothing needs to be done.');
      const changed = await trx('request_step')
        .where({ id: params.step, request_id: request.id })
        .update(body.done ? { done_by: person.id, done_at: installation.now() } : { done_by: null, done_at: null });
      if (changed === 0)
        throw new ProblemError(
          'not-found',
          `It has no step ${params.step}.`,
          `See: tessarion request show ${request.id}`,
        );
      return { step: params.step, done: body.done };
    }),

  requestDeliver: (call) =>
    changing(call, async (trx, held) => {
      const { installation, body, person } = call;
      const now = installation.now();
      const onto = await installation.environments.get(trx, held.onto_path);
      mustConfirm(onto, body.confirm);
      if (body.override !== undefined) await mustHoldOverride(call, trx, held);
      const request = { ...held, override: body.override ?? null };
      await trx('change_request').where({ id: request.id }).update({ override: request.override });
      const at = await momentOf(trx, request, body.when, now);
      if (at === undefined) {
        const transfer = await beginDelivery(trx, installation, request, person.id);
        return { transfer: transfer.id, override: request.override };
      }
      await mustBeReady(trx, request);
      await mustBeOpen(trx, request, at);
      const words = at.toISOString();
      await move(
        trx,
        request.state === 'scheduled' ? { ...request, state: 'approved' } : request,
        'schedule',
        { at: now, by: person.id, words },
        { deliver_at: at, deliverer: person.id, because: null },
      );
      return { at: words, override: request.override };
    }),

  requestUnschedule: (call) =>
    changing(call, async (trx, request) => {
      await move(trx, request, 'unschedule', { at: call.installation.now(), by: call.person.id }, { deliver_at: null });
      return {};
    }),
};

const withoutAbsent = (wishes: BodyOf<'requestRevise'>): Partial<ForecastWishes> =>
  Object.fromEntries(Object.entries(wishes).filter(([, value]) => value !== undefined));

/** A request in full, as the caller sees it. */
export async function shown(call: Call, on: OnRecords, id: string) {
  return showRequest(on, call.installation, await getRequest(on, id), call);
}

/**
 * Changes a request that nobody else changes meanwhile, notes it in the journal, and shows what became of it.
 *
 * @param work answers with what the journal says of it
 */
export function changing(
  call: Call<{ id: string }>,
  work: (trx: OnRecords, request: RequestRecord) => Promise<Readonly<Record<string, unknown>>>,
) {
  return call.installation.records.transaction(async (trx) => {
    const request = await holdRequest(trx, call.params.id);
    const details = await work(trx, request);
    await call.note(trx, request.onto_path, { request: request.id, ...details });
    await noteActivity(trx, request.id, call.installation.now());
    await tell(trx, request);
    return shown(call, trx, request.id);
  });
}

/** @throws {ProblemError} `conflict` where a forecast cannot become a request */
function mustBeAskable(forecast: ForecastRecord): void {
  if (resultOf(forecast).direction !== 'up' || forecast.snapshot !== null)
    throw new ProblemError(
      'conflict',
      `Forecast ${forecast.id} is neither of a push nor of taking one back.`,
      'Make one: tessarion forecast --from SITE/NAME --onto SITE/live',
    );
}

/** Somebody else's request is changed or withdrawn by who manages the site. @throws {ProblemError} `not-allowed` */
async function mustBeTheirs(call: Call, trx: OnRecords, request: RequestRecord): Promise<void> {
  if (request.author !== call.person.id) call.mustHold('site.manage', await destinationOf(trx, request));
}

/** Writes the manual steps down in this order; one that stays as it was keeps its tick. */
async function setSteps(
  trx: OnRecords,
  request: RequestRecord,
  wanted: readonly Pick<StepRecord, 'phase' | 'text'>[],
): Promise<void> {
  const former = await stepsOf(trx, request.id);
  await trx('request_step').where({ request_id: request.id }).delete();
  for (const [position, { phase, text }] of wanted.entries()) {
    const same = former.findIndex((one) => one.phase === phase && one.text === text);
    const [kept] = same < 0 ? [] : former.splice(same, 1);
    await trx('request_step').insert(
      kept ? { ...kept, position } : { id: newId('u'), request_id: request.id, position, phase, text },
    );
  }
}

/** @throws {ProblemError} `invalid`, `not-found`, `conflict` */
async function setReviewers(
  trx: OnRecords,
  request: RequestRecord,
  wanted: readonly { person?: string | undefined; team?: string | undefined }[],
): Promise<void> {
  await trx('request_reviewer').where({ request_id: request.id }).delete();
  for (const { person, team } of wanted) {
    if ((person === undefined) === (team === undefined))
      throw new ProblemError('invalid', 'A reviewer is a person or a team.', 'Name one of the two.');
    if (person !== undefined) {
      const { state, name } = await getColleague(trx, person);
      if (state === 'ended') throw new ProblemError('conflict', `${name} is not here any more.`, 'Name somebody else.');
      if (person === request.author)
        throw new ProblemError('conflict', 'Nobody reviews their own request.', 'Name somebody else.');
    } else await getTeam(trx, team as string);
    await trx('request_reviewer').insert({ request_id: request.id, person_id: person ?? null, team: team ?? null });
  }
}

async function mustHoldOverride(call: Call, trx: OnRecords, request: RequestRecord): Promise<void> {
  call.mustHold('window.override', await destinationOf(trx, request));
}

/** When a request is to go; undefined for now. @throws {ProblemError} `invalid`, `closed` */
async function momentOf(trx: OnRecords, request: RequestRecord, when: string, now: Date): Promise<Date | undefined> {
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
const wantedTime = (wanted: string | null, now: Date): string | null =>
  wanted === null || wanted === 'window' ? wanted : mustBeToCome(wanted, now).toISOString();
