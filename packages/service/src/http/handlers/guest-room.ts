import { type Address, formatLocation } from '@tessarion/core';
import { previewPath } from '../../fleet/preview-path.js';
import { publishHolders } from '../../front/routes.js';
import type { OnRecords } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import { enterAsGuest } from '../../guests/enter.js';
import {
  addWord,
  type GuestRecord,
  getGuest,
  type LookRecord,
  looksOf,
  updateGuest,
  wordsOf,
} from '../../guests/guests.js';
import { sessionOf } from '../../guests/keys.js';
import { tellHost } from '../../guests/tell.js';
import { guestRoom, stateOf } from '../../guests/view.js';
import { tell } from '../../requests/moves.js';
import { showPreview } from '../../requests/preview.js';
import { addHistory, getRequest, holdRequest, type RequestRecord } from '../../requests/requests.js';
import { noteActivity } from '../../requests/revisions.js';
import { addComment, addVerdict, settleThread } from '../../requests/spoken.js';
import { isReviewable, settleApproval } from '../../requests/standing.js';
import { tellPeople } from '../../requests/tell.js';
import { GUEST_COOKIE, isSecure } from '../cookies.js';
import type { Call, Handlers } from './call.js';

/** How long the gate stays open for a guest; the link opens it again. */
const GUEST_PASS_SECONDS = 3600;
const WORDS = 1000;

/** What guests do, in the room that their link leads to. */
export const guestRoomHandlers: Handlers<
  'guestEnter' | 'guestRoom' | 'guestOpen' | 'guestSay' | 'guestApprove' | 'guestChoose'
> = {
  async guestEnter(call) {
    const { installation, body, access, address, reply } = call;
    const guest = await enterAsGuest(installation, access.tries, { key: body.key, passcode: body.passcode, address });
    reply.setCookie(GUEST_COOKIE, sessionOf(installation, guest), {
      path: '/api/v1/guest',
      httpOnly: true,
      sameSite: 'strict',
      secure: isSecure(installation),
      expires: guest.expires_at,
    });
    await call.note(installation.records, guest.site, { guest: guest.id }, guest);
    return guestRoom(installation.records, installation, guest);
  },

  guestRoom: ({ installation, guest }) => guestRoom(installation.records, installation, guest),

  async guestOpen(call) {
    const { installation, params, guest } = call;
    const look = await lookAt(installation.records, guest, params.position);
    const path =
      look.request_id === null
        ? (look.environment as string)
        : previewPath(await getRequest(installation.records, look.request_id));
    const record = await installation.environments.find(installation.records, path);
    if (record?.status !== 'ready')
      throw new ProblemError('conflict', 'There is nothing to look at now.', 'Come back later: it is being made.');
    await call.note(installation.records, path, { guest: guest.id });
    const url = formatLocation(record.addresses[0] as Address);
    await publishHolders(installation);
    const now = installation.now();
    const stays = Math.min(GUEST_PASS_SECONDS, (guest.expires_at.getTime() - now.getTime()) / 1000);
    return { url: installation.front.entry(url, path, `guest ${guest.id}`, now, stays) };
  },

  guestSay: (call) =>
    saying(call, async (trx, guest) => {
      const { installation, params, body } = call;
      const look = await lookAt(trx, guest, params.position);
      const at = installation.now();
      if (look.request_id === null) {
        const first = (await wordsOf(trx, [guest.id])).find((one) => one.thread === body.thread);
        if (body.thread !== undefined && first?.position !== params.position) throw noThread(body.thread);
        const { position } = params;
        const said = { link_id: guest.id, position, thread: first?.thread, text: body.text, at };
        const id = await addWord(trx, said);
        await tellHost(trx, guest, look.environment as string, { at, words: body.text.slice(0, WORDS) });
        return { look: look.environment, comment: id };
      }
      const request = await holdRequest(trx, look.request_id);
      const first = await trx('request_comment')
        .where({ id: body.thread ?? '', guest: guest.id, request_id: request.id })
        .whereRaw('id = thread')
        .first('id');
      if (body.thread !== undefined && !first) throw noThread(body.thread);
      const id = await addComment(trx, request, { guest: guest.id }, { first, text: body.text, at });
      if (first) await settleThread(trx, first.id, null, at);
      await tellTeam(trx, request, guest, 'comment', body.text, at);
      await settleApproval(trx, request, at, null);
      await tell(trx, request);
      return { request: request.id, comment: id };
    }),

  guestApprove: (call) =>
    saying(call, async (trx, guest) => {
      const { installation, params, body } = call;
      const look = await lookAt(trx, guest, params.position);
      if (look.request_id === null)
        throw new ProblemError('conflict', 'A variant is chosen, and not said yes to.', 'Choose it.');
      const request = await holdRequest(trx, look.request_id);
      const preview = await showPreview(trx, installation, request);
      // What was looked at must be what would be written.
      if (stateOf(request, preview) !== 'ready' || preview?.revision !== body.revision)
        throw new ProblemError(
          'outdated',
          'It has changed since you looked.',
          'Wait until its preview is made anew, and look once more.',
        );
      if (!isReviewable(request))
        throw new ProblemError(
          'conflict',
          `It is ${request.state}, and nobody is asked now.`,
          'Nothing is to be done.',
        );
      const at = installation.now();
      const verdict = { says: 'approve' as const, words: '', revision: body.revision, at };
      await addVerdict(trx, request.id, { guest: guest.id }, verdict);
      await addHistory(trx, request.id, { at, person: null, guest: guest.id, act: 'verdict approve', words: '' });
      await tellTeam(trx, request, guest, 'verdict', 'Yes.', at);
      await settleApproval(trx, request, at, null);
      await tell(trx, request);
      return { request: request.id, revision: body.revision };
    }),

  guestChoose: (call) =>
    saying(call, async (trx, guest) => {
      const { installation, body } = call;
      const look = await lookAt(trx, guest, body.position);
      if ((await looksOf(trx, [guest.id])).length < 2)
        throw new ProblemError('conflict', 'There is only one, and nothing to choose.', 'Say yes to it, or comment.');
      await updateGuest(trx, guest.id, { choice: body.position, chosen_at: installation.now() });
      if (look.request_id !== null) {
        const request = await holdRequest(trx, look.request_id);
        await tellTeam(trx, request, guest, 'comment', 'I choose this one.', installation.now());
        await tell(trx, request);
      } else
        await tellHost(trx, guest, look.environment as string, {
          at: installation.now(),
          words: 'I choose this one.',
        });
      return { before: guest.choice, after: body.position };
    }),
};

/** Runs what a guest does in one transaction, notes it, and shows their room as it is then. */
function saying(call: Call, work: (trx: OnRecords, guest: GuestRecord) => Promise<Readonly<Record<string, unknown>>>) {
  const { installation, guest } = call;
  return installation.records.transaction(async (trx) => {
    const details = await work(trx, guest);
    await call.note(trx, guest.site, { guest: guest.id, ...details });
    if (typeof details.request === 'string') await noteActivity(trx, details.request, installation.now());
    return guestRoom(trx, installation, await getGuest(trx, guest.id));
  });
}

/** @throws {ProblemError} `not-found` */
async function lookAt(on: OnRecords, guest: GuestRecord, position: number): Promise<LookRecord> {
  const found = (await looksOf(on, [guest.id])).find((one) => one.position === position);
  if (!found)
    throw new ProblemError('not-found', 'Your link shows no such thing.', 'Look at what it shows: open it again.');
  return found;
}

const noThread = (id: string): ProblemError =>
  new ProblemError('not-found', `You began no conversation ${id} here.`, 'Begin one: leave the thread out.');

/** Tells the team what a guest said, in the guest's name. */
const tellTeam = (
  trx: OnRecords,
  request: RequestRecord,
  guest: GuestRecord,
  kind: 'comment' | 'verdict',
  words: string,
  at: Date,
): Promise<void> =>
  tellPeople(trx, request, {
    kind,
    by: null,
    at,
    words: `${guest.name}, a guest: ${words.slice(0, WORDS)}`,
    concerned: { mentioned: [guest.person_id] },
  });
