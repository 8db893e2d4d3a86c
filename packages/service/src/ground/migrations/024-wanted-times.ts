import type { Knex } from 'knex';

/** When those who ask want a request delivered: `window`, or a time. */
export async function addWantedTimes(knex: Knex): Promise<void> {
  await knex.schema.alterTable('change_request', (t) => {
    t.text('wanted_for');
  });
}
