import type { Person } from '@tessarion/contract';
import { type DataFolder, hashSecret, newId, newSecret } from '../ground/data-folder.js';
import type { OnRecords, Records } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { type Caller, callerOf } from './actors.js';
import { mustNotBeGuessable } from './guessable.js';
import { hashPassword, isPassword, NOBODY } from './passwords.js';
import type { PersonRow } from './people.js';
import { confirmFactor, mustHaveFactor } from './second-factor.js';
import { type Counted, placeOf, Tries } from './tries.js';

const SESSION_DAYS = 14;
/** A session that nobody uses for so long is over. */
const IDLE_HOURS = 24;
const TOKEN_DAYS = 90;
const INVITATION_DAYS = 7;
const FREE_TRIES = 5;
/** Failed tries that are free from one network address, whatever the accounts. */
export const TRIES_AT_ONE_PLACE = 50;
/** How exactly it is known when somebody was last there. */
const SEEN_EVERY_MS = 60_000;

/** A session in the records; the secret itself is not among them. */
export interface SessionRow {
  readonly id: string;
  readonly created_at: Date;
  readonly expires_at: Date;
  readonly last_seen_at: Date | null;
  readonly address: string | null;
  readonly hash: string;
}

/** A session that was just begun, with its secret. */
export interface NewSession {
  readonly person: Person;
  readonly session: string;
  readonly expires: Date;
}

const countedOf = (mail: string): Counted => ({ who: `account ${mail}`, free: FREE_TRIES });

/** What somebody tries who is signed in: strangers who try to sign in do not shut them out of it. */
const ownTries = ({ id }: Person): Counted => ({ who: `person ${id}`, free: FREE_TRIES });

const noFirstKey = (): ProblemError =>
  new ProblemError(
    'not-allowed',
    'This key is not valid, or has been used.',
    'Sign in, or start the service anew to get another key while there is nobody yet.',
  );

const noInvitation = (): ProblemError =>
  new ProblemError(
    'not-allowed',
    'This invitation is not valid: it was used, or its time is over.',
    'Ask for another one.',
  );

const isStale = (seen: Date | null, now: Date): boolean =>
  seen === null || seen.getTime() < now.getTime() - SEEN_EVERY_MS;

/** Signing in: first administrator, invitations, sessions and tokens. */
export class Access {
  readonly #records: Records;
  readonly #now: () => Date;
  readonly #keys: DataFolder['keys'];
  readonly tries: Tries;

  constructor(records: Records, keys: DataFolder['keys'], now: () => Date) {
    this.#records = records;
    this.#now = now;
    this.#keys = keys;
    this.tries = new Tries(now);
  }

  /** Makes the key for the first administrator, once; undefined when there are people already. */
  async firstKey(): Promise<string | undefined> {
    if (await this.#records('person').first('id')) return undefined;
    const key = newSecret('first');
    await this.#records('installation')
      .insert({ name: 'first-key', value: hashSecret(key) })
      .onConflict('name')
      .merge();
    return key;
  }

  /**
   * A new password of somebody who has a key: hashed for them alone, and before a transaction waits for it.
   *
   * @param kind of a key: of an invitation, or of the first administrator
   * @param known words of theirs, which no password is made of
   * @throws {ProblemError} `not-allowed`, `too-many-tries`, `invalid` where it is easily guessed
   */
  async newPassword(
    kind: 'invitation' | 'first',
    key: string,
    password: string,
    address: string,
    known: readonly string[] = [],
  ): Promise<string> {
    const place = { who: `${kind} address ${placeOf(address)}`, free: TRIES_AT_ONE_PLACE };
    const attempt = this.tries.begin(place);
    try {
      const hash = hashSecret(key);
      const found: { name: string; mail?: string } | undefined =
        kind === 'first'
          ? await this.#records('installation').where({ name: 'first-key', value: hash }).first('name')
          : await this.#records('invitation as i')
              .join('person as p', 'p.id', 'i.person_id')
              .where('i.hash', hash)
              .where('i.expires_at', '>', this.#now())
              .first('p.name', 'p.mail');
      if (!found) {
        attempt.fail(place);
        throw kind === 'first' ? noFirstKey() : noInvitation();
      }
      await mustNotBeGuessable(password, [...known, ...(found.mail === undefined ? [] : [found.name, found.mail])]);
      return await hashPassword(password);
    } finally {
      attempt.end();
    }
  }

  /**
   * Another password of somebody who knows theirs.
   *
   * @returns its hash
   * @throws {ProblemError} `wrong-password`, `too-many-tries`, `invalid` where it is easily guessed
   */
  async nextPassword(person: Person, password: string, next: string): Promise<string> {
    await this.mustKnowPassword(person, password);
    await mustNotBeGuessable(next, [person.name, person.mail]);
    return hashPassword(next);
  }

  /** Ends the sessions of somebody but for one. @returns how many */
  endOthers(trx: OnRecords, person: string, session: string | undefined): Promise<number> {
    const others = trx('session').where({ person_id: person });
    if (session !== undefined) others.whereNot({ hash: hashSecret(session) });
    return others.delete();
  }

  /** @param password_hash by {@link newPassword} @throws {ProblemError} `not-allowed` */
  async makeFirst(
    trx: OnRecords,
    { key, name, mail, password_hash }: { key: string; name: string; mail: string; password_hash: string },
  ): Promise<Person> {
    const used = await trx('installation')
      .where({ name: 'first-key', value: hashSecret(key) })
      .delete();
    if (used === 0 || (await trx('person').first('id'))) throw noFirstKey();
    const person = { id: newId('p'), name, mail: mail.toLowerCase() };
    await trx('person').insert({ ...person, password_hash, created_at: this.#now() });
    await giveRole(trx, { person: person.id, role: 'administrator', scope: 'everything' }, this.#now());
    return person;
  }

  /** A key with which somebody chooses a password; former keys end. */
  async invite(trx: OnRecords, person: string): Promise<{ key: string; expiresAt: Date }> {
    const key = newSecret('invitation');
    const expiresAt = new Date(this.#now().getTime() + INVITATION_DAYS * 86_400_000);
    await trx('invitation').where({ person_id: person }).delete();
    await trx('invitation').insert({
      hash: hashSecret(key),
      person_id: person,
      created_at: this.#now(),
      expires_at: expiresAt,
    });
    return { key, expiresAt };
  }

  /** @param password_hash by {@link newPassword} @throws {ProblemError} `not-allowed` */
  async accept(trx: OnRecords, key: string, password_hash: string): Promise<Person> {
    const [invitation] = (await trx('invitation')
      .where({ hash: hashSecret(key) })
      .where('expires_at', '>', this.#now())
      .delete()
      .returning('person_id')) as { person_id: string }[];
    const [row] = invitation
      ? ((await trx('person')
          .where({ id: invitation.person_id })
          .whereNot({ state: 'ended' })
          .update({ password_hash, state: 'active' })
          .returning('*')) as PersonRow[])
      : [];
    if (!row) throw noInvitation();
    // Whoever had got in with a former password is out, whatever they made themselves to come in by.
    await this.endComing(trx, row.id);
    return toPerson(row);
  }

  /** Who signs in. @throws {ProblemError} `not-signed-in`, `second-factor`, `too-many-tries` */
  async identify(mail: string, password: string, code: string | undefined, address: string): Promise<Person> {
    const row = (await this.#records('person').where({ mail: mail.trim().toLowerCase(), state: 'active' }).first()) as
      | PersonRow
      | undefined;
    const from = placeOf(address);
    // Whoever tries many accounts from one place waits as well as whoever tries one account from many places; but nobody is
    // shut out at a place of their own by what others try elsewhere.
    const isKnown = row !== undefined && (await this.#hasSessionFrom(row.id, from));
    const account = countedOf(`${mail.trim().toLowerCase()}${isKnown ? ` from ${from}` : ''}`);
    const place = { who: `address ${from}`, free: TRIES_AT_ONE_PLACE };
    const attempt = this.tries.begin(account, place);
    try {
      const isRight = await isPassword(password, row?.password_hash ?? NOBODY);
      if (!row || !isRight) {
        attempt.fail(account, place);
        throw new ProblemError('not-signed-in', 'Mail address or password is not right.', 'Try again.');
      }
      try {
        await mustHaveFactor(this.#records, this.#keys, toPerson(row), code, this.#now());
      } catch (error) {
        if (code !== undefined) attempt.fail(account, place);
        throw error;
      }
      attempt.succeed(account, place);
      return toPerson(row);
    } finally {
      attempt.end();
    }
  }

  /** Whether somebody is signed in already, and nowhere near an address. */
  async isNewPlace(person: string, address: string): Promise<boolean> {
    const known = await this.#records('session').where({ person_id: person }).first('id');
    return known !== undefined && !(await this.#hasSessionFrom(person, placeOf(address)));
  }

  async #hasSessionFrom(person: string, from: string): Promise<boolean> {
    const sessions = (await this.#records('session')
      .where({ person_id: person })
      .where('expires_at', '>', this.#now())
      .whereNotNull('address')
      .distinct('address')) as { address: string }[];
    return sessions.some((one) => placeOf(one.address) === from);
  }

  /** A session for somebody who has shown who they are. */
  async beginSession(on: OnRecords, person: Person, address: string): Promise<NewSession> {
    const session = newSecret('session');
    const expires = new Date(this.#now().getTime() + SESSION_DAYS * 86_400_000);
    await on('session').insert({
      id: newId('n'),
      hash: hashSecret(session),
      person_id: person.id,
      created_at: this.#now(),
      expires_at: expires,
      address,
    });
    return { person, session, expires };
  }

  /** Sees that a password is somebody's own; wrong ones count. @throws {ProblemError} `wrong-password`, `too-many-tries` */
  async mustKnowPassword(person: Person, password: string): Promise<void> {
    const account = ownTries(person);
    const attempt = this.tries.begin(account);
    try {
      const row = (await this.#records('person').where({ id: person.id }).first('password_hash')) as
        | Pick<PersonRow, 'password_hash'>
        | undefined;
      if (await isPassword(password, row?.password_hash ?? NOBODY)) return attempt.succeed(account);
      attempt.fail(account);
      throw new ProblemError('wrong-password', 'The password is not right.', 'Try again.');
    } finally {
      attempt.end();
    }
  }

  /** @throws {ProblemError} `second-factor`, `too-many-tries` */
  mustHaveFactor(on: OnRecords, person: Person, code: string): Promise<void> {
    return this.#counted(person, () => mustHaveFactor(on, this.#keys, person, code, this.#now()));
  }

  /** Asks for the second factor from now on. @throws {ProblemError} `second-factor`, `too-many-tries`, `conflict` */
  confirmFactor(on: OnRecords, person: Person, code: string): Promise<string[]> {
    return this.#counted(person, () => confirmFactor(on, this.#keys, person, code, this.#now()));
  }

  /** Codes that are not right count. */
  async #counted<T>(person: Person, work: () => Promise<T>): Promise<T> {
    const account = ownTries(person);
    const attempt = this.tries.begin(account);
    try {
      const result = await work();
      attempt.succeed(account);
      return result;
    } catch (error) {
      attempt.fail(account);
      throw error;
    } finally {
      attempt.end();
    }
  }

  async signOut(on: OnRecords, session: string): Promise<void> {
    await on('session')
      .where({ hash: hashSecret(session) })
      .delete();
  }

  /** Who is behind a session cookie or bearer token; undefined for nobody, or somebody whose access has ended. */
  async callerOf(credential: {
    session?: string | undefined;
    token?: string | undefined;
  }): Promise<Caller | undefined> {
    const now = this.#now();
    if (credential.token !== undefined) {
      const hash = hashSecret(credential.token);
      const row = await this.#records('token')
        .join('person', 'person.id', 'token.person_id')
        .where('token.hash', hash)
        .where('person.state', 'active')
        .where((q) => q.whereNull('token.expires_at').orWhere('token.expires_at', '>', now))
        .first('person.*', 'token.id as token_id', 'token.permissions', 'token.scope', 'token.last_used_at as used_at');
      if (!row) return undefined;
      if (isStale(row.used_at, now)) await this.#records('token').where({ hash }).update({ last_used_at: now });
      const token = { id: row.token_id, permissions: row.permissions, scope: row.scope };
      return callerOf(this.#records, toPerson(row as PersonRow), token);
    }
    if (credential.session === undefined) return undefined;
    const hash = hashSecret(credential.session);
    const row = await this.#records('session')
      .join('person', 'person.id', 'session.person_id')
      .where('session.hash', hash)
      .where('session.expires_at', '>', now)
      .whereRaw('coalesce(session.last_seen_at, session.created_at) > ?', [
        new Date(now.getTime() - IDLE_HOURS * 3_600_000),
      ])
      .where('person.state', 'active')
      .first('person.*', 'session.last_seen_at as seen_at');
    if (!row) return undefined;
    if (isStale(row.seen_at, now)) await this.#records('session').where({ hash }).update({ last_seen_at: now });
    if (isStale(row.last_seen_at, now))
      await this.#records('person').where({ id: row.id }).update({ last_seen_at: now });
    return callerOf(this.#records, toPerson(row as PersonRow), undefined);
  }

  async makeToken(
    on: OnRecords,
    person: Person,
    wanted: {
      readonly name: string;
      readonly days?: number | null | undefined;
      readonly permissions?: readonly string[] | undefined;
      readonly scope?: string | undefined;
    },
  ): Promise<{ row: TokenRow; value: string }> {
    const value = newSecret('tsr');
    const { days = TOKEN_DAYS } = wanted;
    const row: TokenRow = {
      id: newId('k'),
      name: wanted.name,
      created_at: this.#now(),
      expires_at: days === null ? null : new Date(this.#now().getTime() + days * 86_400_000),
      last_used_at: null,
      permissions: wanted.permissions ?? null,
      scope: wanted.scope ?? 'everything',
    };
    await on('token').insert({
      ...row,
      permissions: row.permissions === null ? null : JSON.stringify(row.permissions),
      person_id: person.id,
      hash: hashSecret(value),
    });
    return { row, value };
  }

  /** All by which somebody comes in ends at once; with a password they come in anew. */
  async endComing(trx: OnRecords, person: string): Promise<void> {
    for (const table of ['session', 'token', 'calendar']) await trx(table).where({ person_id: person }).delete();
  }

  /** That, and their invitation. */
  async endAll(trx: OnRecords, person: string): Promise<void> {
    await this.endComing(trx, person);
    await trx('invitation').where({ person_id: person }).delete();
  }
}

/** A token in the records; the secret itself is not among them. */
export interface TokenRow {
  readonly id: string;
  readonly name: string;
  readonly created_at: Date;
  readonly expires_at: Date | null;
  readonly last_used_at: Date | null;
  readonly permissions: readonly string[] | null;
  readonly scope: string;
}

/** @returns the id under which the role was given */
export async function giveRole(
  on: OnRecords,
  given: { readonly person?: string | undefined; readonly team?: string | undefined; role: string; scope: string },
  now: Date,
): Promise<string> {
  const id = newId('g');
  await on('role_grant').insert({
    id,
    person_id: given.person ?? null,
    team: given.team ?? null,
    role: given.role,
    scope: given.scope,
    created_at: now,
  });
  return id;
}

/** A person as the interface shows them. */
export const toPerson = ({ id, name, mail }: PersonRow): Person => ({ id, name, mail });
