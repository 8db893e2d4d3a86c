import type { Knex } from 'knex';

/** How often a worker began a forecast: one that ends its workers is not begun for ever. */
export async function addForecastTries(knex: Knex): Promise<void> {
  await knex.schema.alterTable('forecast', (t) => {
    t.integer('tries').notNullable().defaultTo(0);
  });
}
