import type { Knex } from 'knex';

/** When the ends of a change request were last looked at again, whatever came of it. */
export async function addLooks(knex: Knex): Promise<void> {
  await knex.schema.alterTable('change_request', (t) => {
    t.timestamp('looked_at', { useTz: true });
  });
}
