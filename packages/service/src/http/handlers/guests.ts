import type { BodyOf } from '@tessarion/contract';
import { noEnvironment, noRequest } from '../../ground/absent.js';
import { newId } from '../../ground/data-folder.js';
import type { OnRecords } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import {
  addWord,
  type GuestRecord,
  getGuest,
  insertGuest,
  isOpenLink,
  type LookRecord,
  looksOf,
  updateGuest,
  wordsOf,
} from '../../guests/guests.js';
import { linkOf } from '../../guests/keys.js';
import { showLinks } from '../../guests/view.js';
import { writeLetter } from '../../notices/letters.js';
import { hashPassword } from '../../people/passwords.js';
import { holdRequest, type RequestRecord } from '../../requests/requests.js';
import { settleApproval } from '../../requests/standing.js';
import type { Call, Handlers } from './call.js';

const DAYS = 14;
/** Guests that are listed; who came before them has long ended. */
const MOST = 500;

/** A link as colleagues see it. */
async function shown({ installation }: Call, on: OnRecords, id: string) {
  const [link] = await showLinks(on, [await getGuest(on, id)], installation.now());
  return link as NonNullable<typeof link>;
}

/** What colleagues do for guests: inviting them, answering, ending their links. */
export const guestHandlers: Handlers<'guestList' | 'guestInvite' | 'guestEnd' | 'guestAnswer'> = {
  async guestList({ installation: { records, now }, params, query, sight }) {
    const rows = records<GuestRecord>('guest_link as g')
      .where({ site: params.site })
      .orderBy('created_at', 'desc')
      .limit(MOST);
    if (query.request !== undefined)
      rows.whereExists(records('guest_look').whereRaw('link_id = g.id').where({ request_id: query.request }));
    const links = await showLinks(records, (await rows) as GuestRecord[], now());
    const requests = await pathsOf(
      records,
      links.flatMap((one) => one.looks.flatMap((look) => look.request ?? [])),
    );
    // A link speaks of all that it shows: it is listed for who may read all of that.
    return links.filter((one) =>
      one.looks.every((look) => sight.seesEnvironment(look.environment ?? requests.get(look.request ?? '') ?? '')),
    );
  },

  async guestInvite(call) {
    const { installation, params, body, person } = call;
    const { records, now } = installation;
    const passcode_hash = body.passcode === undefined ? null : await hashPassword(body.passcode);
    return records.transaction(async (trx) => {
      const guest: GuestRecord = {
        id: newId('g'),
        site: params.site,
        name: body.name,
        mail: body.mail ?? null,
        words: body.words?.trim() ?? '',
        passcode_hash,
        person_id: person.id,
        created_at: now(),
        expires_at: new Date(now().getTime() + (body.days ?? DAYS) * 86_400_000),
        ended_at: null,
        last_seen_at: null,
        choice: null,
        chosen_at: null,
      };
      const looks = await Promise.all(body.looks.map((wanted, position) => lookOf(call, trx, guest, wanted, position)));
      await insertGuest(trx, guest, looks);
      await call.note(trx, params.site, {
        guest: guest.id,
        until: guest.expires_at.toISOString(),
        looks: looks.map((one) => one.request_id ?? one.environment),
        hasPasscode: passcode_hash !== null,
      });
      const url = linkOf(installation, guest);
      const isMailed =
        guest.mail !== null &&
        (await writeLetter(trx, installation, {
          name: guest.name,
          mail: guest.mail,
          letter: {
            head: `${person.name} asks you to look at ${looks.map((one) => one.title).join(', ')}`,
            sentence: `Your link holds until ${guest.expires_at.toISOString().slice(0, 10)}. You can look, comment, choose, and say yes; you need no account.`,
            words: guest.words,
            link: { text: 'Look', url },
            footer: 'Whoever has this link can look in your name: do not pass it on.',
          },
        }));
      return { link: await shown(call, trx, guest.id), url, isMailed };
    });
  },

  async guestEnd(call) {
    const { installation, params, person } = call;
    return installation.records.transaction(async (trx) => {
      const guest = await getGuest(trx, params.id);
      if (!isOpenLink(guest, installation.now()))
        throw new ProblemError('conflict', `The link of ${guest.name} has ended already.`, 'Nothing is to be done.');
      const at = installation.now();
      await updateGuest(trx, guest.id, { ended_at: at });
      await call.note(trx, guest.site, { guest: guest.id });
      // Their yes counts no more.
      for (const { request_id } of await looksOf(trx, [guest.id]))
        if (request_id !== null) await settleApproval(trx, await holdRequest(trx, request_id), at, person.id);
      return shown(call, trx, guest.id);
    });
  },

  async guestAnswer(call) {
    const { installation, params, body, person } = call;
    return installation.records.transaction(async (trx) => {
      const guest = await getGuest(trx, params.id);
      const first = (await wordsOf(trx, [guest.id])).find((one) => one.thread === body.thread);
      if (!first)
        throw new ProblemError(
          'not-found',
          `${guest.name} began no conversation ${body.thread} about a variant.`,
          `See: tessarion guest list ${guest.site}`,
        );
      const { position, thread } = first;
      const said = { link_id: guest.id, position, thread, text: body.text, at: installation.now() };
      await addWord(trx, { ...said, person_id: person.id });
      await call.note(trx, guest.site, { guest: guest.id, thread: first.thread });
      return shown(call, trx, guest.id);
    });
  },
};

/** Where requests lead, by their ids. */
async function pathsOf(on: OnRecords, requests: readonly string[]): Promise<ReadonlyMap<string, string>> {
  const rows = (await on('change_request')
    .whereIn('id', [...requests])
    .select('id', 'onto_path')) as Pick<RequestRecord, 'id' | 'onto_path'>[];
  return new Map(rows.map((one) => [one.id, one.onto_path]));
}

/** One thing that a guest will look at: of this site, and nothing that who invites may not read. */
async function lookOf(
  { installation, sight }: Call,
  trx: OnRecords,
  guest: GuestRecord,
  { request, environment, title }: BodyOf<'guestInvite'>['looks'][number],
  position: number,
): Promise<LookRecord> {
  if ((request === undefined) === (environment === undefined))
    throw new ProblemError(
      'invalid',
      'A guest looks at a change request or at an environment.',
      'Name one of the two.',
    );
  if (request !== undefined) {
    const found = (await trx<RequestRecord>('change_request').where({ id: request }).first()) as
      | RequestRecord
      | undefined;
    if (!found || found.site !== guest.site || !sight.seesEnvironment(found.onto_path)) throw noRequest(request);
    return { link_id: guest.id, position, title: title ?? found.title, request_id: request, environment: null };
  }
  const path = environment as string;
  const found = await installation.environments.find(trx, path);
  if (!found || found.site !== guest.site || found.preview || !sight.seesEnvironment(path)) throw noEnvironment(path);
  if (found.kind === 'live')
    throw new ProblemError('lane-closed', `${path} is live, and open to everybody.`, 'Send its address.');
  return {
    link_id: guest.id,
    position,
    title: title ?? found.description ?? found.name,
    request_id: null,
    environment: path,
  };
}
