import { randomBytes, scrypt, timingSafeEqual } from 'node:crypto';
import type { Person } from '@tessarion/contract';
import { hashSecret, newId, newSecret } from './data-folder.js';
import { ProblemError } from './problems.js';
import type { OnRecords, Records } from './records/open.js';

/** Memory-hard: 32 MiB a try (RFC 7914; N = 2^15, r = 8, p = 1). */
const SCRYPT = { N: 2 ** 15, r: 8, p: 1, maxmem: 64 * 1024 * 1024 } as const;
const SESSION_DAYS = 14;

export async function hashPassword(password: string): Promise<string> {
  const salt = randomBytes(16);
  return `scrypt$${salt.toString('base64')}$${(await derive(password, salt)).toString('base64')}`;
}

function derive(password: string, salt: Buffer): Promise<Buffer> {
  return new Promise((resolve, reject) =>
    scrypt(password.normalize('NFKC'), salt, 32, SCRYPT, (error, key) => (error ? reject(error) : resolve(key))),
  );
}

async function isPassword(password: string, hash: string): Promise<boolean> {
  const [, salt, key] = hash.split('$');
  const derived = await derive(password, Buffer.from(salt ?? '', 'base64'));
  const expected = Buffer.from(key ?? '', 'base64');
  return derived.length === expected.length && timingSafeEqual(derived, expected);
}

interface PersonRow extends Person {
  readonly password_hash: string;
}

/** People, sessions and tokens. */
export class Access {
  readonly #records: Records;
  readonly #now: () => Date;
  readonly #failures = new Map<string, { count: number; until: number }>();

  constructor(records: Records, now: () => Date) {
    this.#records = records;
    this.#now = now;
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

  async makeFirst(key: string, name: string, mail: string, password: string): Promise<Person> {
    const password_hash = await hashPassword(password);
    return this.#records.transaction(async (trx) => {
      const used = await trx('installation')
        .where({ name: 'first-key', value: hashSecret(key) })
        .delete();
      if (used === 0 || (await trx('person').first('id')))
        throw new ProblemError(
          'not-allowed',
          'This key is not valid, or has been used.',
          'Sign in, or start the service anew to get another key while there is nobody yet.',
        );
      const person = { id: newId('p'), name, mail: mail.toLowerCase() };
      await trx('person').insert({ ...person, password_hash, created_at: this.#now() });
      return person;
    });
  }

  /** @throws {ProblemError} `not-signed-in`, `too-many-tries` */
  async signIn(mail: string, password: string): Promise<{ person: Person; session: string; expires: Date }> {
    const account = mail.trim().toLowerCase();
    const now = this.#now().getTime();
    const failures = this.#failures.get(account);
    if (failures && failures.until > now)
      throw new ProblemError(
        'too-many-tries',
        'Too many tries for this mail address.',
        `Wait ${Math.ceil((failures.until - now) / 1000)} s.`,
      );
    const row = (await this.#records('person').where({ mail: account }).first()) as PersonRow | undefined;
    const isRight = await isPassword(password, row?.password_hash ?? NOBODY);
    if (!row || !isRight) {
      const count = (failures?.count ?? 0) + 1;
      this.#failures.set(account, { count, until: count < 5 ? 0 : now + Math.min(900, 2 ** (count - 4)) * 1000 });
      throw new ProblemError('not-signed-in', 'Mail address or password is not right.', 'Try again.');
    }
    this.#failures.delete(account);
    const session = newSecret('session');
    const expires = new Date(now + SESSION_DAYS * 86_400_000);
    await this.#records('session').insert({
      hash: hashSecret(session),
      person_id: row.id,
      created_at: this.#now(),
      expires_at: expires,
    });
    return { person: toPerson(row), session, expires };
  }

  async signOut(session: string): Promise<void> {
    await this.#records('session')
      .where({ hash: hashSecret(session) })
      .delete();
  }

  /** The person behind a session cookie or bearer token. */
  async personOf(credential: {
    session?: string | undefined;
    token?: string | undefined;
  }): Promise<Person | undefined> {
    if (credential.token !== undefined) {
      const hash = hashSecret(credential.token);
      const row = await this.#records('token')
        .join('person', 'person.id', 'token.person_id')
        .where('token.hash', hash)
        .where((q) => q.whereNull('token.expires_at').orWhere('token.expires_at', '>', this.#now()))
        .first('person.*');
      if (row)
        await this.#records('token')
          .where({ hash })
          .whereRaw("(last_used_at IS NULL OR last_used_at < ?::timestamptz - interval '1 minute')", [this.#now()])
          .update({ last_used_at: this.#now() });
      return row && toPerson(row as PersonRow);
    }
    if (credential.session === undefined) return undefined;
    const row = await this.#records('session')
      .join('person', 'person.id', 'session.person_id')
      .where('session.hash', hashSecret(credential.session))
      .where('session.expires_at', '>', this.#now())
      .first('person.*');
    return row && toPerson(row as PersonRow);
  }

  async makeToken(
    on: OnRecords,
    person: Person,
    name: string,
    days: number | undefined,
  ): Promise<{ id: string; value: string; created_at: Date; expires_at: Date | null }> {
    const value = newSecret('tsr');
    const token = {
      id: newId('k'),
      created_at: this.#now(),
      expires_at: days === undefined ? null : new Date(this.#now().getTime() + days * 86_400_000),
    };
    await on('token').insert({ ...token, person_id: person.id, name, hash: hashSecret(value), last_used_at: null });
    return { ...token, value };
  }
}

const toPerson = ({ id, name, mail }: PersonRow): Person => ({ id, name, mail });

/** Takes as long to refuse somebody unknown as somebody known. */
const NOBODY = await hashPassword(randomBytes(16).toString('hex'));
