import type { Role } from '@tessarion/contract';
import { PERMISSIONS, type Permission } from '@tessarion/core';
import { type JSX, useState } from 'react';
import { client } from '../../session.js';
import { NamedForm } from './named-form.js';
import { PermissionList, PermissionPicks } from './permission-picks.js';

/** A role: what it allows, and a form where it is one of ours. */
export function RoleView({
  role,
  mayManage,
  close,
}: {
  readonly role: Role;
  readonly mayManage: boolean;
  readonly close: () => void;
}): JSX.Element {
  if (!role.isReady && mayManage) return <RoleForm role={role} done={close} />;
  return (
    <>
      <h2 className="mb-4 text-[14px]/24">{role.title}</h2>
      <p className="text-ink2">
        {role.isReady ? 'Every installation has this role; it stays as it is.' : 'Made here.'}
      </p>
      <PermissionList permissions={role.permissions} />
    </>
  );
}

/** Makes a role, or changes it for all who have it. */
export function RoleForm({
  role,
  done,
}: {
  readonly role?: Role;
  readonly done: (name?: string) => void;
}): JSX.Element {
  const [chosen, setChosen] = useState<readonly Permission[]>(role?.permissions ?? ['site.read']);
  return (
    <NamedForm
      what="role"
      thing={role}
      example="night-shift"
      there={role?.permissions.join(', ')}
      button={role ? 'Change it for all who have it' : 'Make this role'}
      isSaid={chosen.length > 0}
      warning="A role that somebody has cannot be removed: take it from them first."
      caches={['roles']}
      save={(name, title, etag) =>
        client.call('roleSave', { params: { name }, body: { title, permissions: [...chosen] }, etag })
      }
      remove={(name) => client.call('roleRemove', { params: { name } })}
      done={done}
    >
      <PermissionPicks
        legend="Who has it may"
        among={Object.keys(PERMISSIONS) as Permission[]}
        chosen={chosen}
        choose={setChosen}
      />
    </NamedForm>
  );
}
