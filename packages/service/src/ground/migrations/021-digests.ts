import type { Knex } from 'knex';

/** Notices that are mailed together, once a day. */
export async function addDigests(knex: Knex): Promise<void> {
  await knex.schema.alterTable('notice', (t) => {
    t.boolean('is_digest').notNullable().defaultTo(false);
  });
}
