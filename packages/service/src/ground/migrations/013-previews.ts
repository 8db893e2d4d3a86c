import type { Knex } from 'knex';

/** Environments that show what a change request would make of its destination. */
export async function addPreviews(knex: Knex): Promise<void> {
  await knex.schema.alterTable('environment', (t) => {
    t.jsonb('preview');
  });
}
