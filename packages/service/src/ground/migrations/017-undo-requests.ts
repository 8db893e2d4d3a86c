import type { Knex } from 'knex';

/** Change requests that take back what a transfer wrote. */
export async function addUndoRequests(knex: Knex): Promise<void> {
  await knex.schema.alterTable('change_request', (t) => {
    t.text('undoes').references('transfer.id').index();
  });
}
