import type { Colleague, RoleGiven, Team } from '@tessarion/contract';
import { readScope } from '@tessarion/core';
import type { OnRecords } from '../ground/open.js';
import { listPeople, listTeams } from './people.js';
import type { Sight } from './sight.js';

/**
 * The people whom somebody may know of: those who have a role for anything that they may read, with these roles alone, and
 * themselves.
 */
export async function colleaguesOf(on: OnRecords, sight: Sight, own: string): Promise<Colleague[]> {
  const people = await listPeople(on);
  if (sight.isWhole) return people;
  const isSeen = await seenRoles(on, sight);
  const teams = new Set((await teamsOf(on, sight, own)).map((one) => one.name));
  return people
    .map((one) => ({ ...one, roles: one.roles.filter(isSeen), teams: one.teams.filter((team) => teams.has(team)) }))
    .filter((one) => one.id === own || one.roles.length > 0);
}

/** The teams whom somebody may know of: those that have such a role, and their own. */
export async function teamsOf(on: OnRecords, sight: Sight, own: string): Promise<Team[]> {
  const teams = await listTeams(on);
  if (sight.isWhole) return teams;
  const isSeen = await seenRoles(on, sight);
  return teams
    .map((one) => ({ ...one, roles: one.roles.filter(isSeen) }))
    .filter((one) => one.roles.length > 0 || one.members.some((member) => member.id === own));
}

async function seenRoles(on: OnRecords, sight: Sight): Promise<(role: RoleGiven) => boolean> {
  const sites = (await on('site').select('name', 'client')) as { name: string; client: string }[];
  const clients = new Set(sites.filter((one) => sight.seesSite(one.name)).map((one) => one.client));
  return ({ scope }) => sight.seesScope(readScope(scope), clients);
}
