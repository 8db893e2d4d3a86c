import { createHmac, randomInt } from 'node:crypto';
import { Secret, TOTP } from 'otpauth';
import type { Keys } from '../ground/keys.js';
import type { OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';

const CODES = 10;
/** Without letters and digits that look alike. */
const SIGNS = '23456789abcdefghjkmnpqrstuvwxyz';
const CODE_SIGNS = 10;
/** Clocks may be off by one step of time, half a minute. */
const WINDOW = 1;

interface FactorRow {
  readonly person_id: string;
  readonly secret: string;
  readonly confirmed_at: Date | null;
  readonly last_step: string;
}

/** A second factor by time-based codes (RFC 6238: SHA-1, six digits, thirty seconds), with codes for when it is lost. */
const totpOf = (keys: Keys, mail: string, { secret }: Pick<FactorRow, 'secret'>): TOTP =>
  new TOTP({ issuer: 'Tessarion', label: mail, secret: Secret.fromBase32(keys.decrypt(secret)) });

const factorOf = (on: OnRecords, person: string): Promise<FactorRow | undefined> =>
  on('second_factor').where({ person_id: person }).first() as unknown as Promise<FactorRow | undefined>;

/** Whether somebody is asked for a second factor, and how many recovery codes are left. */
export async function showFactor(
  on: OnRecords,
  person: string,
): Promise<{ isOn: boolean; since: string | null; recoveryCodes: number }> {
  const factor = await factorOf(on, person);
  const [{ count }] = (await on('recovery_code').where({ person_id: person }).count({ count: '*' })) as [
    { count: string },
  ];
  return {
    isOn: factor?.confirmed_at !== null && factor !== undefined,
    since: factor?.confirmed_at?.toISOString() ?? null,
    recoveryCodes: Number(count),
  };
}

/** Makes a secret that is not asked for yet. @throws {ProblemError} `conflict` where there is a second factor */
export async function beginFactor(
  on: OnRecords,
  keys: Keys,
  { id, mail }: { readonly id: string; readonly mail: string },
  now: Date,
): Promise<{ secret: string; uri: string }> {
  if ((await factorOf(on, id))?.confirmed_at)
    throw new ProblemError('conflict', 'A second factor is asked for already.', 'End it first.');
  const secret = new Secret({ size: 20 }).base32;
  const row = { secret: keys.encrypt(secret), created_at: now, confirmed_at: null, last_step: 0 };
  await on('second_factor')
    .insert({ person_id: id, ...row })
    .onConflict('person_id')
    .merge(row);
  return { secret, uri: totpOf(keys, mail, row).toString() };
}

/** Asks for the second factor from now on. @returns recovery codes, shown once @throws {ProblemError} `second-factor`, `conflict` */
export async function confirmFactor(
  on: OnRecords,
  keys: Keys,
  { id, mail }: { readonly id: string; readonly mail: string },
  code: string,
  now: Date,
): Promise<string[]> {
  const factor = await factorOf(on, id);
  if (!factor) throw new ProblemError('conflict', 'No second factor was begun.', 'Begin it first.');
  // A code alone makes no recovery codes anew.
  if (factor.confirmed_at)
    throw new ProblemError(
      'conflict',
      'A second factor is asked for already.',
      'Make recovery codes anew, or end it first.',
    );
  if (!(await takeTimedCode(on, keys, { id, mail }, factor, code, now))) throw wrongCode();
  await on('second_factor').where({ person_id: id }).update({ confirmed_at: now });
  return renewRecovery(on, keys, id);
}

/** Makes recovery codes anew; former ones end. */
export async function renewRecovery(on: OnRecords, keys: Keys, person: string): Promise<string[]> {
  const codes = Array.from({ length: CODES }, () => {
    const signs = Array.from({ length: CODE_SIGNS }, () => SIGNS[randomInt(SIGNS.length)]).join('');
    return `${signs.slice(0, CODE_SIGNS / 2)}-${signs.slice(CODE_SIGNS / 2)}`;
  });
  await on('recovery_code').where({ person_id: person }).delete();
  await on('recovery_code').insert(codes.map((code) => ({ person_id: person, hash: hashCode(keys, person, code) })));
  return codes;
}

/** Takes a second factor away. */
export async function endFactor(on: OnRecords, person: string): Promise<void> {
  for (const table of ['second_factor', 'recovery_code']) await on(table).where({ person_id: person }).delete();
}

/**
 * Asks for the second factor where somebody has one; a code, of time or for recovery, works once.
 *
 * @throws {ProblemError} `second-factor` where a code is wanted, or is not right
 */
export async function mustHaveFactor(
  on: OnRecords,
  keys: Keys,
  person: { readonly id: string; readonly mail: string },
  code: string | undefined,
  now: Date,
): Promise<void> {
  const factor = await factorOf(on, person.id);
  if (!factor?.confirmed_at) return;
  if (code === undefined)
    throw new ProblemError(
      'second-factor',
      'A code of your second factor is asked for.',
      'Look it up where you keep it, or use a recovery code.',
    );
  if (await takeTimedCode(on, keys, person, factor, code, now)) return;
  const used = await on('recovery_code')
    .where({ person_id: person.id, hash: hashCode(keys, person.id, code) })
    .delete();
  if (used === 0) throw wrongCode();
}

const wrongCode = (): ProblemError =>
  new ProblemError('second-factor', 'The code is not right, or was used already.', 'Take the next one.');

/** Keyed: a code is short enough to be guessed from a digest that anybody can compute. */
const hashCode = (keys: Keys, person: string, code: string): string =>
  createHmac('sha256', keys.derive('recovery codes'))
    .update(`${person} ${code.trim().toLowerCase().replaceAll(/[\s-]/g, '')}`)
    .digest('hex');

/** Whether a code is one of now, and later than any that was used; two that come at once use it once. */
async function takeTimedCode(
  on: OnRecords,
  keys: Keys,
  { id, mail }: { readonly id: string; readonly mail: string },
  factor: FactorRow,
  code: string,
  now: Date,
): Promise<boolean> {
  const totp = totpOf(keys, mail, factor);
  const token = code.replaceAll(/\s/g, '');
  const delta = totp.validate({ token, timestamp: now.getTime(), window: WINDOW });
  if (delta === null) return false;
  const step = totp.counter({ timestamp: now.getTime() }) + delta;
  const taken = await on('second_factor')
    .where({ person_id: id })
    .where('last_step', '<', step)
    .update({ last_step: step });
  return taken > 0;
}
