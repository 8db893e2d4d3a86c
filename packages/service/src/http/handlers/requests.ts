import type { BodyOf, ForecastWishes } from '@tessarion/contract';
import { isOpenRequest } from '@tessarion/core';
import { getForecast } from '../../forecasts/forecasts.js';
import { NO_WISHES, withoutAbsent } from '../../forecasts/transfer-facts.js';
import type { OnRecords } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import { momentOf, wantedTime } from '../../plans/moment.js';
import { mustBeOpen } from '../../plans/must-be-open.js';
import { mustStay } from '../../requests/asked-for.js';
import { beginDelivery, mustBeReady } from '../../requests/deliver.js';
import { findRequests } from '../../requests/find-requests.js';
import { move, tell } from '../../requests/moves.js';
import { openRequest } from '../../requests/open-request.js';
import {
  addHistory,
  getRequest,
  holdRequest,
  type RequestRecord,
  requestTag,
  updateRequest,
} from '../../requests/requests.js';
import { lookAgain, mustBeEditable, noteActivity } from '../../requests/revisions.js';
import { setReviewers, setSteps, tickStep } from '../../requests/said-of.js';
import { answerReturns } from '../../requests/spoken.js';
import { destinationOf, hasCollisions, settleApproval } from '../../requests/standing.js';
import { showRequest, showRequests } from '../../requests/view.js';
import { mustConfirm } from '../../work/start/merges.js';
import type { Call, Handlers } from './call.js';
import { mustKnowSite } from './known-filters.js';

/** What an edit changes, in words. */
const EDITED: Readonly<Record<keyof BodyOf<'requestEdit'>, string>> = {
  title: 'title',
  description: 'description',
  reviewers: 'reviewers',
  steps: 'manual steps',
  wantedFor: 'wanted time',
};

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
    await mustKnowSite(records, sight, query.site);
    const { requests, next } = await findRequests(records, query, person.id, sight);
    return { items: await showRequests(records, requests, person.id), next };
  },

  async requestShow(call) {
    return shown(call, call.installation.records, call.params.id);
  },

  async requestOpen(call) {
    const { installation, body, person } = call;
    const forecast = await getForecast(installation.records, body.forecast);
    return installation.records.transaction(async (trx) => {
      const { request, items } = await openRequest(trx, installation, forecast, body, person.id);
      await call.note(trx, request.onto_path, { request: request.id, title: request.title, items });
      return shown(call, trx, request.id);
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
      await updateRequest(trx, request.id, { ...changes, updated_at: call.installation.now() });
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
      await answerReturns(trx, request.id);
      const asked = await move(trx, request, 'ask', { at, by: person.id }, { because: null });
      await settleApproval(trx, asked, at, null);
      return {};
    }),

  requestRevise: (call) =>
    changing(call, async (trx, request) => {
      const { body, person, installation } = call;
      mustBeEditable(request);
      const forecast = await getForecast(trx, request.forecast);
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
      if (!(await tickStep(trx, request.id, params.step, body.done ? person.id : null, installation.now())))
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
      if (body.override !== undefined) call.mustHold('window.override', await destinationOf(trx, held));
      const request = { ...held, override: body.override ?? null };
      await updateRequest(trx, request.id, { override: request.override });
      const at = await momentOf(trx, request, body.when, now);
      if (at === undefined) {
        const transfer = await beginDelivery(trx, installation, request, person.id);
        mustConfirm(onto, body.confirm);
        return { transfer: transfer.id, override: request.override };
      }
      await mustBeReady(trx, request);
      await mustBeOpen(trx, request, at);
      mustConfirm(onto, body.confirm);
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

/** Somebody else's request is changed or withdrawn by who manages the site. @throws {ProblemError} `not-allowed` */
async function mustBeTheirs(call: Call, trx: OnRecords, request: RequestRecord): Promise<void> {
  if (request.author !== call.person.id) call.mustHold('site.manage', await destinationOf(trx, request));
}
