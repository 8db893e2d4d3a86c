import type { Knex } from 'knex';

/** What each transfer wrote, thing by thing, so that one can ask how something came to be where it is. */
export async function addTransferItems(knex: Knex): Promise<void> {
  await knex.schema.createTable('transfer_item', (t) => {
    t.text('transfer_id').notNullable().references('transfer.id').onDelete('CASCADE').index();
    t.text('onto_path').notNullable();
    // As the destination knows it, and as the source does: a new row may have another key there.
    t.text('item').notNullable();
    t.text('source_item').notNullable();
    t.text('kind').notNullable();
    t.text('title').notNullable();
    t.text('change').notNullable();
    t.index(['onto_path', 'item']);
  });
  await knex.raw('CREATE INDEX transfer_item_title ON transfer_item (onto_path, lower(title))');
}
