import type { OnRecords } from '../ground/open.js';

/**
 * Columns that name an environment, beside its own record. What is past keeps its place under the new name; only the
 * journal stays as it was sealed.
 */
const PLACES: readonly (readonly [table: string, column: string])[] = [
  ['transfer', 'from_path'],
  ['transfer', 'onto_path'],
  ['forecast', 'from_path'],
  ['forecast', 'onto_path'],
  ['snapshot', 'environment'],
  ['baseline', 'lower'],
  ['baseline', 'upper'],
  ['environment', 'made_from'],
  ['environment', 'foreign_origin'],
  ['change_request', 'from_path'],
  ['change_request', 'onto_path'],
  ['claim', 'onto_path'],
  ['transfer_item', 'onto_path'],
  ['guest_look', 'environment'],
  ['notice', 'environment'],
  ['traffic_hour', 'environment'],
  ['role_grant', 'scope'],
  ['token', 'scope'],
  ['webhook', 'scope'],
];

/** Lets everything on record that names an environment name it by its new path. */
export async function renameEnvironment(on: OnRecords, from: string, to: string, name: string): Promise<void> {
  await on('environment').where({ path: from }).update({ path: to, name });
  for (const [table, column] of PLACES)
    await on(table)
      .where({ [column]: from })
      .update({ [column]: to });
  // Schedules name where they bring news from.
  await on('environment')
    .whereRaw("schedule ->> 'from' = ?", [from])
    .update({ schedule: on.raw("jsonb_set(schedule, '{from}', to_jsonb(?::text))", [to]) });
}
