import type { OnRecords } from '../ground/open.js';
import { type News, writeNotice } from '../notices/tell.js';
import type { RequestRecord, ReviewerRecord } from './requests.js';
/** Tells those whom it concerns, in the transaction in which it happens. */
export async function tellPeople(trx: OnRecords, request: RequestRecord, news: News): Promise<void> {
  const concerned = {
    author: [request.author],
    reviewers: await reviewersOf(trx, request.id),
    deliverer: request.deliverer === null ? [] : [request.deliverer],
    ...news.concerned,
  };
  await writeNotice(trx, { request_id: request.id }, concerned, news);
}

/** People who are asked for review: those named, and the members of the teams named. */
async function reviewersOf(trx: OnRecords, request: string): Promise<string[]> {
  const named = (await trx('request_reviewer').where({ request_id: request })) as ReviewerRecord[];
  const teams = named.flatMap((one) => (one.team === null ? [] : [one.team]));
  const members = (await trx('team_member').whereIn('team', teams).select('person_id')) as { person_id: string }[];
  return [
    ...named.flatMap((one) => (one.person_id === null ? [] : [one.person_id])),
    ...members.map((one) => one.person_id),
  ];
}
