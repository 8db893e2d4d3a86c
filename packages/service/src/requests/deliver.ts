import type { Person } from '@tessarion/contract';
import { decide, type EnvironmentKind, isStillDue, type Permission } from '@tessarion/core';
import { laneOnto } from '../fleet/lane-onto.js';
import { type ForecastRecord, getForecast } from '../forecasts/forecasts.js';
import { readyToGo, warningsOf } from '../forecasts/ready-to-go.js';
import type { OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { callerOf } from '../people/actors.js';
import { doerOf } from '../people/people.js';
import { mustBeOpen, shownTime } from '../plans/must-be-open.js';
import { rulesOfSite } from '../plans/plan.js';
import type { PushInput } from '../transfers/inputs.js';
import type { Installation } from '../transfers/installation.js';
import { mustBeUndoable, type TransferRecord } from '../transfers/transfers.js';
import { claim, waitsFor } from './claims.js';
import { move, tell } from './moves.js';
import { requestPreviewedAt } from './preview.js';
import { holdRequest, itemsOfForecast, type RequestRecord } from './requests.js';
import { chosen, difference } from './revisions.js';
import { standingOf } from './standing.js';

/**
 * Sees that a request may go: approved as it is now, its items its own, its manual steps done, its forecast free of
 * collisions and failed checks.
 *
 * @throws {ProblemError} `needs-approval`, `claimed`, `checks-failed`, `unsettled`, `conflict`
 */
export async function mustBeReady(trx: OnRecords, request: RequestRecord): Promise<ForecastRecord> {
  const { isApproved, revisions } = await standingOf(trx, request);
  const { added, changed, gone } = difference(
    revisions.at(-1)?.items ?? [],
    await itemsOfForecast(trx, request.forecast),
  );
  if (!isApproved || added.length + changed.length + gone.length > 0)
    throw new ProblemError(
      'needs-approval',
      `Change request ${request.id} is not approved as it is now.`,
      `See what is missing: tessarion request show ${request.id}`,
    );
  if (request.revising !== null)
    throw new ProblemError(
      'conflict',
      `Change request ${request.id} is being looked at again.`,
      'Wait until that is done.',
    );
  // Claims that had lapsed are made anew, behind whoever came meanwhile.
  await claim(trx, request, chosen(revisions.at(-1)?.items ?? []));
  const [held] = await waitsFor(trx, request);
  if (held)
    throw new ProblemError(
      'claimed',
      `${held.item} is claimed by "${held.title}" (${held.request}) of ${held.author}.`,
      'Wait for it, or ask its author to withdraw it.',
    );
  const step = await trx('request_step')
    .where({ request_id: request.id, phase: 'before' })
    .whereNull('done_at')
    .orderBy('position')
    .first('id', 'text');
  if (step)
    throw new ProblemError(
      'checks-failed',
      `A step before the delivery is not done: ${step.text}`,
      `Do it, and tick it: tessarion request tick ${request.id} --step ${step.id}`,
    );
  const forecast = await getForecast(trx, request.forecast);
  readyToGo(forecast, `tessarion request revise ${request.id}`);
  return forecast;
}

/** Starts the transfer that delivers a request, in the caller's transaction. */
export async function beginDelivery(
  trx: OnRecords,
  { transfers, now }: Installation,
  request: RequestRecord,
  by: string,
): Promise<TransferRecord> {
  const forecast = await mustBeReady(trx, request);
  if (request.undoes !== null) mustBeUndoable(await transfers.get(trx, request.undoes));
  await mustBeOpen(trx, request, now());
  const result = readyToGo(forecast, `tessarion request revise ${request.id}`);
  const input: PushInput = { forecast: forecast.id, from: request.from_path };
  const transfer = await transfers.create(trx, {
    kind: request.undoes === null ? 'push' : 'undo',
    from: request.undoes === null ? request.from_path : null,
    ...(request.undoes === null ? {} : { undoOf: request.undoes }),
    onto: request.onto_path,
    site: request.site,
    sentence: result.sentence,
    by: await doerOf(trx, by),
    input,
    forecast: forecast.id,
    checks: result.checks,
    warnings: warningsOf(result),
    request: request.id,
    ...(request.override === null ? {} : { override: request.override }),
  });
  await move(
    trx,
    request,
    'begin',
    { at: now(), by, words: request.override === null ? '' : `Outside its window: ${request.override}` },
    { transfer: transfer.id, deliverer: by, deliver_at: null, because: null },
  );
  return transfer;
}

/** What the end of a transfer means for the request that it delivered, or that it took back; in the end's own transaction. */
export async function noteEnd(
  trx: OnRecords,
  transfer: TransferRecord,
  end: Pick<TransferRecord, 'state' | 'failure'>,
  at: Date,
): Promise<void> {
  const previewed = await requestPreviewedAt(trx, transfer.onto_path);
  if (previewed) return tell(trx, previewed);
  if (transfer.request !== null) {
    const request = await holdRequest(trx, transfer.request);
    if (request.state === 'delivering') await endDelivery(trx, request, end, at);
  }
  if (transfer.undo_of === null || end.state !== 'done') return;
  const undone = await trx('transfer').where({ id: transfer.undo_of }).first('request');
  if (!undone?.request) return;
  const request = await holdRequest(trx, undone.request);
  if (request.state === 'delivered') await move(trx, request, 'undo', { at, by: null });
}

async function endDelivery(
  trx: OnRecords,
  request: RequestRecord,
  { state, failure }: Pick<TransferRecord, 'state' | 'failure'>,
  at: Date,
): Promise<void> {
  if (state === 'done') {
    await move(trx, request, 'arrive', { at, by: null });
    return;
  }
  const because = failure?.message ?? 'The delivery was stopped.';
  await move(trx, request, 'fail', { at, by: null, words: because }, { because });
}

/**
 * Delivers what is due. What is outdated, in the way, or came too late because nobody was there to begin it, does not
 * run: the request is blocked and says why.
 */
export async function deliverDue(installation: Installation): Promise<void> {
  const { records, now, journal, log } = installation;
  const due = (await records('change_request')
    .where({ state: 'scheduled' })
    .where('deliver_at', '<=', now())
    .orderBy('deliver_at')
    .orderBy('id')
    .select('id')) as { id: string }[];
  for (const { id } of due)
    try {
      await records.transaction(async (trx) => {
        const request = await holdRequest(trx, id);
        if (request.state !== 'scheduled' || !request.deliver_at || request.deliver_at > now()) return;
        await mustBeInTime(trx, request, now());
        const by = request.deliverer ?? request.author;
        await mustStillMay(trx, request, by);
        const transfer = await beginDelivery(trx, installation, request, by);
        await journal.write(trx, {
          actor: `schedule of ${id}`,
          act: 'requestDeliver',
          outcome: 'done',
          thing: request.onto_path,
          details: { request: id, transfer: transfer.id },
          who: undefined,
        });
      });
    } catch (error) {
      log.warn({ request: id, err: error }, 'a scheduled delivery did not begin');
      // What says nothing of the request, such as a connection that broke, is tried again, until its time has passed.
      if (error instanceof ProblemError) await block(installation, id, error.message);
    }
}

async function block({ records, now, journal }: Installation, id: string, because: string): Promise<void> {
  await records.transaction(async (trx) => {
    const request = await holdRequest(trx, id);
    if (request.state !== 'scheduled') return;
    await move(trx, request, 'block', { at: now(), by: null, words: because }, { because, deliver_at: null });
    await journal.write(trx, {
      actor: `schedule of ${id}`,
      act: 'requestDeliver',
      outcome: 'refused',
      thing: request.onto_path,
      details: { request: id, words: because },
      who: undefined,
    });
  });
}

/** Whoever set the time must still be here, and still be allowed. @throws {ProblemError} `not-allowed` */
async function mustStillMay(trx: OnRecords, request: RequestRecord, by: string): Promise<void> {
  const person = (await trx('person').where({ id: by }).first('id', 'name', 'mail', 'state')) as
    | (Person & { state: string })
    | undefined;
  const site = await trx('site').where({ name: request.site }).first('client');
  const kind = (await laneOnto(trx, request.onto_path)) as EnvironmentKind;
  const thing = {
    is: 'environment',
    client: site?.client ?? '',
    site: request.site,
    environment: request.onto_path,
    kind,
  } as const;
  const actor = person?.state === 'active' ? (await callerOf(trx, person, undefined)).actor : undefined;
  const may = (permission: Permission): boolean => actor !== undefined && decide(actor, permission, thing).allowed;
  const isPast = request.override !== null;
  if (!may(kind === 'live' ? 'live.deliver' : 'copy.work') || (isPast && !may('window.override')))
    throw new ProblemError(
      'not-allowed',
      `${person?.name ?? by}, who set the time, may not deliver onto ${request.onto_path}${isPast ? ' outside its windows' : ''} any more.`,
      'Somebody else may give it a time.',
    );
}

/** @throws {ProblemError} `closed` where its time has passed */
async function mustBeInTime(trx: OnRecords, request: RequestRecord, at: Date): Promise<void> {
  const { deliver_at: meant } = request;
  if (!meant || (await laneOnto(trx, request.onto_path)) !== 'live') return;
  const rules = await rulesOfSite(trx, request.site);
  const held = request.override === null ? rules : { ...rules, windows: [], freezes: [] };
  if (!isStillDue(held, meant.getTime(), at.getTime()))
    throw new ProblemError(
      'closed',
      `Its time, ${shownTime(meant.getTime())}, passed without it, and it does not run late.`,
      `Give it another time: tessarion deliver ${request.id} --when window`,
    );
}
