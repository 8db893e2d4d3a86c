import { isPassword } from '../access/passwords.js';
import type { Tries } from '../access/tries.js';
import { ProblemError } from '../problems.js';
import { type GuestRecord, isOpenLink } from '../records/guests.js';
import type { OnRecords } from '../records/open.js';
import type { Installation } from '../work/context.js';
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
  const counted = [`guest ${id}`, `guest address ${address}`] as const;
  tries.mustBeFree(...counted);
  const guest = await find(installation.records, id);
  if (!guest || !isKeyOf(installation, 'link', guest, key) || !isOpenLink(guest, installation.now())) {
    tries.fail(counted[1], FREE_TRIES * 10);
    throw new ProblemError(
      'not-signed-in',
      'This link is not valid: it was ended, or its time is over.',
      'Ask whoever sent it for another one.',
    );
  }
  if (guest.passcode_hash !== null && !(await isPassword(passcode ?? '', guest.passcode_hash))) {
    if (passcode !== undefined)
      for (const [i, one] of counted.entries()) tries.fail(one, FREE_TRIES * (i === 0 ? 1 : 10));
    throw new ProblemError(
      'passcode',
      passcode === undefined ? 'This link asks for a passcode.' : 'The passcode is not right.',
      'Ask whoever sent the link for it.',
    );
  }
  tries.succeed(counted[0]);
  return guest;
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
