import type { Knex } from 'knex';

/** What stands in the fields of a forecast's items is sealed; what a former version stored is sealed at the next start. */
export async function addSealedFields(knex: Knex): Promise<void> {
  await knex.schema.alterTable('forecast_item', (t) => {
    t.text('fields');
  });
}
