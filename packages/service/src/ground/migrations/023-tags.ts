import type { Knex } from 'knex';

/** Words by which sites are put together, such as those that sell something. */
export async function addTags(knex: Knex): Promise<void> {
  await knex.schema.alterTable('site', (t) => {
    t.jsonb('tags').notNullable().defaultTo('[]');
  });
}
