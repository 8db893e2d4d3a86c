import type { BodyOf, Transfer } from '@tessarion/contract';
import { asksForApproval, mergeLane, plainSentence, resetLane } from '@tessarion/core';
import type { EnvironmentRecord } from '../../fleet/environments.js';
import { environmentThing, siteThing } from '../../fleet/things.js';
import { type ForecastResult, getForecast } from '../../forecasts/forecasts.js';
import { readyToGo, warningsOf } from '../../forecasts/ready-to-go.js';
import { NotConfirmed, ProblemError } from '../../ground/problems.js';
import { mustBeOpen } from '../../plans/must-be-open.js';
import { mustNotBeAskedFor } from '../../requests/asked-for.js';
import { heldBy } from '../../requests/claims.js';
import { itemsOfForecast, ruleOfLane, updateRequest } from '../../requests/requests.js';
import { openUrgent } from '../../requests/urgent.js';
import { getSnapshot } from '../../stored/snapshots.js';
import type { Inputs, PushInput, ResetInput } from '../../transfers/inputs.js';
import { mustBeUndoable, type Wanted } from '../../transfers/transfers.js';
import { type Starter, start } from './starter.js';

/** Records it, and the request by which what went past review is reviewed afterwards. */
async function begin(by: Starter, wanted: Wanted): Promise<Transfer> {
  const { installation, person } = by;
  return installation.records.transaction(async (trx) => {
    const { kind, onto } = wanted;
    if (kind === 'reset' || kind === 'restore') await mustNotBeAskedFor(trx, onto, kind);
    // What went past review is reviewed afterwards.
    const request =
      wanted.urgent === undefined || wanted.forecast === undefined
        ? undefined
        : await openUrgent(trx, installation, wanted, wanted.urgent, person.id);
    const transfer = await start(
      trx,
      by,
      { ...wanted, ...(request === undefined ? {} : { request }) },
      {
        from: wanted.from,
        forecast: wanted.forecast ?? null,
        ...(wanted.urgent === undefined ? {} : { urgent: wanted.urgent }),
        ...(wanted.override === undefined ? {} : { override: wanted.override }),
      },
    );
    if (request !== undefined) await updateRequest(trx, request, { transfer: transfer.id });
    return transfer;
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

/** Why something goes past what is asked of what goes onto live. */
interface Past {
  /** Why it goes past approval and claims. */
  readonly urgent?: string | undefined;
  /** Why it goes outside a window or in a freeze. */
  readonly override?: string | undefined;
}

const pastOf = ({ urgent, override }: Past): Pick<Wanted, 'urgent' | 'override'> => ({
  ...(urgent === undefined ? {} : { urgent }),
  ...(override === undefined ? {} : { override }),
});

/** What a push or pull is asked for with. */
interface MergeWish extends Past {
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
  { installation, mustHold }: Starter,
  onto: EnvironmentRecord,
  forecast: string | undefined,
  { override, urgent }: Past,
): Promise<void> {
  const { records, now } = installation;
  const thing = await environmentThing(records, onto.path);
  if (override !== undefined) mustHold('window.override', thing);
  const at = { site: onto.site, onto_path: onto.path, override: override ?? null };
  await mustBeOpen(records, at, now());
  if (urgent !== undefined) return mustHold('live.urgent', thing);
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
  by: Starter,
  onto: EnvironmentRecord,
  wish: Past & { readonly snapshot: string; readonly forecast?: string | undefined },
): Promise<ForecastResult> {
  await mustBePlain(by, onto, undefined, wish);
  const { snapshot, forecast: id } = wish;
  const again = `tessarion snapshot restore ${snapshot} --onto ${onto.path}`;
  if (id === undefined)
    throw new ProblemError(
      'invalid',
      `What a restore writes onto ${onto.path} is read first: it needs a forecast.`,
      `Read it, and confirm it: ${again}`,
    );
  const forecast = await getForecast(by.installation.records, id);
  if (forecast.snapshot !== snapshot || forecast.onto_path !== onto.path)
    throw new ProblemError(
      'conflict',
      `Forecast ${id} is not of snapshot ${snapshot} onto ${onto.path}.`,
      `Make one: ${again}`,
    );
  return readyToGo(forecast, again);
}

/**
 * Starts the push or pull that a forecast shows, when nothing in it is left to settle.
 *
 * @throws {ProblemError} `not-found`, `conflict`, `checks-failed`, `unsettled`, `lane-closed`, `needs-approval`, `claimed`,
 *   `closed`, `not-allowed`, `not-confirmed`
 */
export async function startMerge(by: Starter, wish: MergeWish, direction: 'up' | 'down'): Promise<Transfer> {
  const { installation } = by;
  const { forecast: id, confirm } = wish;
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
  if (direction === 'up') await mustBePlain(by, onto, id, wish);
  mustConfirm(onto, confirm);
  const input: PushInput = {
    forecast: id,
    from: from.path,
    ...(forecast.snapshot === null ? {} : { snapshot: forecast.snapshot }),
  };
  return begin(by, {
    kind: direction === 'up' ? 'push' : 'pull',
    from: from.path,
    onto: onto.path,
    site: onto.site,
    sentence: result.sentence,
    input,
    forecast: id,
    checks: result.checks,
    warnings: warningsOf(result),
    ...pastOf(wish),
  });
}

/** Has a copy made anew. @throws {ProblemError} `not-found`, `lane-closed`, `not-allowed`, `conflict` */
export async function startReset(by: Starter, body: BodyOf<'resetCreate'>): Promise<Transfer> {
  const { records, environments } = by.installation;
  const [from, onto] = [await environments.get(records, body.from), await environments.get(records, body.onto)];
  const verdict = resetLane(from, onto);
  if (!verdict.allowed) throw new ProblemError('lane-closed', verdict.reason, verdict.next);
  // As where a copy is made.
  if (body.acceptPersonal !== undefined) by.mustHold('live.values', await environmentThing(records, from.path));
  if (body.acceptTraces?.length) by.mustHold('site.manage', await siteThing(records, from.site));
  const input: ResetInput = {
    origin: { from: from.path },
    source: from.path,
    exact: false,
    acceptTraces: body.acceptTraces ?? [],
    acceptPersonal: body.acceptPersonal,
  };
  return begin(by, {
    kind: 'reset',
    from: from.path,
    onto: onto.path,
    site: onto.site,
    sentence: plainSentence({ kind: 'reset', from: from.path, onto: onto.path }),
    input,
  });
}

/**
 * Has an environment made what it was when a snapshot was taken: onto live as a forecast of it was read.
 *
 * @throws {ProblemError} `not-found`, `lane-closed`, `invalid`, `conflict`, `checks-failed`, `unsettled`, `needs-approval`,
 *   `closed`, `not-allowed`, `not-confirmed`
 */
export async function startRestore(by: Starter, body: BodyOf<'restoreCreate'>): Promise<Transfer> {
  const { records, environments } = by.installation;
  const snapshot = await getSnapshot(records, body.snapshot);
  const onto = await environments.get(records, body.onto);
  if (snapshot.site !== onto.site)
    throw new ProblemError(
      'lane-closed',
      `Snapshot ${snapshot.id} is of ${snapshot.site}, not of ${onto.site}.`,
      `Choose a snapshot of ${onto.site}.`,
    );
  const result = onto.kind === 'live' ? await readRestore(by, onto, body) : undefined;
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
  return begin(by, {
    kind: 'restore',
    from: null,
    onto: onto.path,
    site: onto.site,
    sentence: plainSentence({ kind: 'restore', snapshot: snapshot.id, onto: onto.path }),
    input,
    ...(result ? { forecast: body.forecast as string, checks: result.checks, warnings: warningsOf(result) } : {}),
    ...pastOf(body),
  });
}

/**
 * Takes a transfer back, as a forecast of that was read.
 *
 * @throws {ProblemError} `not-found`, `conflict`, `checks-failed`, `unsettled`, `needs-approval`, `claimed`, `closed`,
 *   `not-allowed`, `not-confirmed`
 */
export async function startUndo(by: Starter, id: string, body: BodyOf<'transferUndo'>): Promise<Transfer> {
  const { records, transfers, environments } = by.installation;
  const record = await transfers.get(records, id);
  mustBeUndoable(record);
  const forecast = await getForecast(records, body.forecast);
  if (forecast.undoes !== record.id)
    throw new ProblemError(
      'conflict',
      `Forecast ${forecast.id} does not say what undoing ${record.id} would do.`,
      `Make one: tessarion undo ${record.id}`,
    );
  const result = readyToGo(forecast, `tessarion undo ${record.id}`);
  const onto = await environments.get(records, record.onto_path);
  if (result.direction === 'up') await mustBePlain(by, onto, forecast.id, body);
  mustConfirm(onto, body.confirm);
  const input: PushInput = { forecast: forecast.id, from: record.onto_path };
  return begin(by, {
    kind: 'undo',
    from: null,
    onto: record.onto_path,
    site: record.site,
    sentence: result.sentence,
    input,
    undoOf: record.id,
    forecast: forecast.id,
    checks: result.checks,
    warnings: warningsOf(result),
    ...pastOf(body),
  });
}
