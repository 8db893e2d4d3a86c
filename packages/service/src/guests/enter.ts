import type { OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { isPassword } from '../people/passwords.js';
import { TRIES_AT_ONE_PLACE } from '../people/sign-in.js';
import { placeOf, type Tries } from '../people/tries.js';
import type { Installation } from '../transfers/installation.js';
import { type GuestRecord, isOpenLink } from './guests.js';
import { idInKey, isKeyOf } from './keys.js';

const FREE_TRIES = 5;

const find = (on: OnRecords, id: string): Promise<GuestRecord | undefined> =>
  on<GuestRecord>('guest_link').where({ id }).first() as Promise<GuestRecord | undefined>;

/**
 * Lets somebody in by a link.
 *
 * @throws {ProblemError} `not-signed-in` where the link is none or its time is over, `passcode` where it wants one,
 *   `too-many-tries`
 */
export async function enterAsGuest(
  installation: Installation,
  tries: Tries,
  { key, passcode, address }: { readonly key: string; readonly passcode: string | undefined; readonly address: string },
): Promise<GuestRecord> {
  const id = idInKey(key);
  // Counted apart from signing in, and a link that fits takes back only what was counted against itself.
  const place = { who: `guest address ${placeOf(address)}`, free: TRIES_AT_ONE_PLACE };
  const attempt = tries.begin(place);
  try {
    const guest = await find(installation.records, id);
    if (!guest || !isKeyOf(installation, 'link', guest, key) || !isOpenLink(guest, installation.now())) {
      attempt.fail(place);
      throw new ProblemError(
        'not-signed-in',
        'This link is not valid: it was ended, or its time is over.',
        'Ask whoever sent it for another one.',
      );
    }
    if (guest.passcode_hash !== null) await mustKnowPasscode(tries, guest, passcode, () => attempt.fail(place));
    return guest;
  } finally {
    attempt.end();
  }
}

async function mustKnowPasscode(
  tries: Tries,
  { id, passcode_hash }: GuestRecord,
  passcode: string | undefined,
  onWrong: () => void,
): Promise<void> {
  const link = { who: `guest ${id}`, free: FREE_TRIES };
  const attempt = tries.begin(link);
  try {
    if (passcode !== undefined && (await isPassword(passcode, passcode_hash ?? ''))) return attempt.succeed(link);
    if (passcode !== undefined) {
      attempt.fail(link);
      onWrong();
    }
    throw new ProblemError(
      'passcode',
      passcode === undefined ? 'This link asks for a passcode.' : 'The passcode is not right.',
      'Ask whoever sent the link for it.',
    );
  } finally {
    attempt.end();
  }
}

/** Who is behind a guest's cookie; undefined for nobody, or whose link was ended. */
export async function guestOf(
  installation: Installation,
  cookie: string | undefined,
): Promise<GuestRecord | undefined> {
  if (cookie === undefined) return undefined;
  const { records, now } = installation;
  const guest = await find(records, idInKey(cookie));
  if (!guest || !isKeyOf(installation, 'session', guest, cookie) || !isOpenLink(guest, now())) return undefined;
  await records('guest_link')
    .where({ id: guest.id })
    .whereRaw("(last_seen_at IS NULL OR last_seen_at < ?::timestamptz - interval '1 minute')", [now()])
    .update({ last_seen_at: now() });
  return guest;
}
