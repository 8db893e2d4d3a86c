import type { Colleague, Role, RoleGiven, Team } from '@tessarion/contract';
import { isPermission, READY_ROLES } from '@tessarion/core';
import { etagOf } from '../ground/entity-tag.js';
import { iso, type OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';

/** Somebody as the records hold them. */
export interface PersonRow {
  readonly id: string;
  readonly name: string;
  readonly mail: string;
  readonly password_hash: string | null;
  readonly state: 'invited' | 'active' | 'ended';
}

interface GrantRow {
  readonly id: string;
  readonly person_id: string | null;
  readonly team: string | null;
  readonly role: string;
  readonly scope: string;
}

/** A given role as the interface shows it. */
export const toGiven = ({ id, role, scope, team }: Omit<GrantRow, 'person_id'>): RoleGiven => ({
  id,
  role,
  scope,
  team,
});

/** People with their teams and roles, by name. */
export async function listPeople(on: OnRecords, id?: string): Promise<Colleague[]> {
  const query = on('person').orderBy('name').orderBy('id');
  const people = (await (id === undefined ? query : query.where({ id }))) as (PersonRow & {
    last_seen_at: Date | null;
  })[];
  const members = (await on('team_member').orderBy('team')) as { team: string; person_id: string }[];
  const grants = (await on('role_grant').orderBy('created_at').orderBy('id')) as GrantRow[];
  return people.map((person) => {
    const teams = members.flatMap((one) => (one.person_id === person.id ? [one.team] : []));
    return {
      id: person.id,
      name: person.name,
      mail: person.mail,
      state: person.state,
      teams,
      roles: grants
        .filter((one) => one.person_id === person.id || (one.team !== null && teams.includes(one.team)))
        .map(toGiven),
      lastSeenAt: iso(person.last_seen_at),
    };
  });
}

/** @throws {ProblemError} `not-found` */
export async function getColleague(on: OnRecords, id: string): Promise<Colleague> {
  const [found] = await listPeople(on, id);
  if (!found) throw new ProblemError('not-found', `There is nobody ${id}.`, 'List the people: tessarion people list');
  return found;
}

/** All teams or the one of a name, with their members and roles. */
export async function listTeams(on: OnRecords, name?: string): Promise<Team[]> {
  const query = on('team').orderBy('name');
  const teams = (await (name === undefined ? query : query.where({ name }))) as { name: string; title: string }[];
  const people = await listPeople(on);
  const grants = (await on('role_grant').whereNotNull('team').orderBy('created_at').orderBy('id')) as GrantRow[];
  return teams.map((team) => {
    const members = people.filter((one) => one.teams.includes(team.name));
    return {
      ...team,
      members: members.map(({ id, name: called, mail }) => ({ id, name: called, mail })),
      roles: grants.filter((one) => one.team === team.name).map(toGiven),
      etag: etagOf({ title: team.title, members: members.map((one) => one.id).sort() }),
    };
  });
}

/** @throws {ProblemError} `not-found` */
export async function getTeam(on: OnRecords, name: string): Promise<Team> {
  const [found] = await listTeams(on, name);
  if (!found)
    throw new ProblemError('not-found', `There is no team ${name}.`, 'List the teams: tessarion people teams');
  return found;
}

/** The ready roles, then those made here by name. */
export async function listRoles(on: OnRecords): Promise<Role[]> {
  const own = (await on('role').orderBy('name')) as { name: string; title: string; permissions: string[] }[];
  return [
    ...READY_ROLES.map((role) => ({ ...role, permissions: [...role.permissions], isReady: true })),
    ...own.map((role) => ({ ...role, permissions: role.permissions.filter(isPermission), isReady: false })),
  ].map((role) => ({ ...role, etag: etagOf({ title: role.title, permissions: role.permissions }) }));
}

/** @throws {ProblemError} `not-found` */
export async function getRole(on: OnRecords, name: string): Promise<Role> {
  const found = (await listRoles(on)).find((one) => one.name === name);
  if (!found) throw new ProblemError('not-found', `There is no role ${name}.`, 'List the roles: tessarion role list');
  return found;
}

/** Administrators for everything whose access has not ended. */
export async function administrators(on: OnRecords): Promise<string[]> {
  const { rows } = await on.raw<{ rows: { id: string }[] }>(
    `SELECT DISTINCT p.id FROM person p
     JOIN role_grant g ON g.person_id = p.id OR g.team IN (SELECT team FROM team_member WHERE person_id = p.id)
     WHERE p.state = 'active' AND g.role = 'administrator' AND g.scope = 'everything'`,
  );
  return rows.map((one) => one.id);
}

/** Who does something: a person, or the service itself in some name. */
export interface Doer {
  readonly id: string | null;
  readonly name: string;
}

/** As a record keeps it. */
export const doneBy = ({ id, name }: Doer): { person: string; person_id: string | null } => ({
  person: name,
  person_id: id,
});

/** A person as a doer. */
export async function doerOf(on: OnRecords, id: string): Promise<Doer> {
  const found = (await on('person').where({ id }).first('id', 'name')) as Doer | undefined;
  return found ?? { id: null, name: id };
}

/** Takes somebody's name out of what they did; that it was done stays. */
export async function forgetName(trx: OnRecords, id: string, name: string): Promise<void> {
  for (const table of ['transfer', 'forecast', 'profile'])
    await trx(table).where({ person_id: id }).update({ person: name });
}
