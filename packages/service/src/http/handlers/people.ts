import type { Person } from '@tessarion/contract';
import { decide, isPermission, PERMISSIONS, readScope, type Scope } from '@tessarion/core';
import { noSite } from '../../ground/absent.js';
import type { OnRecords } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import { erasePerson } from '../../journal/journal.js';
import { writeLetter } from '../../notices/letters.js';
import {
  endPerson,
  eraseName,
  forgetIdentity,
  insertInvited,
  readmitPerson,
  removeRole,
  removeTeam,
  saveRole,
  saveTeam,
  takeRole,
} from '../../people/changes.js';
import { colleaguesOf, teamsOf } from '../../people/colleagues.js';
import {
  administrators,
  forgetName,
  getColleague,
  getRole,
  getTeam,
  listRoles,
  listTeams,
} from '../../people/people.js';
import { endFactor } from '../../people/second-factor.js';
import { giveRole } from '../../people/sign-in.js';
import type { Call, Handlers } from './call.js';

/** Makes the key with which somebody comes in, and mails it. */
async function inviting({ access, installation, person }: Call, trx: OnRecords, to: Person) {
  const { key, expiresAt } = await access.invite(trx, to.id);
  const isMailed = await writeLetter(trx, installation, {
    name: to.name,
    mail: to.mail,
    letter: {
      head: `${person.name} invites you to Tessarion`,
      sentence: `Choose a password by ${expiresAt.toISOString().slice(0, 10)}; you sign in with ${to.mail}.`,
      words: '',
      link: { text: 'Come in', url: `${installation.consoleUrl}/invitation#${key}` },
      footer: 'This link works once, and for you alone.',
    },
  });
  return { key, expiresAt: expiresAt.toISOString(), isMailed };
}

/** What somebody is called whose name was erased. */
const GONE = 'Somebody who left';

/** Any number that no other advisory lock of the records has. */
const NAME_LOCK = 29782;

export const peopleHandlers: Handlers<
  | 'personList'
  | 'personInvite'
  | 'personInviteAgain'
  | 'personEnd'
  | 'personReturn'
  | 'personErase'
  | 'personFactorEnd'
  | 'roleGive'
  | 'roleTake'
  | 'roleList'
  | 'roleSave'
  | 'roleRemove'
  | 'teamList'
  | 'teamSave'
  | 'teamRemove'
> = {
  personList: ({ installation, sight, person }) => colleaguesOf(installation.records, sight, person.id),

  async personInvite(call) {
    const { installation, body } = call;
    const mail = body.mail.toLowerCase();
    return installation.records.transaction(async (trx) => {
      if (await trx('person').where({ mail }).first('id'))
        throw new ProblemError(
          'taken',
          `Somebody with the mail address ${mail} is here already.`,
          'Give them another role instead, or let them in again.',
        );
      await mustBeGivable(trx, call, body.role, body.scope);
      const id = await insertInvited(trx, { name: body.name, mail }, installation.now());
      await giveRole(trx, { person: id, role: body.role, scope: body.scope }, installation.now());
      const invited = await inviting(call, trx, { id, name: body.name, mail });
      await call.note(trx, id, { role: body.role, scope: body.scope });
      return { ...(await getColleague(trx, id)), ...invited };
    });
  },

  async personInviteAgain(call) {
    const { installation, params } = call;
    return installation.records.transaction(async (trx) => {
      const colleague = await getColleague(trx, params.id);
      if (colleague.state === 'ended')
        throw new ProblemError(
          'conflict',
          `The access of ${colleague.name} has ended.`,
          `Let them in again first: tessarion people readmit ${colleague.mail}`,
        );
      await mustNotOutrank(trx, call, params.id);
      const invited = await inviting(call, trx, colleague);
      await forgetIdentity(trx, params.id);
      await call.note(trx, params.id, {});
      return invited;
    });
  },

  async personEnd(call) {
    const { installation, params, access } = call;
    return installation.records.transaction(async (trx) => {
      const colleague = await getColleague(trx, params.id);
      await mustNotOutrank(trx, call, params.id);
      await endPerson(trx, params.id);
      await access.endAll(trx, params.id);
      await mustLeaveAnAdministrator(trx, `${colleague.name} stays`);
      await call.note(trx, params.id, {});
      return getColleague(trx, params.id);
    });
  },

  async personFactorEnd(call) {
    const { installation, params, access } = call;
    return installation.records.transaction(async (trx) => {
      await getColleague(trx, params.id);
      await mustNotOutrank(trx, call, params.id);
      await endFactor(trx, params.id);
      // Who asked for this may not be who they said.
      await access.endComing(trx, params.id);
      await call.note(trx, params.id, {});
      return getColleague(trx, params.id);
    });
  },

  async personReturn(call) {
    const { installation, params } = call;
    return installation.records.transaction(async (trx) => {
      await getColleague(trx, params.id);
      await mustNotOutrank(trx, call, params.id);
      await readmitPerson(trx, params.id);
      await call.note(trx, params.id, {});
      return getColleague(trx, params.id);
    });
  },

  async personErase(call) {
    const { installation, params } = call;
    return installation.records.transaction(async (trx) => {
      const colleague = await getColleague(trx, params.id);
      if (colleague.state !== 'ended')
        throw new ProblemError(
          'conflict',
          `The access of ${colleague.name} has not ended.`,
          `End it first: tessarion people end ${colleague.mail}`,
        );
      await mustNotOutrank(trx, call, params.id);
      await eraseName(trx, params.id, GONE);
      await forgetName(trx, params.id, GONE);
      await call.note(trx, params.id, { entries: await erasePerson(trx, params.id) });
      return getColleague(trx, params.id);
    });
  },

  async roleGive(call) {
    const { installation, body } = call;
    if ((body.person === undefined) === (body.team === undefined))
      throw new ProblemError('invalid', 'A role is given to a person or to a team.', 'Name one of the two.');
    return installation.records.transaction(async (trx) => {
      if (body.person !== undefined) await getColleague(trx, body.person);
      if (body.team !== undefined) await getTeam(trx, body.team);
      await mustBeGivable(trx, call, body.role, body.scope);
      const { role, scope, person, team } = body;
      const known = await trx('role_grant')
        .where({ role, scope, person_id: person ?? null, team: team ?? null })
        .first();
      if (known) throw new ProblemError('taken', 'They have this role already.', 'Nothing needs to be done.');
      const id = await giveRole(trx, { person, team, role, scope }, installation.now());
      await call.note(trx, person ?? `team ${team}`, { role, scope });
      return { id, role, scope, team: team ?? null };
    });
  },

  async roleTake(call) {
    const { installation, params } = call;
    await installation.records.transaction(async (trx) => {
      const found = await trx('role_grant').where({ id: params.id }).first();
      if (!found)
        throw new ProblemError('not-found', `No role was given as ${params.id}.`, 'See them: tessarion people list');
      await mustBeGivable(trx, call, found.role, found.scope);
      await takeRole(trx, params.id);
      await mustLeaveAnAdministrator(trx, 'this role stays');
      await call.note(trx, found.person_id ?? `team ${found.team}`, { role: found.role, scope: found.scope });
    });
    return undefined;
  },

  roleList: ({ installation }) => listRoles(installation.records),

  async roleSave(call) {
    const { installation, params, body } = call;
    return installation.records.transaction(async (trx) => {
      await mustNotBeReady(trx, params.name);
      await holdName(trx, `role ${params.name}`);
      const before = (await listRoles(trx)).find((one) => one.name === params.name);
      // Whoever has the role already loses what it allows no more.
      mustHoldThem(call, [...(before?.permissions ?? []), ...body.permissions]);
      call.mustMatch(before?.etag);
      await saveRole(trx, { name: params.name, ...body });
      await call.note(trx, `role ${params.name}`, { before: before?.permissions ?? [], after: body.permissions });
      return getRole(trx, params.name);
    });
  },

  async roleRemove(call) {
    const { installation, params } = call;
    await installation.records.transaction(async (trx) => {
      await mustNotBeReady(trx, params.name);
      const { permissions } = await getRole(trx, params.name);
      mustHoldThem(call, permissions);
      if (await trx('role_grant').where({ role: params.name }).first('id'))
        throw new ProblemError(
          'conflict',
          `Somebody has the role ${params.name}.`,
          'Take it from them first: tessarion people list',
        );
      await removeRole(trx, params.name);
      await call.note(trx, `role ${params.name}`, { before: permissions });
    });
    return undefined;
  },

  teamList: ({ installation, sight, person }) => teamsOf(installation.records, sight, person.id),

  async teamSave(call) {
    const { installation, params, body } = call;
    return installation.records.transaction(async (trx) => {
      await holdName(trx, `team ${params.name}`);
      // Whoever comes into a team gets what was given to it, and whoever goes loses it.
      await mustHoldRolesOfTeam(trx, call, params.name);
      const [before] = await listTeams(trx, params.name);
      call.mustMatch(before?.etag);
      const members = [...new Set(body.members)];
      for (const id of members) await getColleague(trx, id);
      await saveTeam(trx, { name: params.name, title: body.title, members });
      await mustLeaveAnAdministrator(trx, 'the team stays as it is');
      await call.note(trx, `team ${params.name}`, {
        before: before?.members.map((one) => one.id) ?? [],
        after: members,
      });
      return getTeam(trx, params.name);
    });
  },

  async teamRemove(call) {
    const { installation, params } = call;
    await installation.records.transaction(async (trx) => {
      const team = await getTeam(trx, params.name);
      await mustHoldRolesOfTeam(trx, call, params.name);
      await removeTeam(trx, params.name);
      await mustLeaveAnAdministrator(trx, 'the team stays');
      await call.note(trx, `team ${params.name}`, { before: team.members.map((one) => one.id), roles: team.roles });
    });
    return undefined;
  },
};

/** Lets nobody else make or change what has this name until the transaction ends; it need not be there yet. */
const holdName = (trx: OnRecords, name: string) =>
  trx.raw('SELECT pg_advisory_xact_lock(?, hashtext(?))', [NAME_LOCK, name]);

/** Nobody gives away more than they have: each permission of the role must be theirs for all of the scope. */
async function mustBeGivable(trx: OnRecords, call: Call, role: string, scope: string): Promise<void> {
  const { permissions } = await getRole(trx, role);
  await mustBeThere(trx, readScope(scope));
  mustHoldThem(call, permissions);
}

/** What was given to a team is given to, and taken from, its members with it. */
async function mustHoldRolesOfTeam(trx: OnRecords, call: Call, team: string): Promise<void> {
  for (const { role } of await trx('role_grant').where({ team }))
    mustHoldThem(call, (await getRole(trx, role)).permissions);
}

/** Who manages people does so for the whole installation; what they give they must hold there. */
function mustHoldThem({ actor }: Call, permissions: readonly string[]): void {
  const missing = permissions.filter(isPermission).find((one) => !decide(actor, one, { is: 'installation' }).allowed);
  if (missing)
    throw new ProblemError(
      'not-allowed',
      `You may not ${PERMISSIONS[missing]}, and cannot let others do it.`,
      'Ask somebody who may.',
    );
}

/** Who may not give a role cannot take over, or shut out, somebody who has it. */
async function mustNotOutrank(trx: OnRecords, call: Call, person: string): Promise<void> {
  for (const { role } of (await getColleague(trx, person)).roles)
    mustHoldThem(call, (await getRole(trx, role)).permissions);
}

async function mustBeThere(trx: OnRecords, scope: Scope): Promise<void> {
  if (scope.to === 'site' && !(await trx('site').where({ name: scope.site }).first('name'))) throw noSite(scope.site);
  if (scope.to === 'environment' && !(await trx('environment').where({ path: scope.environment }).first('path')))
    throw new ProblemError('not-found', `There is no environment ${scope.environment}.`, 'List: tessarion site list');
  if (scope.to === 'client' && !(await trx('site').where({ client: scope.client }).first('name')))
    throw new ProblemError('not-found', `There is no client ${scope.client}.`, 'List: tessarion site list');
}

async function mustNotBeReady(trx: OnRecords, name: string): Promise<void> {
  if ((await listRoles(trx)).some((one) => one.isReady && one.name === name))
    throw new ProblemError('conflict', `The role ${name} is ready-made.`, 'Make one of your own with another name.');
}

async function mustLeaveAnAdministrator(trx: OnRecords, stays: string): Promise<void> {
  if ((await administrators(trx)).length === 0)
    throw new ProblemError(
      'conflict',
      `Nobody would be left who may do everything; ${stays}.`,
      'Make somebody else administrator first.',
    );
}
