import { laneOnto } from '../fleet/lane-onto.js';
import { newId } from '../ground/data-folder.js';
import type { OnRecords } from '../ground/open.js';
import type { Installation } from '../transfers/installation.js';
import type { Wanted } from '../transfers/transfers.js';
import { tell } from './moves.js';
import { addHistory, addRevision, itemsOfForecast, type RequestRecord, ruleOfLane } from './requests.js';
import { tellPeople } from './tell.js';

/** More than a title needs. */
const TITLE = 120;

/**
 * Opens the change request of an urgent delivery, which is under way already: the teams that the lane names look at it
 * afterwards. It claims nothing, and is marked for ever.
 *
 * @returns its id
 */
export async function openUrgent(
  trx: OnRecords,
  { now }: Pick<Installation, 'now'>,
  wanted: Pick<Wanted, 'site' | 'from' | 'onto' | 'forecast' | 'override' | 'undoOf'>,
  reason: string,
  author: string,
): Promise<string> {
  const [id, at, forecast] = [newId('q'), now(), wanted.forecast as string];
  const request: RequestRecord = {
    id,
    site: wanted.site,
    from_path: wanted.from ?? wanted.onto,
    onto_path: wanted.onto,
    title: `Urgent: ${reason.length > TITLE ? `${reason.slice(0, TITLE)}…` : reason}`,
    description: '',
    state: 'delivering',
    author,
    created_at: at,
    updated_at: at,
    revision: 1,
    forecast,
    revising: null,
    wanted_for: null,
    deliver_at: null,
    deliverer: author,
    override: wanted.override ?? null,
    transfer: null,
    because: null,
    urgent: reason,
    undoes: wanted.undoOf ?? null,
    idle_warned_at: null,
  };
  await trx('change_request').insert(request);
  const items = await itemsOfForecast(trx, forecast);
  await addRevision(trx, { request_id: id, number: 1, forecast, at, person_id: author, items });
  const { teams } = await ruleOfLane(trx, wanted.site, await laneOnto(trx, wanted.onto));
  if (teams.length > 0) await trx('request_reviewer').insert(teams.map((team) => ({ request_id: id, team })));
  await addHistory(trx, id, { at, person: author, act: 'begin', words: `Urgent: ${reason}` });
  await tellPeople(trx, request, { kind: 'review-asked', by: author, at, words: reason });
  await tell(trx, request);
  return id;
}
