import type { Knex } from 'knex';

/** Answers that are kept for a request that comes twice are sealed from now on; those in the clear are over. */
export async function sealAnswers(knex: Knex): Promise<void> {
  await knex('idempotency').delete();
  await knex.schema.alterTable('idempotency', (t) => {
    /** Which run of the service carries it out. */
    t.text('run').notNullable();
  });
}
