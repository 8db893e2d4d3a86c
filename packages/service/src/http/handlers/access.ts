import type { Person } from '@tessarion/contract';
import { decide, PERMISSIONS, type Permission, scopeText } from '@tessarion/core';
import { hashSecret } from '../../ground/data-folder.js';
import { iso, type OnRecords } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import { writeLetter } from '../../notices/letters.js';
import { endOwnSession, removeToken, setPassword } from '../../people/changes.js';
import { listPeople } from '../../people/people.js';
import type { SessionRow, TokenRow } from '../../people/sign-in.js';
import type { Installation } from '../../transfers/installation.js';
import { mustBeUnlimited } from '../allow.js';
import { endSession, giveSession } from '../cookies.js';
import type { Call, Handlers } from './call.js';

const toToken = (row: TokenRow) => ({
  id: row.id,
  name: row.name,
  createdAt: row.created_at.toISOString(),
  expiresAt: iso(row.expires_at),
  lastUsedAt: iso(row.last_used_at),
  permissions: row.permissions === null ? null : (row.permissions as Permission[]),
  scope: row.scope,
});

/** A token is for programs: it sets nothing about how its person comes in. @throws {ProblemError} `not-allowed` */
export function mustBeSession({ token }: Pick<Call, 'token'>): void {
  if (token)
    throw new ProblemError('not-allowed', 'A token cannot change how one comes in.', 'Sign in, and do it in Settings.');
}

/** Where somebody signed in from a place that is new, they are told, lest it was not they. */
export const tellOfSignIn = (
  trx: OnRecords,
  installation: Installation,
  { name, mail }: Person,
  address: string,
): Promise<boolean> =>
  writeLetter(trx, installation, {
    name,
    mail,
    letter: {
      head: 'Somebody signed in with your name',
      sentence: `From ${address}, at ${installation.now().toISOString().slice(0, 16).replace('T', ' ')} UTC.`,
      words: 'If it was not you, choose another password at once: that ends all other sessions.',
      link: { text: 'Settings', url: `${installation.consoleUrl}/settings` },
      footer: 'You are told of each place that is new.',
    },
  });

export const accessHandlers: Handlers<
  | 'signIn'
  | 'signOut'
  | 'signInWays'
  | 'me'
  | 'firstAdministrator'
  | 'invitationAccept'
  | 'sessionList'
  | 'sessionEnd'
  | 'sessionsEnd'
  | 'passwordChange'
  | 'tokenList'
  | 'tokenCreate'
  | 'tokenRemove'
> = {
  async signIn(call) {
    const { body, access, reply, session: former, installation } = call;
    const person = await access.identify(body.mail, body.password, body.code, call.address);
    const isNewPlace = await access.isNewPlace(person.id, call.address);
    const begun = await installation.records.transaction(async (trx) => {
      // A session that was there before is not taken over, it ends.
      if (former !== undefined) await access.signOut(trx, former);
      await call.note(trx, person.id, {}, person);
      if (isNewPlace) await tellOfSignIn(trx, installation, person, call.address);
      return access.beginSession(trx, person, call.address);
    });
    giveSession(reply, begun, installation);
    return person;
  },
  async signInWays({ provider }) {
    return { provider: provider?.name ?? null };
  },
  async signOut(call) {
    const { session, access, reply, installation, person } = call;
    await installation.records.transaction(async (trx) => {
      if (session !== undefined) await access.signOut(trx, session);
      await call.note(trx, person.id, {});
    });
    endSession(reply, installation);
    return undefined;
  },
  async me({ person, actor, installation }) {
    const [colleague] = await listPeople(installation.records, person.id);
    const held = (Object.keys(PERMISSIONS) as Permission[]).filter((permission) =>
      actor.grants.some(
        ({ permissions, scope }) =>
          permissions.includes(permission) &&
          (scope.to !== 'everything' || decide(actor, permission, { is: 'installation' }).allowed || actor.token),
      ),
    );
    const { token } = actor;
    const permissions = held.filter((one) => !token?.permissions || token.permissions.includes(one));
    const grants = actor.grants.map((grant) => ({
      role: grant.role,
      permissions: grant.permissions.filter((one) => !token?.permissions || token.permissions.includes(one)),
      scope: scopeText(grant.scope),
    }));
    return { ...person, permissions, roles: colleague?.roles ?? [], grants };
  },
  async firstAdministrator(call) {
    const { access, address } = call;
    const { password, ...first } = call.body;
    const known = [first.name, first.mail];
    const password_hash = await access.newPassword('first', first.key, password, address, known);
    return call.installation.records.transaction(async (trx) => {
      const person = await access.makeFirst(trx, { ...first, password_hash });
      await call.note(trx, person.id, { role: 'administrator' }, person);
      return person;
    });
  },
  async invitationAccept(call) {
    const { access, address } = call;
    const { key, password } = call.body;
    const password_hash = await access.newPassword('invitation', key, password, address);
    return call.installation.records.transaction(async (trx) => {
      const person = await access.accept(trx, key, password_hash);
      await call.note(trx, person.id, {}, person);
      return person;
    });
  },

  async sessionList({ installation, person, session, token }) {
    mustBeUnlimited(token);
    const rows = (await installation
      .records('session')
      .where({ person_id: person.id })
      .where('expires_at', '>', installation.now())
      .orderBy('created_at', 'desc')) as SessionRow[];
    const own = session === undefined ? undefined : hashSecret(session);
    return rows.map((row) => ({
      id: row.id,
      createdAt: row.created_at.toISOString(),
      expiresAt: row.expires_at.toISOString(),
      lastSeenAt: iso(row.last_seen_at),
      from: row.address,
      isThis: row.hash === own,
    }));
  },
  async sessionEnd(call) {
    const { installation, params, person } = call;
    await installation.records.transaction(async (trx) => {
      if (!(await endOwnSession(trx, params.id, person.id)))
        throw new ProblemError(
          'not-found',
          `You have no session ${params.id}.`,
          'List them: tessarion people sessions',
        );
      await call.note(trx, params.id, {});
    });
    return undefined;
  },

  async sessionsEnd(call) {
    const { installation, access, person, session } = call;
    return installation.records.transaction(async (trx) => {
      const ended = await access.endOthers(trx, person.id, session);
      await call.note(trx, person.id, { ended });
      return { ended };
    });
  },
  async passwordChange(call) {
    const { installation, access, person, body, session } = call;
    mustBeSession(call);
    const password_hash = await access.nextPassword(person, body.password, body.next);
    return installation.records.transaction(async (trx) => {
      await setPassword(trx, person.id, password_hash);
      // Whoever knew the former one is out.
      const ended = await access.endOthers(trx, person.id, session);
      await call.note(trx, person.id, { ended });
      return { ended };
    });
  },

  async tokenList({ person, installation, token }) {
    mustBeUnlimited(token);
    const rows = await installation.records('token').where({ person_id: person.id }).orderBy('created_at');
    return (rows as TokenRow[]).map(toToken);
  },
  async tokenCreate(call) {
    const { person, body, access, installation } = call;
    return installation.records.transaction(async (trx) => {
      const { row, value } = await access.makeToken(trx, person, body);
      await call.note(trx, row.id, { name: row.name, permissions: row.permissions, scope: row.scope });
      return { ...toToken(row), value };
    });
  },
  async tokenRemove(call) {
    const { person, params, installation } = call;
    await installation.records.transaction(async (trx) => {
      if (!(await removeToken(trx, params.id, person.id)))
        throw new ProblemError('not-found', `You have no token ${params.id}.`, 'List them: tessarion token list');
      await call.note(trx, params.id, {});
    });
    return undefined;
  },
};
