import type { BodyOf } from '@tessarion/contract';
import { type ForecastRecord, holdForecast } from '../forecasts/forecasts.js';
import { resultOf } from '../forecasts/ready-to-go.js';
import { newId } from '../ground/data-folder.js';
import type { OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { wantedTime } from '../plans/moment.js';
import type { Installation } from '../transfers/installation.js';
import { mustBeUndoable } from '../transfers/transfers.js';
import { mustStay } from './asked-for.js';
import { claim, heldBy } from './claims.js';
import { tell } from './moves.js';
import { addHistory, addRevision, itemsOfForecast, type RequestRecord } from './requests.js';
import { chosen } from './revisions.js';
import { setReviewers, setSteps } from './said-of.js';

/** More than this cannot be reviewed one by one, and is not kept item by item. */
const MOST_ITEMS = 20_000;

/**
 * Opens a draft of what a forecast would write, which claims the chosen items from now on.
 *
 * @param known the forecast, which is looked at again here
 * @param author person who opens it
 * @returns the request, and how many items its first revision has
 * @throws {ProblemError} `conflict`, `claimed`, `invalid`, `not-found`
 */
export async function openRequest(
  trx: OnRecords,
  { transfers, environments, now }: Pick<Installation, 'transfers' | 'environments' | 'now'>,
  known: ForecastRecord,
  body: BodyOf<'requestOpen'>,
  author: string,
): Promise<{ request: RequestRecord; items: number }> {
  // Nobody chooses or settles anew what becomes of it, until it is a request's.
  const forecast = await holdForecast(trx, known.id);
  mustBeAskable(forecast);
  if (forecast.undoes !== null) mustBeUndoable(await transfers.get(trx, forecast.undoes));
  const onto = await environments.get(trx, forecast.onto_path);
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
    author,
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
  const first = { request_id: id, number: 1, forecast: forecast.id, at: now(), person_id: author, items };
  await addRevision(trx, first);
  await setReviewers(trx, request, body.reviewers ?? []);
  await setSteps(trx, request, body.steps ?? []);
  await claim(trx, request, wanted);
  await addHistory(trx, id, { at: now(), person: author, act: 'open', words: '' });
  await tell(trx, request);
  return { request, items: items.length };
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
