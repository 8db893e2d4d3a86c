import type { Knex } from 'knex';

/** What one site shows is found without looking at what others did. */
export async function indexTransfers(knex: Knex): Promise<void> {
  await knex.schema.alterTable('transfer', (t) => {
    t.index(['site', 'created_at']);
  });
}
