import type { Knex } from 'knex';

/** Which worker still has what a forecast found. */
export async function addForecastKeepers(knex: Knex): Promise<void> {
  await knex.schema.alterTable('forecast', (t) => {
    t.integer('kept_by');
  });
}
