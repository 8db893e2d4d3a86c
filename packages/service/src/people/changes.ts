import { newId } from '../ground/data-folder.js';
import { json, type OnRecords } from '../ground/open.js';

/** Puts somebody on record who is invited. @returns their id */
export async function insertInvited(
  trx: OnRecords,
  { name, mail }: { readonly name: string; readonly mail: string },
  at: Date,
): Promise<string> {
  const id = newId('p');
  await trx('person').insert({ id, name, mail, state: 'invited', created_at: at });
  return id;
}

/** Records that somebody's access has ended. */
export async function endPerson(trx: OnRecords, id: string): Promise<void> {
  await trx('person').where({ id }).update({ state: 'ended' });
}

/** Records that somebody whose access had ended may come again. */
export async function readmitPerson(trx: OnRecords, id: string): Promise<void> {
  await trx('person')
    .where({ id, state: 'ended' })
    .update({ state: trx.raw("CASE WHEN password_hash IS NULL THEN 'invited' ELSE 'active' END") });
}

/** Takes out of a person's record who they were, and how they signed in. @param gone what they are called from now on */
export async function eraseName(trx: OnRecords, id: string, gone: string): Promise<void> {
  await trx('person')
    .where({ id })
    .update({ name: gone, mail: `${id}@erased.invalid`, password_hash: null });
  for (const table of ['identity', 'second_factor', 'recovery_code'])
    await trx(table).where({ person_id: id }).delete();
}

/** Forgets as whom a provider knows somebody: they may have another account there. */
export async function forgetIdentity(trx: OnRecords, person: string): Promise<void> {
  await trx('identity').where({ person_id: person }).delete();
}

/** Records another password. @param hash see {@link hashPassword} */
export async function setPassword(trx: OnRecords, id: string, hash: string): Promise<void> {
  await trx('person').where({ id }).update({ password_hash: hash });
}

/** Records when somebody reads what is mailed once a day. @param zone such as `Europe/Oslo` */
export async function setDigest(
  trx: OnRecords,
  id: string,
  { at, zone }: { readonly at: string; readonly zone: string },
): Promise<void> {
  await trx('person').where({ id }).update({ digest_at: at, digest_zone: zone });
}

/** Ends one of a person's sessions. @returns whether it was theirs */
export const endOwnSession = async (trx: OnRecords, id: string, person: string): Promise<boolean> =>
  (await trx('session').where({ id, person_id: person }).delete()) > 0;

/** Ends one of a person's tokens. @returns whether it was theirs */
export const removeToken = async (trx: OnRecords, id: string, person: string): Promise<boolean> =>
  (await trx('token').where({ id, person_id: person }).delete()) > 0;

/** Takes a role from whom it was given. */
export async function takeRole(trx: OnRecords, grant: string): Promise<void> {
  await trx('role_grant').where({ id: grant }).delete();
}

/** Records what an own role allows. */
export async function saveRole(
  trx: OnRecords,
  {
    name,
    title,
    permissions,
  }: { readonly name: string; readonly title: string; readonly permissions: readonly string[] },
): Promise<void> {
  await trx('role')
    .insert({ name, title, permissions: json(permissions) })
    .onConflict('name')
    .merge();
}

/** Removes an own role that nobody has. */
export async function removeRole(trx: OnRecords, name: string): Promise<void> {
  await trx('role').where({ name }).delete();
}

/** Records a team and who is in it. @param members ids of people, each once */
export async function saveTeam(
  trx: OnRecords,
  { name, title, members }: { readonly name: string; readonly title: string; readonly members: readonly string[] },
): Promise<void> {
  await trx('team').insert({ name, title }).onConflict('name').merge();
  await trx('team_member').where({ team: name }).delete();
  if (members.length > 0) await trx('team_member').insert(members.map((person_id) => ({ team: name, person_id })));
}

/** Removes a team, with what was given to it. */
export async function removeTeam(trx: OnRecords, name: string): Promise<void> {
  await trx('team').where({ name }).delete();
}
