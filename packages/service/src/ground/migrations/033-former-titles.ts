import type { Knex } from 'knex';

/** What a thing was called before a transfer gave it another title: people look for it by either. */
export async function addFormerTitles(knex: Knex): Promise<void> {
  await knex.schema.alterTable('transfer_item', (t) => t.text('former_title'));
  await knex.raw('CREATE INDEX transfer_item_former_title ON transfer_item (onto_path, lower(former_title))');
}
