import type { TransferDetail } from '@tessarion/contract';
import { asksForApproval, mergeLane, plainSentence, resetLane } from '@tessarion/core';
import type { EnvironmentRecord } from '../../fleet/environments.js';
import { type ForecastResult, getForecast } from '../../forecasts/forecasts.js';
import { readyToGo, warningsOf } from '../../forecasts/ready-to-go.js';
import { publishEvent } from '../../ground/events.js';
import { iso } from '../../ground/open.js';
import { NotConfirmed, ProblemError } from '../../ground/problems.js';
import { wakeFirst } from '../../ground/queue.js';
import { mustBeOpen } from '../../plans/must-be-open.js';
import { mustNotBeAskedFor } from '../../requests/asked-for.js';
import { heldBy } from '../../requests/claims.js';
import { itemsOfForecast, ruleOfLane, updateRequest } from '../../requests/requests.js';
import { openUrgent } from '../../requests/urgent.js';
import { getSnapshot } from '../../stored/snapshots.js';
import type { Inputs, PushInput, ResetInput } from '../../transfers/inputs.js';
import { mustBeUndoable, type NewTransfer, toTransfer } from '../../transfers/transfers.js';
import { endTransfer } from '../../work/end-transfer.js';
import { environmentThing, siteThing } from '../allow.js';
import type { Call, Handlers } from './call.js';
import { showTransfer } from './transfer-pages.js';

async function create(call: Pick<Call, 'installation' | 'note' | 'person'>, wanted: NewTransfer) {
  const { installation, person } = call;
  return installation.records.transaction(async (trx) => {
    const { kind, onto } = wanted;
    if (kind === 'reset' || kind === 'restore') await mustNotBeAskedFor(trx, onto, kind);
    // What went past review is reviewed afterwards.
    const request =
      wanted.urgent === undefined || wanted.forecast === undefined
        ? undefined
        : await openUrgent(trx, installation, wanted, wanted.urgent, person.id);
    const transfer = await installation.transfers.create(trx, {
      ...wanted,
      ...(request === undefined ? {} : { request }),
    });
    if (request !== undefined) await updateRequest(trx, request, { transfer: transfer.id });
    await call.note(trx, onto, {
      transfer: transfer.id,
      from: wanted.from,
      forecast: wanted.forecast ?? null,
      ...(wanted.urgent === undefined ? {} : { urgent: wanted.urgent }),
      ...(wanted.override === undefined ? {} : { override: wanted.override }),
    });
    return toTransfer(transfer, await installation.transfers.placeInLine(trx, transfer));
  });
}

/** Onto live, the person names it in full; asked last, so that nobody confirms what cannot be done. @throws {ProblemError} `not-confirmed` */
export function mustConfirm(onto: { path: string; kind: string }, confirm: string | undefined): void {
  if (onto.kind !== 'live' || confirm === onto.path) return;
  throw new NotConfirmed(
    confirm,
    confirm === undefined
      ? `Writing onto ${onto.path} needs its full name.`
      : `"${confirm.slice(0, 80)}" is not ${onto.path}.`,
    `Confirm with ${onto.path}, written in full.`,
  );
}

interface Past {
  /** Why it goes past approval and claims. */
  readonly urgent?: string | undefined;
  /** Why it goes outside a window or in a freeze. */
  readonly override?: string | undefined;
}

const pastOf = ({ urgent, override }: Past): Pick<NewTransfer, 'urgent' | 'override'> => ({
  ...(urgent === undefined ? {} : { urgent }),
  ...(override === undefined ? {} : { override }),
});

interface PushBody extends Past {
  readonly forecast: string;
  readonly confirm?: string | undefined;
}

/**
 * What lanes, claims, windows and freezes ask of what goes without a request.
 *
 * @param forecast what it would write; undefined for a restore, which nobody can approve item by item
 * @throws {ProblemError} `needs-approval`, `claimed`, `closed`, `not-allowed`
 */
async function mustBePlain(
  { installation, mustHold, body }: Call<unknown, unknown, Past>,
  onto: EnvironmentRecord,
  forecast: string | undefined,
): Promise<void> {
  const { records, now } = installation;
  const thing = await environmentThing(records, onto.path);
  if (body.override !== undefined) mustHold('window.override', thing);
  const at = { site: onto.site, onto_path: onto.path, override: body.override ?? null };
  await mustBeOpen(records, at, now());
  if (body.urgent !== undefined) return mustHold('live.urgent', thing);
  if (asksForApproval(await ruleOfLane(records, onto.site, onto.kind)))
    throw new ProblemError(
      'needs-approval',
      `What goes onto ${onto.path} must be approved.`,
      forecast === undefined
        ? 'Nobody can approve a restore item by item: give --urgent with a reason; it stays marked.'
        : `Open a change request: tessarion request open --forecast ${forecast} --title "…"`,
    );
  if (forecast === undefined) return;
  const items = await itemsOfForecast(records, forecast);
  const [held] = await heldBy(
    records,
    onto.path,
    items.map((item) => item.id),
    null,
  );
  if (held)
    throw new ProblemError(
      'claimed',
      `${held.item} is claimed by "${held.title}" (${held.request}) of ${held.author}.`,
      'Leave it out, or open a change request that waits for it.',
    );
}

/**
 * What a restore onto live would write, as somebody has read it.
 *
 * @throws {ProblemError} `needs-approval`, `closed`, `invalid`, `conflict`, `checks-failed`, `unsettled`
 */
async function readRestore(
  call: Call<unknown, unknown, Past & { readonly snapshot: string; readonly forecast?: string | undefined }>,
  onto: EnvironmentRecord,
): Promise<ForecastResult> {
  await mustBePlain(call, onto, undefined);
  const { snapshot, forecast: id } = call.body;
  const again = `tessarion snapshot restore ${snapshot} --onto ${onto.path}`;
  if (id === undefined)
    throw new ProblemError(
      'invalid',
      `What a restore writes onto ${onto.path} is read first: it needs a forecast.`,
      `Read it, and confirm it: ${again}`,
    );
  const forecast = await getForecast(call.installation.records, id);
  if (forecast.snapshot !== snapshot || forecast.onto_path !== onto.path)
    throw new ProblemError(
      'conflict',
      `Forecast ${id} is not of snapshot ${snapshot} onto ${onto.path}.`,
      `Make one: ${again}`,
    );
  return readyToGo(forecast, again);
}

/** Starts the push or pull that a forecast shows, when nothing in it is left to settle. */
async function createMerge(call: Call<unknown, unknown, PushBody>, direction: 'up' | 'down') {
  const { installation } = call;
  const { forecast: id, confirm } = call.body;
  const { records, environments } = installation;
  const forecast = await getForecast(records, id);
  if (forecast.undoes !== null)
    throw new ProblemError(
      'conflict',
      `Forecast ${id} is of an undo, not of a ${direction === 'up' ? 'push' : 'pull'}.`,
      `Undo it: tessarion undo ${forecast.undoes}`,
    );
  const again = `tessarion forecast --from ${forecast.from_path} --onto ${forecast.onto_path}`;
  const result = readyToGo(forecast, again);
  const [from, onto] = [
    await environments.get(records, forecast.from_path),
    await environments.get(records, forecast.onto_path),
  ];
  if (result.direction !== direction)
    throw new ProblemError(
      'conflict',
      `Forecast ${id} goes ${result.direction === 'up' ? 'upward' : 'downward'}, from ${from.path} onto ${onto.path}.`,
      result.direction === 'up' ? 'Push it.' : 'Pull it.',
    );
  if (forecast.snapshot === null) {
    const verdict = mergeLane(from, onto);
    if (!verdict.allowed) throw new ProblemError('lane-closed', verdict.reason, verdict.next);
  }
  if (direction === 'up') await mustBePlain(call, onto, id);
  mustConfirm(onto, confirm);
  const input: PushInput = {
    forecast: id,
    from: from.path,
    ...(forecast.snapshot === null ? {} : { snapshot: forecast.snapshot }),
  };
  return create(call, {
    kind: direction === 'up' ? 'push' : 'pull',
    from: from.path,
    onto: onto.path,
    site: onto.site,
    sentence: result.sentence,
    by: call.person,
    input,
    forecast: id,
    checks: result.checks,
    warnings: warningsOf(result),
    ...pastOf(call.body),
  });
}

export const transferHandlers: Handlers<
  | 'pushCreate'
  | 'pullCreate'
  | 'resetCreate'
  | 'restoreCreate'
  | 'transferShow'
  | 'transferStop'
  | 'transferUndo'
  | 'transferAcknowledge'
> = {
  pushCreate: (call) => createMerge(call, 'up'),

  pullCreate: (call) => createMerge(call, 'down'),

  async resetCreate(call) {
    const { installation, body, person } = call;
    const { records, environments } = installation;
    const [from, onto] = [await environments.get(records, body.from), await environments.get(records, body.onto)];
    const verdict = resetLane(from, onto);
    if (!verdict.allowed) throw new ProblemError('lane-closed', verdict.reason, verdict.next);
    // As where a copy is made.
    if (body.acceptPersonal !== undefined) call.mustHold('live.values', await environmentThing(records, from.path));
    if (body.acceptTraces?.length) call.mustHold('site.manage', await siteThing(records, from.site));
    const input: ResetInput = {
      origin: { from: from.path },
      source: from.path,
      exact: false,
      acceptTraces: body.acceptTraces ?? [],
      acceptPersonal: body.acceptPersonal,
    };
    return create(call, {
      kind: 'reset',
      from: from.path,
      onto: onto.path,
      site: onto.site,
      sentence: plainSentence({ kind: 'reset', from: from.path, onto: onto.path }),
      by: person,
      input,
    });
  },

  async restoreCreate(call) {
    const { installation, body, person } = call;
    const { records, environments } = installation;
    const snapshot = await getSnapshot(records, body.snapshot);
    const onto = await environments.get(records, body.onto);
    if (snapshot.site !== onto.site)
      throw new ProblemError(
        'lane-closed',
        `Snapshot ${snapshot.id} is of ${snapshot.site}, not of ${onto.site}.`,
        `Choose a snapshot of ${onto.site}.`,
      );
    const result = onto.kind === 'live' ? await readRestore(call, onto) : undefined;
    mustConfirm(onto, body.confirm);
    const source = await environments.get(records, snapshot.environment);
    const input: Inputs['restore'] =
      onto.kind === 'live'
        ? { onto: 'live', snapshot: snapshot.id, from: source.path, forecast: body.forecast as string }
        : {
            onto: 'copy',
            origin: { snapshot: snapshot.id },
            source: source.path,
            exact: snapshot.environment === onto.path,
          };
    return create(call, {
      kind: 'restore',
      from: null,
      onto: onto.path,
      site: onto.site,
      sentence: plainSentence({ kind: 'restore', snapshot: snapshot.id, onto: onto.path }),
      by: person,
      input,
      ...(result ? { forecast: body.forecast as string, checks: result.checks, warnings: warningsOf(result) } : {}),
      ...pastOf(body),
    });
  },

  async transferShow({ installation, params }): Promise<TransferDetail> {
    const { records, transfers } = installation;
    const record = await transfers.get(records, params.id);
    const steps = await transfers.steps(records, record.id);
    const log = await transfers.told(records, record.id);
    const { checks, proof, warnings, written, items, remains, totals, forecast } = record;
    return {
      ...(await showTransfer(installation, record)),
      steps: steps.map((step) => ({
        name: step.name,
        title: step.title,
        state: step.state,
        startedAt: iso(step.started_at),
        endedAt: iso(step.ended_at),
        detail: step.detail,
      })),
      checks,
      proof,
      warnings,
      written,
      items,
      remains,
      ...totals,
      forecast,
      log: log.map(({ at, text }) => ({ at: at.toISOString(), text })),
    };
  },

  async transferStop(call) {
    const { installation, params } = call;
    const { records, transfers } = installation;
    const record = await transfers.get(records, params.id);
    if (record.state === 'waiting') {
      await records.transaction(async (trx) => {
        const { state } = await trx('transfer').where({ id: record.id }).forUpdate().first('state');
        await call.note(trx, record.onto_path, { transfer: record.id });
        if (state !== 'waiting') {
          // A worker took it in this moment; it stops there.
          await transfers.askToStop(trx, record.id);
          return;
        }
        await endTransfer(trx, installation, record, { state: 'stopped', failure: null }, 'service');
        const made = await installation.environments.find(trx, record.onto_path);
        if (['clone', 'preview'].includes(record.kind) && made?.status === 'making')
          await installation.environments.remove(trx, record.onto_path);
        // Whoever waited behind it may go.
        const places = [record.onto_path, record.from_path].filter((place) => place !== null);
        await wakeFirst(trx, (q) => q.whereIn('onto_path', places).orWhereIn('from_path', places));
      });
    } else if (record.state === 'running' && record.outcome.pastSwitch !== true) {
      await records.transaction(async (trx) => {
        await transfers.askToStop(trx, record.id);
        await call.note(trx, record.onto_path, { transfer: record.id });
      });
    } else {
      throw new ProblemError(
        'conflict',
        `Transfer ${record.id} is ${record.state === 'running' ? 'past its switch' : record.state} and cannot be stopped.`,
        record.state === 'running'
          ? `Undo it when it is done: tessarion undo ${record.id}`
          : 'Nothing needs to be stopped.',
      );
    }
    return showTransfer(installation, await transfers.get(records, record.id));
  },

  async transferUndo(call) {
    const { installation, params, body, person } = call;
    const { records, transfers, environments } = installation;
    const record = await transfers.get(records, params.id);
    mustBeUndoable(record);
    const forecast = await getForecast(installation.records, body.forecast);
    if (forecast.undoes !== record.id)
      throw new ProblemError(
        'conflict',
        `Forecast ${forecast.id} does not say what undoing ${record.id} would do.`,
        `Make one: tessarion undo ${record.id}`,
      );
    const result = readyToGo(forecast, `tessarion undo ${record.id}`);
    const onto = await environments.get(records, record.onto_path);
    if (result.direction === 'up') await mustBePlain(call, onto, forecast.id);
    mustConfirm(onto, body.confirm);
    const input: PushInput = { forecast: forecast.id, from: record.onto_path };
    return create(call, {
      kind: 'undo',
      from: null,
      onto: record.onto_path,
      site: record.site,
      sentence: result.sentence,
      by: person,
      input,
      undoOf: record.id,
      forecast: forecast.id,
      checks: result.checks,
      warnings: warningsOf(result),
      ...pastOf(body),
    });
  },

  async transferAcknowledge(call) {
    const { installation, params } = call;
    const { records, transfers } = installation;
    const record = await transfers.get(records, params.id);
    await records.transaction(async (trx) => {
      await transfers.update(trx, record.id, { acknowledged: true });
      await call.note(trx, record.onto_path, { transfer: record.id });
      await publishEvent(trx, { type: 'site', site: record.site });
    });
    return showTransfer(installation, await transfers.get(records, record.id));
  },
};
