import type { Person } from '@tessarion/contract';
import { type Actor, isPermission, type Permission, READY_ROLES, readScope, type TokenLimit } from '@tessarion/core';
import type { OnRecords } from '../ground/open.js';

/** Who calls, as the journal names them, and what they may do. */
export interface Caller {
  readonly person: Person;
  readonly actor: Actor;
  /** `person p-…`, with the token where one was used. */
  readonly name: string;
  readonly token: TokenInUse | undefined;
}

/** The token that a call came with, and what it is limited to. */
export interface TokenInUse {
  readonly id: string;
  readonly permissions: readonly string[] | null;
  readonly scope: string;
}

/** A person's roles, their own and their teams', with what these allow. */
export async function callerOf(on: OnRecords, person: Person, token: TokenInUse | undefined): Promise<Caller> {
  const { rows } = await on.raw<{ rows: { role: string; scope: string; own: string[] | null }[] }>(
    `SELECT g.role, g.scope, r.permissions AS own
     FROM role_grant g LEFT JOIN role r ON r.name = g.role
     WHERE g.person_id = :id OR g.team IN (SELECT team FROM team_member WHERE person_id = :id)
     ORDER BY g.created_at, g.id`,
    { id: person.id },
  );
  const limit: TokenLimit | undefined = token && {
    permissions: token.permissions?.filter(isPermission) ?? null,
    scope: readScope(token.scope),
  };
  return {
    person,
    token,
    name: token ? `person ${person.id} token ${token.id}` : `person ${person.id}`,
    actor: {
      person: person.id,
      isActive: true,
      token: limit,
      grants: rows.map(({ role, scope, own }) => ({
        role,
        scope: readScope(scope),
        permissions: permissionsOf(role, own),
      })),
    },
  };
}

const permissionsOf = (role: string, own: readonly string[] | null): readonly Permission[] =>
  READY_ROLES.find((one) => one.name === role)?.permissions ?? (own ?? []).filter(isPermission);
