import type { Knex } from 'knex';

/** Forecasts by which a change request follows its ends, with the wishes that it had. */
export async function addFollows(knex: Knex): Promise<void> {
  await knex.schema.alterTable('forecast', (t) => {
    t.boolean('follows').notNullable().defaultTo(false);
  });
}
