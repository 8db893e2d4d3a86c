import type { Knex } from 'knex';

/** Claims that are asked for by others, and that lapse when nobody does anything. */
export async function addClaimTimes(knex: Knex): Promise<void> {
  await knex.schema.alterTable('claim', (t) => {
    t.timestamp('asked_at');
  });
  await knex.schema.alterTable('change_request', (t) => {
    t.timestamp('idle_warned_at');
  });
}
