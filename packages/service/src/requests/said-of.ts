import { newId } from '../ground/data-folder.js';
import type { OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { getColleague, getTeam } from '../people/people.js';
import { type RequestRecord, type StepRecord, stepsOf } from './requests.js';

/** Writes the manual steps down in this order; one that stays as it was keeps its tick. */
export async function setSteps(
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

/** Asks these people and teams for review, and no others. @throws {ProblemError} `invalid`, `not-found`, `conflict` */
export async function setReviewers(
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

/** Records that a step is done, or is not. @param by who did it; null where it is not. @returns whether there is such a step */
export const tickStep = async (
  trx: OnRecords,
  request: string,
  id: string,
  by: string | null,
  at: Date,
): Promise<boolean> =>
  (await trx('request_step')
    .where({ id, request_id: request })
    .update({ done_by: by, done_at: by === null ? null : at })) > 0;
